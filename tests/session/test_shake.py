"""The leg Shake on the simulated board: swept, shaped, verified; a slack belt tightened; faults named, nothing left."""

from __future__ import annotations

import asyncio
import re
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Onlooker, Rig, mended_tern, virtually
from ublet.core.acts import TightenBelt
from ublet.core.catalogue import TRIALS
from ublet.core.observations import LookAtLifts, ReadRipples
from ublet.core.run import TrialResult
from ublet.core.shake import rest_trials
from ublet.core.shake.choosing import Limits
from ublet.core.shake.recorded_shake import analyse_resonance
from ublet.core.shake.shapers import shaper_path
from ublet.session.demo import prepare
from ublet.session.export import run_files
from ublet.session.headless import on_scenario
from ublet.session.library import scenario_path
from ublet.session.standings import standings
from ublet.world.builder import ScriptedBuilder
from ublet.world.scenario import Scenario, load_scenario

QUICK: dict[str, Any] = {"seconds": 10.0, "hands_off_s": 0.0}


def with_sensor(**changes: Any) -> Scenario:
    """Tern, well wired, with another sensor."""
    scenario = mended_tern()
    assert scenario.accelerometer is not None
    return scenario.model_copy(update={"accelerometer": scenario.accelerometer.model_copy(update=changes)})


def with_frame(**changes: Any) -> Scenario:
    """Tern, well wired, with another frame."""
    scenario = mended_tern()
    return scenario.model_copy(update={"frame": scenario.frame.model_copy(update=changes)})


class AtTheMachine(Onlooker):
    """The scripted builder, whose questions are kept."""

    def __init__(self, rig: Rig) -> None:
        super().__init__()
        self.builder = ScriptedBuilder(rig.scenario, rig.hands)

    async def until(self, fraction: float) -> None:
        """Wait until so much of it is done."""
        while not self.steps or self.steps[-1].fraction < fraction:  # noqa: ASYNC110 it is looked at as a person would
            await asyncio.sleep(0.5)

    async def answer(self, question: Any) -> str:
        self.questions.append(question)
        return await self.builder.answer(question)


async def ran(rig: Rig, trial: str, looks: Onlooker | None = None, **parameters: Any) -> TrialResult:
    """Run a trial, and keep what it proposes."""
    spec = TRIALS[trial]
    entered = await rig.session.run(spec, spec.parameters(**parameters), looks or AtTheMachine(rig))
    result = entered.ran.result
    if result.choice is not None and result.choice.proposals:
        await rig.session.keep(result.choice, entered.number)
    return result


def on_tern(folder: Path, scenario: Scenario, work: Callable[[Rig], Any]) -> Any:
    """Do something with a session on Tern."""

    async def inside() -> Any:
        async with Rig(folder, scenario) as rig:
            return await work(rig)

    return virtually(inside)


