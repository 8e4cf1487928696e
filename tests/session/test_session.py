"""An open session: where stations stand, what is stale and why, reconnection, the last machine."""

from __future__ import annotations

import asyncio
import math
import sqlite3
from dataclasses import dataclass
from pathlib import Path
from typing import Never

import pytest

from tests.conftest import Onlooker, Rig, machine_text, tern_scenario, virtually
from ublet.core.catalogue import TRIALS
from ublet.core.heat.trials import HotendParameters, HotendVerifyParameters
from ublet.core.route import ROUTE, StationState
from ublet.core.run import Finding, Option, Proposal, TrialResult
from ublet.link.errors import BoardRefused
from ublet.session import places
from ublet.session.demo import DemoError, prepare
from ublet.session.document import Document
from ublet.session.gain_sets import OWN, note_set, switch_set, used_at
from ublet.session.heaters import room_now
from ublet.session.library import machine_path
from ublet.session.orders import OrderError, order_for, verify_parameters
from ublet.session.report import run_json
from ublet.session.standings import standing as standing_of
from ublet.session.standings import standings
from ublet.session.trials import vetted


@dataclass
class Free:
    free: int


STATION = next(station for station in ROUTE if station.bench == "heat")
CONTROL, VERIFY = TRIALS["hotend-control"], TRIALS["hotend-verify"]


