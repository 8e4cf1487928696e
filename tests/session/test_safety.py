"""Nothing heats that nobody wants now: broken links, hosts that forgot, boards that lie, cut-off drills."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

import pytest

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from ublet.core.acts import BatheSensor, MakeFault, PressSwitch
from ublet.core.bench import Bench, Clock, MotionAccess
from ublet.core.catalogue import TRIALS
from ublet.core.heat.trials import HotendParameters
from ublet.core.questions import Live, Question
from ublet.core.run import TrialResult
from ublet.core.settings import Part
from ublet.link.client import NO_NEWS_S, Client
from ublet.link.transport import memory_pair
from ublet.session.bench.builder import LinkBuilder
from ublet.world.builder import ScriptedBuilder

CONTROL = TRIALS["hotend-control"]


def heated(rig: Rig) -> list[str]:
    return [name for name, drive in rig.board.heat.drives.items() if drive.target_c is not None]


def test_a_link_that_breaks_for_a_second_leaves_nothing_on(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            session.connection.keep()
            running = asyncio.ensure_future(session.run(CONTROL, HotendParameters(), Onlooker()))
            await asyncio.sleep(25)
            assert heated(rig) == ["hotend"] and rig.host is not None and rig.host.other is not None
            rig.host.other.close()
            assert (await running).ran.lost
            for _ in range(30):  # well inside the board's own window, so that not its dead-man did it
                await asyncio.sleep(0.1)
                if session.connection.linked:
                    break
            assert session.connection.linked and heated(rig) == [] and rig.board.mode == "ready"
            assert "the hotend was switched around 215 °C: everything was switched off" in session.notices[0]
            top = rig.world.plants["hotend"].block_c
            await asyncio.sleep(60)
            assert rig.world.plants["hotend"].block_c < top - 10

    virtually(work)


def test_a_host_that_forgot_cannot_hold_and_another_ones_heartbeat_does_not_count(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.connection.call("heat.target", heater="hotend", celsius=200)
            # another program takes the line over, as after a killed one, and only says that it is alive
            ours, theirs = memory_pair()
            theirs.received = rig.service.received
            rig.service.send = theirs.write
            assert rig.session.connection.client is not None
            rig.session.connection.client.close()
            other = Client(ours)
            for _ in range(60):
                ours.write(heartbeat("somebody else"))
                await asyncio.sleep(0.1)
            assert heated(rig) == [] and rig.board.guard == "link lost"
            about = await other.hello()
            assert about.was_on == []
            other.close()

    virtually(work)


def heartbeat(session: str) -> bytes:
    from ublet.link.frames import encode

    return encode({"jsonrpc": "2.0", "method": "heartbeat", "params": {"session": session}})


def test_a_new_session_switches_off_and_is_told_what_was_on(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.connection.call("heat.target", heater="bed", celsius=60)
            await rig.session.connection.call("fan.set", fan="part", duty=0.5)
            await rig.session.connection.call("axis.move", axis="x", mm=5, speed_mm_s=2)
            ours, theirs = memory_pair()
            theirs.received, rig.service.send = rig.service.received, theirs.write
            other = Client(ours)
            about = await other.hello()
            assert {(each.what, each.target_c, each.duty) for each in about.was_on} == {
                ("heaters.bed", 60.0, None),
                ("fans.part", None, 0.5),
                ("motion", None, None),
            }
            assert rig.everything_is_off() and not rig.board.mover.moving
            assert (await other.hello()).was_on == []
            other.close()

    virtually(work)


def freeze(rig: Rig) -> None:
    rig.board.since = lambda start, end: []  # type: ignore[method-assign]


def repeat(rig: Rig) -> None:
    last = rig.board.since(rig.board.index - 1, rig.board.index)
    rig.board.since = lambda start, end: last  # type: ignore[method-assign]


def spoil(change: Callable[[list[Any]], list[Any]]) -> Callable[[Rig], None]:
    def apply(rig: Rig) -> None:
        honest = rig.board.since
        rig.board.since = lambda start, end: [change(list(row)) for row in honest(start, end)]  # type: ignore[method-assign]

    return apply


LOADED_RATIO: dict[str, tuple[Callable[[Rig], None], str]] = {
    "frozen": (freeze, "no new readings"),
    "repeated": (repeat, "no new readings"),
    "short rows": (spoil(lambda row: row[:4]), "a row has 4 values"),
    "text": (spoil(lambda row: [*row[:2], "warm", *row[3:]]), "neither a number nor null"),
    "truth": (spoil(lambda row: [*row[:2], True, *row[3:]]), "neither a number nor null"),
    "negative numbers": (spoil(lambda row: [-row[0], *row[1:]]), "a row's number is -"),
    "a clock that stands": (spoil(lambda row: [row[0], 5.0, *row[2:]]), "does not rise"),
    "no reading": (spoil(lambda row: [*row[:2], *([None] * 3), *row[5:]]), "stopped reading"),
}


@pytest.mark.parametrize("reads", [1_000_000.0, -400.0, 25.0, 560.0])
def test_a_hot_trial_whose_sensor_reads_what_cannot_be_is_ended(reads: float, folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), state_s=0.1) as rig:
            running = asyncio.ensure_future(rig.session.run(CONTROL, HotendParameters(), Onlooker()))
            await asyncio.sleep(45)
            assert heated(rig) == ["hotend"] and not running.done()
            place = 2 + rig.board.channels.index("sensors.hotend")
            spoil(lambda row: [*row[:place], reads, *row[place + 1 :]])(rig)
            result = (await asyncio.wait_for(running, 5.0)).ran.result
            assert result.outcome == "failed" and "hotend reads" in result.why, result.why
            await asyncio.sleep(0.5)
            assert heated(rig) == []

    virtually(work)


@pytest.mark.parametrize("lie", LOADED_RATIO)
def test_no_news_of_the_heater_is_off_and_failed_whatever_the_reason(lie: str, folder: Path) -> None:
    report_fact, words = LOADED_RATIO[lie]

    async def work() -> None:
        async with Rig(folder, tern_scenario(), state_s=0.1) as rig:
            running = asyncio.ensure_future(rig.session.run(CONTROL, HotendParameters(), Onlooker()))
            await asyncio.sleep(20)
            assert heated(rig) == ["hotend"]
            report_fact(rig)
            result = (await asyncio.wait_for(running, NO_NEWS_S + 2)).ran.result
            assert result.outcome == "failed" and words in result.why
            await asyncio.sleep(0.5)
            assert heated(rig) == []

    virtually(work)


def test_a_hold_by_hand_without_readings_is_switched_off(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), state_s=0.1) as rig:
            breaks: list[tuple[str, str]] = []
            rig.session.connection.broken.append(lambda what, why: breaks.append((what, why)))
            await rig.session.connection.call("heat.target", heater="hotend", celsius=60)
            await asyncio.sleep(2)
            LOADED_RATIO["no reading"][0](rig)
            await asyncio.sleep(NO_NEWS_S + 1)
            assert heated(rig) == [] and breaks and "has not been read" in breaks[0][1]

    virtually(work)


def test_a_fault_in_whoever_takes_the_samples_ends_the_link_and_the_heat(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), state_s=0.1) as rig:
            await rig.session.connection.call("heat.target", heater="hotend", celsius=60)

            def broken(samples: object) -> None:
                raise KeyError("ours")

            rig.session.connection.sampled.append(broken)
            await asyncio.sleep(0.5)
            assert not rig.session.connection.linked and "a fault in Ublet itself" in rig.session.connection.why
            assert heated(rig) == []

    virtually(work)


def test_an_unforeseen_fault_of_a_recipe_is_a_failed_trial_with_everything_off(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "state"))

    async def faulty(bench: Bench, aim: HotendParameters) -> TrialResult:
        await bench.target("hotend", 100.0)
        await bench.rest(1.0)
        raise ZeroDivisionError

    async def work() -> None:
        from dataclasses import replace

        async with Rig(folder, tern_scenario()) as rig:
            spec = replace(CONTROL, run=faulty)
            entered = await rig.session.run(spec, HotendParameters(), Onlooker())
            assert entered.ran.result.outcome == "failed" and "A fault in Ublet itself" in entered.ran.result.why
            assert heated(rig) == [] and rig.session.ledger.latest("hotend-control") is not None

    virtually(work)


class Leaver(Onlooker):
    """A builder with hands in the simulated world, who cancels, halts or loses the link at a fault."""

    def __init__(self, rig: Rig, how: str) -> None:
        super().__init__()
        self.rig, self.how = rig, how
        self.hands = ScriptedBuilder(rig.scenario, rig.hands)

    async def answer(self, question: Question) -> str:
        answer = await self.hands.answer(question)
        if question.cue == MakeFault("sensor-out", "hotend") or isinstance(question.cue, PressSwitch | BatheSensor):
            asyncio.get_running_loop().call_later(0.15, self.leave)
        return answer

    def leave(self) -> None:
        if self.how == "cancel":
            self.rig.session.runner.cancel()
        elif self.how == "halt":
            self.rig.session.connection.halt()
        elif self.rig.host is not None and self.rig.host.other is not None:
            self.rig.host.other.close()

    async def undo(self, question: Question) -> bool:
        return await self.hands.undo(question)


@pytest.mark.parametrize("how", ["cancel", "halt", "cut the link"])
@pytest.mark.parametrize("trial", ["guards-drill", "inputs-by-hand", "sensors-at-rest"])
def test_what_hands_did_is_undone_and_named_in_every_ending(trial: str, how: str, folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), state_s=0.1) as rig:
            spec = TRIALS[trial]
            aim = spec.parameters(**({"references": 1} if trial == "sensors-at-rest" else {}))
            result = (await rig.session.run(spec, aim, Leaver(rig, how))).ran.result
            assert result.outcome in ("halted", "failed") and "Done for you in this simulated world" in result.why
            world = rig.world
            assert all(adc.fault is None for adc in world.adcs.values()) and world.baths == {}
            assert not any(switch.pressed for switch in world.switches.values())

    virtually(work)


def test_without_hands_what_is_left_is_named(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), state_s=0.1) as rig:

            class Gone(Leaver):
                async def undo(self, question: Question) -> bool:
                    return False

            spec = TRIALS["guards-drill"]
            result = (await rig.session.run(spec, spec.parameters(), Gone(rig, "cancel"))).ran.result
            assert "Still to be done by hand: Plug the hotend sensor in again." in result.why

    virtually(work)


def test_what_cancels_a_trial_while_its_controls_are_put_away_is_not_swallowed() -> None:
    class Slow(Onlooker):
        async def answer(self, question: Question) -> str:
            try:
                return str(await asyncio.get_running_loop().create_future())
            finally:
                await asyncio.sleep(1.0)  # a screen that takes its time to close a question

    async def work() -> None:
        builder = LinkBuilder(Slow(), cast(MotionAccess, None), cast(Clock, None), None)

        async def recipe() -> None:
            async with builder.live(Live("watch", ("stop",))):
                await asyncio.sleep(0.1)
            await asyncio.sleep(1000.0)

        going = asyncio.get_running_loop().create_task(recipe())
        await asyncio.sleep(0.5)  # its controls are being put away
        going.cancel()
        with pytest.raises(asyncio.CancelledError):
            await asyncio.wait_for(going, 5.0)

    virtually(work)


def test_a_recipe_that_swallows_a_cancellation_is_cancelled_again_and_everything_is_off(tmp_path: Path) -> None:
    async def swallows(bench: Bench, aim: Part) -> TrialResult:
        await bench.heat.hold("hotend", 150.0)
        with contextlib.suppress(asyncio.CancelledError):
            await asyncio.sleep(1e5)
        await asyncio.sleep(1e5)
        raise AssertionError("it went on")

    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            spec = replace(TRIALS["hotend-control"], run=swallows)
            going = asyncio.ensure_future(rig.session.run(spec, HotendParameters(), Onlooker()))
            await asyncio.sleep(20.0)
            assert not rig.everything_is_off()
            rig.session.runner.cancel()
            entered = await asyncio.wait_for(going, 30.0)
            assert entered.ran.result.outcome == "halted" and rig.everything_is_off()

    virtually(work)