def test_an_axis_is_swept_shaped_and_verified_and_its_claims_cover(folder: Path) -> None:
    async def work(rig: Rig) -> None:
        where = {"x": 140.0, "y": 130.0}
        true = rig.world.frame.rings({"x": 1}, {"x": 1}, "head", where)[0]
        swept = await ran(rig, "resonance", axis="x", **{**QUICK, "seconds": 40.0})
        assert swept.outcome == "proven", swept.why
        hz, z = (swept.finding(what, axis="x", mode="main") for what in ("frequency", "damping"))
        assert hz is not None and z is not None
        assert abs(hz.value - true.frequency_hz) <= 3 * (hz.uncertainty or 0) and (hz.uncertainty or 0) < 0.1
        assert abs(z.value - true.damping_ratio) <= 3 * (z.uncertainty or 0) and (z.uncertainty or 0) < 0.005
        entry = rig.session.ledger.latest("resonance")
        assert entry is not None
        streams = rig.session.ledger.streams(entry.id)
        assert len(streams["shaken x 1"].rows) > 40 * 1600 and len(streams["growing x 2"].rows) > 60
        written = run_files(entry, {k: v for k, v in streams.items() if k in ("shaken x 1", "swept x 1")}, folder)
        text = written[0].read_text(encoding="utf-8")
        again = analyse_resonance(text, "shaken.csv", Limits()).axes["x"].modes[0]
        assert text.startswith("# sweep: x 5 130 40 ") and again.frequency_hz == pytest.approx(hz.value, rel=2e-3)
        assert not [name for name in rig.session.ledger.streams(entry.id, ("shaken",)) if name.startswith("shaken")]
        assert await ran(rig, "input-shaper") and rig.session.live(shaper_path("x", "kind")) == "own"
        step = standings(rig.session)["input shaper"]
        assert (step.figure, step.trial) == ("unverified", "shaper-verify") and "live, not yet verified" in step.reason
        verified = await ran(rig, "shaper-verify", hands_off_s=0.0)
        assert verified.outcome == "proven", verified.why
        assert standings(rig.session)["input shaper"].state == "proven"
        left = verified.finding("left", axis="x")
        assert left is not None and left.value < 0.06
        unshaped = await ran(rig, "resonance", axis="x", repeats=1, **QUICK)
        assert rig.session.live(shaper_path("x", "kind")) == "own", "what was borrowed is put back"
        anew = unshaped.finding("frequency", axis="x", mode="main")
        assert anew is not None and anew.value == pytest.approx(hz.value, rel=0.01), "it was swept unshaped"
        limit = await ran(rig, "acceleration-limit")
        assert limit.outcome == "proven" and rig.session.live("motion.print_acceleration_mm_s2")
        assert rig.everything_is_off()

    on_tern(folder, mended_tern(), work)


def test_a_frame_that_changed_after_it_was_swept_is_told_by_verifying(folder: Path) -> None:
    async def work(rig: Rig) -> None:
        await ran(rig, "resonance", axis="x", **QUICK)
        await ran(rig, "input-shaper", shaper="zv")
        assert rig.session.live(shaper_path("x", "kind")) == "zv"
        rig.world.frame.tighten("x", 0.6)
        rig.world.frame.tighten("y", 0.6)
        verified = await ran(rig, "shaper-verify", axis="x", hands_off_s=0.0)
        assert (
            verified.outcome == "failed" and "lower than was found: it is heavier, or its belt slacker" in verified.why
        )

    on_tern(folder, mended_tern(), work)


def test_an_axis_that_carries_more_than_the_time_before_is_told(folder: Path) -> None:
    async def work(rig: Rig) -> None:
        first = await ran(rig, "resonance", axis="y", repeats=1, **QUICK)
        assert "the time before" not in first.why
        rig.world.frame.load_kg = 0.3
        second = await ran(rig, "resonance", axis="y", repeats=1, **QUICK)
        assert "Y rang at 33.4 Hz the time before: it carries more" in second.why, second.why

    on_tern(folder, mended_tern(), work)


def test_a_belt_that_is_a_quarter_slacker_is_named_and_tightened_until_both_pull_alike(folder: Path) -> None:
    async def work(rig: Rig) -> None:
        looks = AtTheMachine(rig)
        result = await ran(rig, "belts", looks, **QUICK)
        assert result.outcome == "proven", result.why
        (asked,) = (each for each in looks.questions if not isinstance(each.cue, LookAtLifts))
        assert (
            "Tighten belt B until the pitch of its span is 1" in asked.text
            and isinstance(asked.cue, TightenBelt)
            and asked.cue.axis == "y"
        )
        assert asked.cue.ratio == pytest.approx(1 / 0.75, rel=0.03)
        belts = rig.world.frame.stiffness({"x": 140.0, "y": 130.0})
        ratio = result.finding("tensions")
        assert ratio is not None
        assert abs(ratio.value - belts["y"] / belts["x"]) <= 3 * (ratio.uncertainty or 0)
        assert rig.session.ledger.fact("belt", "y").value == "tightened", "what rests on it is known to be stale"
        entry = rig.session.ledger.latest("belts")
        assert entry is not None
        rests = {rest.path: rest.value for rest in entry.rests}
        assert rests["belt.y"] == 1 and rests["belt.x"] == 0, "it was measured after it was tightened"
        assert standings(rig.session)["resonance"].state == "open"
        assert (await ran(rig, "resonance", **QUICK)).outcome == "proven"
        standing = standings(rig.session)["resonance"]
        assert standing.state == "proven" and re.fullmatch(r"\d\d, \d\d Hz", standing.figure), "not the belts"

    on_tern(folder, mended_tern(), work)


