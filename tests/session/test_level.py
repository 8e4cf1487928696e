"""The leg Level on machines made up at random and on both demo machines: found, mended, told; the truth knows."""

from __future__ import annotations

import asyncio
import shutil
import tomllib
from pathlib import Path
from typing import Any

import pytest
import tomlkit

from tests.conftest import Onlooker, Rig, mended_tern, requests_noted, virtually
from ublet.benchmark.beds import SCREWS, made_up
from ublet.benchmark.wired import well_wired
from ublet.core.catalogue import TRIALS
from ublet.core.level.probe import spread_trials
from ublet.core.observations import LookAtLifts
from ublet.link.controller import capability_of
from ublet.session.document import Document
from ublet.session.headless import run_on_scenario
from ublet.session.library import machine_path, scenario_path
from ublet.session.orders import order_for
from ublet.session.standings import standings

LEVEL = ("lead-screws", "bed-corners", "probe-spread", "probe-place", "z-offset")


def changed(path: Path, **tables: Any) -> Path:
    """The scenario with other values: table → key → value."""
    scenario_tables = tomllib.loads(path.read_text(encoding="utf-8"))
    for table, values in tables.items():
        if isinstance(values, list):
            scenario_tables[table] = values
        else:
            scenario_tables.setdefault(table, {}).update(values)
    path.write_text(tomlkit.dumps(scenario_tables), encoding="utf-8")
    return path


def run(trial: str, scenario: Path, *sets: str, seed: int = 1, keep: bool = False, machine: Path | None = None) -> Any:
    order = order_for(trial, list(sets), keep=keep, save=False)
    return run_on_scenario(order, scenario, machine, seed, lambda progress: None).report


def value(report: Any, id: str) -> float:
    return float(next(finding["value"] for finding in report["findings"] if finding["id"] == id))


@pytest.mark.parametrize(("lifts", "seed"), [(2, 0), (3, 1), (4, 4)])
def test_lifts_of_every_number_become_level(lifts: int, seed: int, tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, seed, lifts)
    report = run("lead-screws", scenario, seed=seed)
    assert report["outcome"] == "proven", report["why"]
    assert report["truth"]["range"] < 0.03 < value(report, "range_before")
    assert not report["proposals"]


def test_exchanged_lifts_are_named_mended_and_then_level(tmp_path: Path) -> None:
    scenario, pair = made_up(tmp_path, 3, 3)
    assert pair is not None
    report = run("lead-screws", scenario, seed=3, keep=True)
    assert f"{pair[0]} and {pair[1]}" in report["why"] or f"{pair[1]} and {pair[0]}" in report["why"]
    assert {p["setting"] for p in report["proposals"]} == {f"axes.z.motors.{name}.socket" for name in pair}
    assert report["verify"]["outcome"] == "proven" and report["verify"]["truth"]["range"] < 0.03


@pytest.mark.parametrize("off_mm", [0.03, -0.05, 0.08])
def test_exchanged_lifts_below_a_bed_that_is_nearly_level_are_named_too(off_mm: float, tmp_path: Path) -> None:
    """What moved less than is seen proves nothing: the next correction is judged by what was touched."""
    scenario, pair = made_up(tmp_path, 3, 2)
    assert pair is not None
    changed(scenario, bed={"lifts": {"left": {"off_mm": off_mm, "play_mm": 0.01}, "right": {"off_mm": 0.0}}})
    report = run("lead-screws", scenario, seed=3)
    assert "left and right are on each other's drivers" in report["why"], report["why"]


def test_a_bed_that_is_far_out_is_sent_to_the_rule_first(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 1, 3)
    changed(scenario, bed={"lifts": {"left": {"off_mm": 5.6}, "right": {"off_mm": -5.4}, "back": {"off_mm": 0.0}}})
    report = run("lead-screws", scenario)
    assert report["outcome"] == "failed" and ("allowed" in report["why"] or "Nothing triggered" in report["why"])
    by_hand = run("lead-screws-by-hand", scenario)
    assert by_hand["outcome"] == "proven" and by_hand["truth"]["gaps_differ"] < 1.5
    assert "probing goes on from here" in by_hand["why"].lower()


def test_corners_turn_level_and_warp_is_told_apart(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 4, 2)
    report = run("bed-corners", scenario, seed=4)
    assert report["outcome"] == "proven", report["why"]
    assert report["truth"]["tilt"] < 0.035 < value(report, "tilt_before") and value(report, "rounds") <= 3
    assert value(report, "warp") == pytest.approx(report["truth"]["warp"], abs=0.02)
    assert sum(f["id"].startswith("turned.") for f in report["findings"]) == 4