def test_a_station_goes_from_open_to_proven_and_turns_stale_with_its_reason(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            assert standing_of(session, STATION) == StationState("open", trial="hotend-control", heater="hotend")
            tuned = await session.run(CONTROL, HotendParameters(), Onlooker())
            assert standing_of(session, STATION).figure == "unverified"
            best = next(o for o in tuned.ran.result.options if o.name == tuned.ran.result.recommended)
            await session.keep(best, tuned.number)
            verified = await session.run(VERIFY, HotendVerifyParameters(), Onlooker())
            standing = standing_of(session, STATION)
            assert standing.state == "proven" and "±" in standing.figure
            entry = session.ledger.run(verified.number or 0)
            assert entry is not None
            held = {rest.path: rest.value for rest in entry.rests}
            assert held["heaters.hotend.kp"] == rig.board.layers.live["heaters.hotend.kp"]
            assert held["hotend-control/gain.hotend"] == tuned.ran.result.all_of("gain")[0].value
            await session.connection.write_live({"sensors.hotend.beta_k": 3950.0})
            stale = standing_of(session, STATION)
            assert stale.state == "stale"
            assert stale.reason == "sensors.hotend.beta_k was 4267, is now 3950"
            await session.connection.write_live({"sensors.hotend.beta_k": 4267.0, "heaters.hotend.kp": 0.05})
            assert "heaters.hotend.kp was" in standing_of(session, STATION).reason

    virtually(work)


def test_a_failed_trial_is_failed(folder: Path) -> None:
    async def work() -> None:
        event = '[[events]]\nkind = "reboot"\nabove_c = 100\n'
        async with Rig(folder, tern_scenario(event)) as rig:
            await rig.session.run(CONTROL, HotendParameters(), Onlooker())
            standing = standing_of(rig.session, STATION)
            assert standing.state == "failed" and "restarted" in standing.reason
            assert set(standings(rig.session)) == {station.name for station in ROUTE}

    virtually(work)


def test_a_cancelled_trial_does_not_undo_what_was_proven(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.run(CONTROL, HotendParameters(), Onlooker())
            before = standing_of(rig.session, STATION)
            running = asyncio.ensure_future(rig.session.run(CONTROL, HotendParameters(), Onlooker()))
            await asyncio.sleep(5)
            assert standing_of(rig.session, STATION).state == "running"
            rig.session.runner.cancel()
            assert (await running).ran.result.outcome == "halted"
            assert standing_of(rig.session, STATION) == before

    virtually(work)


def test_the_link_comes_back_by_itself(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            connection.keep()
            await asyncio.sleep(1)
            assert rig.host is not None and rig.host.other is not None
            rig.host.other.close()
            assert not connection.linked and "The link was lost" in connection.why
            await asyncio.sleep(3)
            assert connection.linked and connection.samples and connection.state.mode == "ready"
            assert connection.channel("sensors.bed") == pytest.approx(23, abs=0.5)

    virtually(work)


def test_a_halt_while_there_is_no_link_halts_the_board_when_it_answers(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            connection.keep()
            await asyncio.sleep(1)
            assert rig.host is not None and rig.host.other is not None
            rig.host.other.close()
            assert not connection.halt() and not connection.linked
            await asyncio.sleep(3)
            assert connection.linked and connection.state.mode == "halted"
            await connection.controller.release()
            await asyncio.sleep(1)
            assert connection.state.mode == "ready", "it is halted once"

    virtually(work)


def test_a_halt_after_a_release_wins_however_late_the_release_arrives(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            connection.halt()
            await asyncio.sleep(0.5)
            releasing = asyncio.ensure_future(connection.controller.release())
            await asyncio.sleep(0)  # it is sent and not answered
            connection.halt()
            with pytest.raises(BoardRefused, match="Halted again"):
                await releasing
            await asyncio.sleep(2)
            assert connection.state.mode == "halted"

    virtually(work)


def test_a_halted_board_refuses_a_trial_until_released(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            rig.session.connection.halt()
            await asyncio.sleep(1)
            refused = (await rig.session.run(CONTROL, HotendParameters(), Onlooker())).ran.result
            assert refused.outcome == "halted" and rig.everything_is_off()
            await rig.session.connection.call("release")
            await asyncio.sleep(1)
            running = asyncio.ensure_future(rig.session.run(CONTROL, HotendParameters(), Onlooker()))
            await asyncio.sleep(10)
            assert not rig.everything_is_off()
            rig.session.runner.cancel()
            await running

    virtually(work)


def test_a_report_has_the_shape_of_the_contract(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            entered = await rig.session.run(CONTROL, HotendParameters(choose="quick"), Onlooker())
            report = run_json(rig.session, CONTROL, entered)
            assert report["run"] == entered.number == 1
            assert report["conditions"]["sensors.hotend.beta_k"] == 4267 and report["conditions"]["target_c"] == 215
            assert report["duration_s"] == pytest.approx(250, rel=0.3)
            assert [p["after"] for p in report["proposals"]] == [
                report["options"]["quick"][key] for key in ("kp", "ki", "kd")
            ]
            assert all(p["effect"].startswith("overshoot +") for p in report["proposals"])

    virtually(work)


def test_the_room_is_known_while_everything_is_warm(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            for heater, celsius in (("hotend", 120), ("bed", 70)):
                await session.connection.call("heat.target", heater=heater, celsius=celsius)
            await asyncio.sleep(300)
            coolest = min(session.connection.channel(f"sensors.{name}") or 0.0 for name in ("hotend", "bed", "plate"))
            assert coolest > 55 and room_now(session, "bed") == pytest.approx(23, abs=0.3)

    virtually(work)


def test_a_finished_trial_outlives_a_full_disk_and_is_entered_when_there_is_room(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session, spec = rig.session, TRIALS["sensors-at-rest"]
            with monkeypatch.context() as full:
                full.setattr("ublet.session.trials.shutil.disk_usage", lambda folder: Free(1_000_000))
                refused = await session.run(spec, spec.parameters(), Onlooker())
                assert refused.number is None and "only 1.0 MB are free" in refused.ran.result.why
            writer = session.ledger._writer

            def no_room() -> Never:
                raise sqlite3.OperationalError("database or disk is full")

            writer.before_commit = no_room
            entered = await session.run(spec, spec.parameters(), Onlooker())
            assert entered.ran.result.outcome == "proven" and "kept in memory" in entered.note
            shown = session.ledger.latest("sensors-at-rest", "proven")
            assert shown is not None and shown.id == entered.number and shown.result == entered.ran.result
            assert session.ledger.waiting == 1 and session.ledger.enter_waiting() == 0
            writer.before_commit = lambda: None
            assert session.ledger.enter_waiting() == 1 and session.ledger.waiting == 0
            again = session.ledger.latest("sensors-at-rest")
            assert again is not None and again.id == 1 and again.result.findings == entered.ran.result.findings

    virtually(work)


def test_a_save_knows_the_trial_that_proposed_each_value(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), folder / "store.json") as rig:
            session, spec = rig.session, TRIALS["sensors-at-rest"]
            numbers = [(await session.run(spec, spec.parameters(), Onlooker())).number for _ in range(2)]
            for number, path, value in zip(numbers, ("heaters.hotend.kp", "heaters.bed.kp"), (0.1, 0.2), strict=True):
                await session.keep(Option("x", "", (Proposal(path, None, value, "", ""),), {}), number)
            await session.connection.write_live({"heaters.hotend.ki": 0.005})  # by nobody's trial
            assert await session.save() == 3
            saved = {c.setting: c.run for c in session.ledger.changes("save") if c.layer == "stored"}
            assert saved == {"heaters.hotend.kp": 1, "heaters.bed.kp": 2, "heaters.hotend.ki": None}

    virtually(work)


def test_a_proposal_that_contradicts_the_file_is_left_out() -> None:
    document = Document(machine_path("tern-280"))
    good = Option("cooler", "", (Proposal("axes.x.motors.a.run_a", 1.1, 0.9, "A", ""),), {})
    bad = Option("mend", "", (Proposal("axes.x.motors.a.run_a", 1.1, 0.2, "A", ""),), {})
    result = vetted(TrialResult("proven", "so", {}, (), (good, bad), "mend"), document)
    assert result.options == (good,) and result.recommended == "" and "contradicts the machine file" in result.why


@pytest.mark.parametrize("number", [math.nan, math.inf])
def test_nothing_is_found_or_proposed_that_is_no_number(number: float) -> None:
    with pytest.raises(ValueError, match="no finite number"):
        Finding("gain", number)
    with pytest.raises(ValueError, match="no finite number"):
        Proposal("heaters.hotend.kp", 0.1, number, "", "")


def test_orders_from_typed_words() -> None:
    order = order_for("hotend-control", ["target=0.2e3 °C", "cycles=6"], keep=True, save=False)
    assert (order.parameters.model_dump()["target"], order.parameters.model_dump()["cycles"]) == (200.0, 6)
    assert order.verify is VERIFY and order.verify_parameters is not None
    assert order.verify_parameters.model_dump()["target"] == 200.0
    assert verify_parameters(CONTROL, HotendParameters(target=230.0)) == HotendVerifyParameters(target=230.0)
    for words in (["target"], ["=5"], ["cycles=5.5"], ["target=1e999"]):
        with pytest.raises(OrderError):
            order_for("hotend-control", words, keep=False, save=False)


def test_the_last_machine_is_remembered_while_its_file_is_there(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "state"))
    assert places.last_machine() is None
    machine = folder / "m.toml"
    machine.write_text(machine_text(), encoding="utf-8")
    places.remember(machine, "socket://localhost:1")
    assert places.last_machine() == places.Recent(machine, "socket://localhost:1")
    (folder / "state" / "ublet" / "machines.json").write_text("garbage", encoding="utf-8")
    assert places.last_machine() is None
    places.remember(machine, None)
    machine.unlink()
    assert places.last_machine() is None


def test_a_demo_folder_is_made_once_and_its_files_are_left_alone(folder: Path) -> None:
    machine, scenario = prepare("wren", folder / "demo")
    machine.write_text("mine", encoding="utf-8")
    assert prepare("wren", folder / "demo") == (machine, scenario)
    assert machine.read_text(encoding="utf-8") == "mine" and scenario.exists()
    with pytest.raises(DemoError, match="tern, wren"):
        prepare("heron", folder)
    (folder / "file").write_text("", encoding="utf-8")
    with pytest.raises(DemoError, match="cannot be written"):
        prepare("tern", folder / "file")


def test_a_set_that_is_used_holds_its_temperature_and_the_check_holds_for_it(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session, root = rig.session, "heaters.hotend.gains.old-block"
            assert session.gains_root("hotend", 215) == "heaters.hotend" and used_at(session, "hotend", 215) == OWN
            words = await switch_set(session, "hotend", "old-block")
            assert "used near 205 °C: live" in words and used_at(session, "hotend", 215) == "old-block"
            tuned = await session.run(CONTROL, HotendParameters(target=215), Onlooker())
            best = tuned.ran.result.choice
            assert best is not None and {p.setting for p in best.proposals} == {
                f"{root}.{k}" for k in ("kp", "ki", "kd")
            }
            own = rig.board.layers.live["heaters.hotend.kp"]
            await session.keep(best, tuned.number)
            verified = await session.run(VERIFY, HotendVerifyParameters(target=215), Onlooker())
            assert verified.ran.result.outcome == "proven", verified.ran.result.why
            assert rig.board.layers.live["heaters.hotend.kp"] == own
            await session.connection.call("heat.target", heater="hotend", celsius=240)
            assert rig.board.heat.drives["hotend"].pid.gains.kp == own
            await session.connection.call("heat.target", heater="hotend", celsius=210)
            assert rig.board.heat.drives["hotend"].pid.gains.kp == rig.board.layers.live[f"{root}.kp"] != own
            await session.connection.write_live({"heaters.hotend.kp": 0.5})
            assert standing_of(session, STATION).state == "proven", "another target's gains do not matter"
            await switch_set(session, "hotend", "old-block")
            assert f"{root}.used was" in standing_of(session, STATION).reason
            label = note_set(session, "hotend", 255.0, best)
            noted = {change.path: change.after for change in session.draft.changes()}
            assert label == "at-255" and noted["heaters.hotend.gains.at-255.used"] is True
            assert noted["heaters.hotend.gains.at-255.material"] == "asa"
            with pytest.raises(ValueError, match="no set of the machine file"):
                await switch_set(session, "hotend", OWN)

    virtually(work)