@pytest.mark.parametrize(
    ("scenario", "trial", "words"),
    [
        (lambda: with_sensor(loose=0.6), "accelerometer-turned", "mount rattles"),
        (lambda: with_sensor(on="bed"), "accelerometer-turned", "shows on no axis of the sensor"),
        (lambda: with_sensor(lean_deg=45.0), "accelerometer-turned", "shows on no axis"),
        (lambda: with_sensor(reads_x="y", reads_y="x", reads_z="-z"), "resonance", "shows on what is declared"),
        (lambda: with_sensor(loose=3.0), "resonance", "its mount rattles"),
        (lambda: with_sensor(range_m_s2=11.0, offset_z_m_s2=0.0), "resonance", "ends of the sensor's range"),
        (lambda: with_frame(base_kg=0.7, feet_hz=7.0), "resonance", "the frame moves on its feet"),
        (lambda: with_sensor(cable_share=0.3), "resonance", "wanders between repeats"),
        (lambda: with_sensor(reads_x="-y", reads_y="x"), "belts", "does not follow what the belt did"),
        (lambda: with_sensor(overflows_s=0.5), "resonance", "readings were lost"),
    ],
    ids=["rattles", "on-bed", "askew", "turned", "loose", "clipped", "weak-foot", "cable", "turned-belts", "overflows"],
)
def test_what_is_wrong_is_named(folder: Path, scenario: Callable[[], Scenario], trial: str, words: str) -> None:
    async def work(rig: Rig) -> TrialResult:
        parameters = {"resonance": {"axis": "x", "strength_m_s2_hz": 1.0, **QUICK}, "belts": {"rounds": 0, **QUICK}}
        result = await ran(rig, trial, **parameters.get(trial, {"hands_off_s": 0.0}))
        assert rig.everything_is_off()
        return result

    assert words in on_tern(folder, scenario(), work).why


def test_a_wall_that_was_read_wrong_is_named_and_measured_again(folder: Path) -> None:
    class MisreadsOnce(AtTheMachine):
        misread = False

        async def answer(self, question: Any) -> str:
            answer = await super().answer(question)
            if isinstance(question.cue, ReadRipples) and not self.misread:
                self.misread = True
                return "14"
            return answer

    async def work(rig: Rig) -> None:
        looks = MisreadsOnce(rig)
        result = await ran(rig, "ringing-tower", looks)
        reads = [each for each in looks.questions if isinstance(each.cue, ReadRipples)]
        assert len(reads) == 9, "eight walls, and one of them once more"
        assert reads[-1].text.startswith("Once more, for the ") and "count it again" in reads[-1].text
        assert result.outcome == "proven", result.why
        for axis in ("x", "y"):
            found = result.finding("frequency", axis=axis)
            true = rig.world.frame.rings({axis: 1}, {axis: 1}, "head", {"x": 140.0, "y": 130.0})[0].frequency_hz
            assert found is not None and abs(found.value - true) <= 3 * (found.uncertainty or 0.0)

    on_tern(folder, mended_tern(), work)