def test_a_slack_corner_that_was_set_to_the_middle_of_its_spring_may_stand_millimetres_off(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 4, 2)
    springs = {name: {"off_mm": 0.1, "spring_mm": 3.6, "solid_mm": 9} for name in SCREWS}
    springs["left-front"]["spring_mm"] = 0.4
    changed(scenario, bed={"screws": springs})
    report = run("bed-corners", scenario, seed=4)
    assert report["outcome"] == "proven", report["why"]
    assert value(report, "tilt_before") > 2 and report["truth"]["tilt"] < 0.035


def test_a_lift_that_ran_backwards_is_where_it_was_when_it_has_been_looked_at(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 1, 3)
    before = run("lead-screws", scenario)["findings"]
    changed(scenario, motors={"M4": {"role": "z.right", "turn_mm": 4.0, "efficiency": 0.4, "reversed": True}})
    machine = tmp_path / "own.toml"
    shutil.copyfile(tmp_path / "bed-3-1.toml", machine)
    report = run("lead-screws", scenario, keep=True, machine=machine)
    assert "right runs backwards" in report["why"] and report["verify"]["outcome"] == "proven", report["why"]
    was = next(f["value"] for f in before if f["id"] == "range_before")
    assert value(report["verify"], "range_before") == pytest.approx(was, abs=0.1)


def test_by_hand_every_corner_of_wren_gets_the_same_gauge() -> None:
    report = run("bed-corners-by-hand", scenario_path("wren-180"))
    assert report["outcome"] == "proven" and value(report, "rounds") <= 6
    assert "A whole round was fine" in report["why"]


@pytest.mark.parametrize(("machine", "seed"), [("wren-180", 1), ("wren-180", 2)])
def test_the_z_offset_of_an_endstop_is_found_hot(machine: str, seed: int) -> None:
    report = run("z-offset", scenario_path(machine), "nozzle_c=200", seed=seed)
    assert report["outcome"] == "proven"
    assert value(report, "offset") == pytest.approx(report["truth"]["offset"], abs=0.02)
    (proposal,) = report["proposals"]
    assert proposal["setting"] == "bed.offset_z_mm" and "further from the bed" in proposal["effect"]


def test_after_the_offset_was_kept_another_touch_changes_nothing(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 2, 3)
    changed(scenario, stored={"probe": {"offset_z_mm": round(-2.2, 3)}})
    first = run("z-offset", scenario, "nozzle_c=205", seed=2)
    kept = value(first, "offset")
    assert kept == pytest.approx(first["truth"]["offset"], abs=0.02)
    changed(scenario, stored={"probe": {"offset_z_mm": round(kept, 3)}})
    again = run("z-offset", scenario, "nozzle_c=205", seed=5)
    assert not again["proposals"] and "leave it" in again["why"]
    assert abs(value(again, "change")) < 0.03


def test_the_probes_place_is_measured_and_what_rests_on_it_follows(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 0, 3)
    report = run("probe-place", scenario, seed=3)
    assert value(report, "probe_x") == pytest.approx(report["truth"]["probe_x"], abs=0.25)
    changes = {p["setting"]: p["after"] - p["before"] for p in report["proposals"]}
    assert changes["axes.z.homing.over_x_mm"] == pytest.approx(-changes["probe.offset_x_mm"], abs=0.011)
    assert "the nozzle, within" in report["why"]


def test_spread_drift_and_a_knock_in_the_middle(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 2, 3)
    report = run("probe-spread", scenario, "touches=20")
    found = next(f for f in report["findings"] if f["id"] == "deviation.middle")
    assert abs(found["value"] - report["truth"]["deviation.middle"]) <= 2.5 * found["uncertainty"]
    changed(scenario, knocks=[{"after_touches": 12, "mm": 0.09}])
    knocked = run("probe-spread", scenario, "touches=20")
    assert knocked["outcome"] == "failed" and "the bed stands 0.0" in knocked["why"] and "higher" in knocked["why"]


def test_touches_that_read_the_same_again_and_again_are_no_scatter(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def stands_still(*_: Any) -> list[float]:
        return [-0.0027, -0.0117, -0.004, *[-0.0111] * 9]

    scenario, _ = made_up(tmp_path, 2, 3)
    monkeypatch.setattr(spread_trials, "_series", stands_still)
    report = run("probe-spread", scenario)
    assert report["outcome"] == "failed" and "9 of 12 touches one after the other read exactly -0.0111" in report["why"]


FAULTS = {
    "stays up": ({"probe": {"stays_up": 1.0}}, "Z did not find its end"),
    "dies in the middle": ({"probe": {"dies_after": 6}}, "Nothing triggered at bed"),
    "scatters": ({"switches": {"probe": {"spread_mm": 0.12}}}, "touches differ by"),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_a_probe_that_fails_is_named_and_the_nozzle_goes_up(fault: str, tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 0, 3)
    tables, words = FAULTS[fault]
    scenario_tables = tomllib.loads(scenario.read_text(encoding="utf-8"))
    for table, values in tables.items():
        for key, each in values.items():
            if isinstance(each, dict):
                scenario_tables[table].setdefault(key, {}).update(each)  # type: ignore[union-attr,index]
            else:
                scenario_tables[table][key] = each  # type: ignore[index]
    scenario.write_text(tomlkit.dumps(scenario_tables), encoding="utf-8")
    report = run("bed-corners", scenario)
    assert report["outcome"] == "failed" and words in report["why"], report["why"]


@pytest.mark.parametrize("trial", LEVEL)
def test_what_a_trial_uses_is_declared_and_its_record_has_rows(
    trial: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = requests_noted(monkeypatch)
    scenario, _ = made_up(tmp_path, 0, 3)
    machine = tmp_path / "mine.toml"
    shutil.copyfile(tmp_path / "bed-3-0.toml", machine)
    report = run(trial, scenario, machine=machine)
    assert report["outcome"] == "proven", report["why"]
    used = {capability_of(method) for method in asked - {"image.status"}} - {
        None,
        "loans",
    }
    assert used <= set(TRIALS[trial].uses(Document(machine).machine))
    assert "probe" in report["conditions"] or any(path.startswith("probe.") for path in report["conditions"])


@pytest.mark.parametrize("seed", [1, 3])
def test_an_inductive_probe_is_mounted_by_its_input_and_a_gauge(seed: int, tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, seed, 3)
    report = run("probe-height", scenario, "gauge_mm=2", "raise_mm=1", seed=seed)
    trigger = next(f for f in report["findings"] if f["id"] == "trigger")
    assert abs(trigger["value"] - report["truth"]["trigger"]) <= 2 * trigger["uncertainty"]
    assert abs(value(report, "clears") - report["truth"]["clears"]) < 0.8
    assert report["outcome"] == "proven" and "clears the bed" in report["why"]


def test_a_probe_that_would_scrape_or_trigger_in_the_bed_is_refused(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 1, 3)
    changed(scenario, probe={"stowed_mm": -1.2})
    low = run("probe-height", scenario)
    assert low["outcome"] == "failed" and "does not clear the bed" in low["why"] and not low["proposals"]
    deep = run("probe-height", scenario, "gauge_mm=1", "raise_mm=1")
    assert deep["outcome"] == "failed" and "before the nozzle is at the bed" in deep["why"]


@pytest.mark.parametrize("trial", ["lead-screws", "bed-mesh", "directions"])
@pytest.mark.parametrize("fault", ["reversed = true", "open = true"])
def test_a_lift_that_goes_wrong_is_named_before_z_homes(trial: str, fault: str, tmp_path: Path) -> None:
    text = well_wired(scenario_path("tern-280").read_text(encoding="utf-8"))
    role = 'role = "z.back"'
    assert role in text
    scenario = tmp_path / "s.toml"
    text = text.replace("../machines/tern-280.toml", str(machine_path("tern-280")))
    scenario.write_text(text.replace(role, f"{role}\n{fault}"), encoding="utf-8")
    machine = tmp_path / "m.toml"
    shutil.copyfile(machine_path("tern-280"), machine)
    report = run(trial, scenario, machine=machine)
    assert report["outcome"] == "failed" and "lead screw back" in report["why"], report["why"]
    assert report["duration_s"] < 60
    if fault.startswith("reversed"):
        assert "runs backwards" in report["why"]
        if trial != "bed-mesh":  # it only says which station mends it
            (mend,) = report["proposals"]
            assert (mend["setting"], mend["before"], mend["after"]) == ("axes.z.motors.back.reversed", False, True)
        else:
            assert "station lead screws" in report["why"]
    else:
        assert "did not turn" in report["why"] and report["proposals"] == []


def test_lifts_are_looked_at_once_and_again_after_their_wiring_changed(folder: Path) -> None:
    class Looks(Onlooker):
        @property
        def lifts(self) -> int:
            return sum(isinstance(question.cue, LookAtLifts) for question in self.questions)

    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            looks, homing = Looks(), TRIALS["homing"]
            for _ in range(2):
                entered = await rig.session.run(homing, homing.parameters(), looks)
                assert entered.ran.result.outcome == "proven", entered.ran.result.why
            assert looks.lifts == 1
            path = "axes.z.motors.back.reversed"
            for value in (True, False):
                await rig.session.connection.write_live({path: value})
            await rig.session.run(homing, homing.parameters(), looks)
            assert looks.lifts == 1, "the wiring is what it was"
            await rig.session.connection.write_live({"axes.z.motors.back.socket": "M6"})
            await rig.session.run(homing, homing.parameters(), looks)
            assert looks.lifts == 2

    virtually(work)


@pytest.mark.parametrize("hold", [False, True])
def test_lifts_that_sag_without_power_are_no_longer_square_until_it_is_done_again(folder: Path, hold: bool) -> None:
    async def work() -> None:
        scenario = mended_tern()
        bed = scenario.bed
        lifts = {name: lift.model_copy(update={"sags_mm": 0.8 * (name == "left")}) for name, lift in bed.lifts.items()}
        sagging = scenario.model_copy(update={"bed": bed.model_copy(update={"lifts": lifts})})
        async with Rig(folder, sagging) as rig:
            session, spec = rig.session, TRIALS["lead-screws"]
            if hold:
                rig.file.write_text(rig.file.read_text(encoding="utf-8").replace("[lifts]", "[lifts]\nhold = true"))
                session.look_at_disk()
                assert session.document.machine.lifts is not None and session.document.machine.lifts.hold
            entered = await session.run(spec, spec.parameters(), Onlooker())
            assert entered.ran.result.outcome == "proven", entered.ran.result.why
            assert standings(session)["lead screws"].state == "proven"
            before = dict(rig.world.bed.lifts_mm)
            rig.board.restart()
            await asyncio.sleep(5.0)
            assert rig.world.bed.lifts_mm["z.left"] - before["z.left"] == pytest.approx(0.8)
            now = standings(session)["lead screws"]
            if hold:
                assert now.state == "proven"
                return
            assert now.state == "stale" and "motors: without power" in now.reason
            assert any("lead screws may have sunk" in notice for notice in session.notices)
            again = await session.run(spec, spec.parameters(), Onlooker())
            assert again.ran.result.outcome == "proven" and standings(session)["lead screws"].state == "proven"

    virtually(work)


@pytest.mark.parametrize("twist_mm", [0.15, 0.6])
def test_four_screws_that_stand_twisted_are_turned_back_and_the_beds_own_shape_is_left(
    twist_mm: float, tmp_path: Path
) -> None:
    scenario, _ = made_up(tmp_path, 4, 4, "pin")
    signs = (1, -1, 1, -1)
    truth = tomllib.loads(scenario.read_text(encoding="utf-8"))
    screws = list(truth["bed"]["screws"])
    assert len(screws) == 4
    around = sorted(screws, key=lambda name: ("back" in name, ("left" in name) == ("back" in name)))
    for name, sign in zip(around, signs, strict=True):
        truth["bed"]["screws"][name] |= {"off_mm": sign * twist_mm / 2, "spring_mm": 4.0}
    truth["bed"] |= {"bow_mm": 0.06, "waves": [], "lifts": {}}
    scenario.write_text(tomlkit.dumps(truth), encoding="utf-8")
    report = run("bed-corners", scenario, seed=4)
    assert report["outcome"] == "proven" and "twist" in report["why"], report["why"]
    left = next(finding for finding in report["findings"] if finding["id"] == "warp")
    assert abs(left["value"] - report["truth"]["warp"]) <= 2.5 * left["uncertainty"] and left["value"] < 0.09
    assert report["truth"]["twist"] < 0.03 and value(report, "tilt") < 0.03


def test_touches_that_the_heaters_current_disturbs_are_told_from_those_without(folder: Path) -> None:
    from tests.session.test_wire_trials import RIGHT, run

    humming = RIGHT.replace("\n[probe]\n", "\n[probe]\nhum_mm = 0.2\n")
    assert humming != RIGHT
    words = ("material=pla", "touches=30", "limit_mm=0.2")
    code, report = run("probe-spread", folder, humming, *words)
    found = {f["id"]: f["value"] for f in report["findings"]}
    assert code == 0 and found["deviation_off"] < found["deviation.middle"] / 2
    assert [(p["setting"], p["after"]) for p in report["proposals"]] == [("probe.heaters_off", True)]
    code, report = run("probe-spread", folder, RIGHT, *words)
    assert report["proposals"] == [] and "no clear difference" in report["why"]