@pytest.mark.parametrize("sensor", [{"loose": 3.0}, {"reads_x": "y", "reads_y": "x", "reads_z": "-z"}])
def test_a_sweep_that_fails_claims_no_mode(sensor: dict[str, Any], folder: Path) -> None:
    async def work(rig: Rig) -> TrialResult:
        return await ran(rig, "resonance", axis="x", strength_m_s2_hz=1.0, **QUICK)

    result = on_tern(folder, with_sensor(**sensor), work)
    assert result.outcome == "failed" and result.findings == ()


def test_a_sensor_that_loses_a_few_readings_at_rest_is_no_fault(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work(rig: Rig) -> TrialResult:
        return await ran(rig, "accelerometer-at-rest", seconds=10.0)

    result = on_tern(folder, with_sensor(overflows_s=0.5), work)
    lost = result.finding("lost")
    assert lost is not None and lost.value > 0
    assert result.outcome == "proven" and "readings were lost on the way" in result.why
    monkeypatch.setattr(rest_trials, "MAX_LOST_FRACTION", 0.0005)
    failed = on_tern(folder, with_sensor(overflows_s=2.0), work)
    assert failed.outcome == "failed" and "at a lower rate" in failed.why


def test_a_sensor_that_is_unplugged_while_it_is_swept_ends_it_and_nothing_moves_on(folder: Path) -> None:
    async def work(rig: Rig) -> None:
        looks = AtTheMachine(rig)
        going = asyncio.get_running_loop().create_task(ran(rig, "resonance", looks, axis="x", **QUICK))
        await looks.until(0.2)
        assert rig.world.accelerometer is not None
        rig.world.accelerometer.unplugged = True
        result = await going
        assert result.outcome == "failed" and "fell silent" in result.why
        assert not rig.board.mover.moving
        entry = rig.session.ledger.latest("resonance")
        assert entry is not None and len(rig.session.ledger.streams(entry.id)["shaken x 1"].rows) > 1600

    on_tern(folder, mended_tern(), work)


@pytest.mark.parametrize("how", ["halt", "cancel"])
def test_a_sweep_that_is_cut_off_leaves_motion_and_shaper_as_they_were(how: str, folder: Path) -> None:
    async def work(rig: Rig) -> None:
        await rig.session.connection.write_live({shaper_path("x", "kind"): "zvd"})
        looks = AtTheMachine(rig)
        going = asyncio.get_running_loop().create_task(ran(rig, "resonance", looks, axis="x", **QUICK))
        await looks.until(0.2)
        assert rig.session.live(shaper_path("x", "kind")) == "none" and rig.board.mover.moving
        if how == "halt":
            rig.session.connection.halt()
        else:
            rig.session.runner.cancel()
        result = await going
        assert result.outcome == "halted"
        await asyncio.sleep(1.0)
        assert not rig.board.mover.moving and rig.everything_is_off()
        assert rig.board.layers.live[shaper_path("x", "kind")] == "zvd", "the shaper is live again"

    on_tern(folder, mended_tern(), work)


def test_the_board_refuses_a_swing_that_is_too_hard_or_leaves_the_limits(folder: Path) -> None:
    from ublet.core.motion.program import SweepMove
    from ublet.link.errors import BoardRefused

    async def work(rig: Rig) -> None:
        await ran(rig, "homing", repeats=3)
        controller = rig.session.connection.controller
        await controller.move("x", -174.0, 100.0)
        await asyncio.sleep(6.0)
        for sweep_move, words in (
            (SweepMove({"x": 1.0}, 5, 130, 5, 0.1), "its acceleration is 4000"),
            (SweepMove({"x": 1.0}, 2, 20, 5, 0.19), "allowed -4 to 286"),
        ):
            with pytest.raises(BoardRefused, match=words):
                await controller.add("p", 0, [sweep_move], True)

    on_tern(folder, mended_tern(), work)


def test_an_image_without_shaping_is_said_before_anything_is_begun(folder: Path) -> None:
    async def work(rig: Rig) -> None:
        entered = await rig.session.run(TRIALS["input-shaper"], TRIALS["input-shaper"].parameters(), Onlooker())
        assert "without the module shaping" in entered.ran.result.why

    on_tern(folder, mended_tern().model_copy(update={"lacks": ["shaping"]}), work)


def test_wrens_sensor_is_found_turned_and_goes_from_head_to_bed(tmp_path: Path) -> None:
    """The other machine: a sensor glued on as it fitted, a bed that moves along Y."""

    async def work() -> None:
        machine, scenario = prepare("wren", tmp_path)
        own = tmp_path / "own.toml"
        shutil.copyfile(machine, own)
        steps: list[str] = []
        async with on_scenario(scenario, own, 1, lambda progress: steps.append(progress.words)) as (session, looks):

            async def run(trial: str, **parameters: Any) -> TrialResult:
                spec = TRIALS[trial]
                entered = await session.run(spec, spec.parameters(**parameters), looks)
                if entered.ran.result.choice is not None:
                    await session.keep(entered.ran.result.choice, entered.number)
                return entered.ran.result

            alone = await run("belts")
            assert alone.outcome == "failed" and "Each axis of this machine has a belt of its own" in alone.why
            first = await run("accelerometer-turned", hands_off_s=0.0)
            assert first.outcome == "failed" and "sensor X points to machine −Y, Y to X" in first.why
            assert (await run("accelerometer-turned", hands_off_s=0.0)).outcome == "proven"
            swept = await run("resonance", load_kg=0.6, **QUICK)
            assert swept.outcome == "proven", swept.why
            assert looks.simulated is not None and looks.simulated.world.accelerometer is not None
            world = looks.simulated.world
            assert world.accelerometer is not None and world.accelerometer.on == "bed", "Y was swept there"
            truth = looks.truth(TRIALS["resonance"], TRIALS["resonance"].parameters(load_kg=0.6))
            loaded, empty = swept.finding("loaded", axis="y"), swept.finding("frequency", axis="y", mode="main")
            assert loaded is not None and empty is not None and swept.finding("loaded", axis="x") is None
            assert abs(loaded.value - truth["loaded.y"]) <= 3 * (loaded.uncertainty or 0)
            assert loaded.value < 0.85 * empty.value and "With 0.6 kg on the bed Y rings at" in swept.why
            assert world.frame.load_kg == 0.0, "it was taken off again"
            shaped = await run("input-shaper")
            assert "Y is allowed to drift by 18 %, as the load on the bed moved it" in shaped.why
            assert (shaped.finding("drifted", axis="y") or loaded).value <= 0.1
            for axis in ("x", "y"):
                found = swept.finding("frequency", axis=axis, mode="main")
                assert found is not None and found.value == pytest.approx(truth[f"frequency.{axis}.main"], rel=0.005)
            going = asyncio.get_running_loop().create_task(run("resonance", axis="y", load_kg=0.3, **QUICK))
            while "with 0.3 kg on the bed" not in steps[-1]:  # noqa: ASYNC110 it is looked at as a person would
                await asyncio.sleep(0.5)
            assert world.frame.load_kg == 0.3
            session.connection.halt()
            cut = await going
            assert cut.outcome == "halted" and world.frame.load_kg == 0.0
            assert "Take the load off the bed" in cut.why, "what hands have to undo is said"
            await session.connection.controller.release()
            await asyncio.sleep(1.0)
            printed = await run("ringing-tower", printed=False)
            assert printed.outcome == "proven", printed.why
            for axis in ("x", "y"):
                read = printed.finding("frequency", axis=axis)
                assert read is not None
                assert abs(read.value - truth[f"frequency.{axis}.main"]) <= 3 * (read.uncertainty or 0)

    virtually(work)


def test_a_scenarios_frame_and_sensor_are_read_from_its_file() -> None:
    scenario = load_scenario(scenario_path("wren-180"))
    assert scenario.frame.belt_x_n_mm == 22 and scenario.accelerometer is not None
    assert scenario.accelerometer.truth().reads == ("-y", "x", "z")
