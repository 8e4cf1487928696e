"""A made-up machine with a coil: its trials one after the other, each kept; the truth of the world beside them."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest
import tomlkit

from ublet.benchmark.beds import made_up, run_made_up
from ublet.benchmark.coils import keep_in
from ublet.core.machine.check import check_text
from ublet.firmware.coil import LOOKS_TICKS
from ublet.session.library import boards
from ublet.simulated import SimulatedMachine
from ublet.world.scenario import load_scenario

SEED = 2

pytestmark = pytest.mark.xdist_group("coil")  # one worker: what they share takes long to make


def value(report: Any, id: str) -> float:
    return float(next(finding["value"] for finding in report["findings"] if finding["id"] == id))


@pytest.fixture(scope="module")
def coil_machine(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path, list[Any]]:
    """Scenario, machine file and the reports of current, curve and drift."""
    folder = tmp_path_factory.mktemp("coil")
    scenario, _ = made_up(folder, SEED, 3, "coil")
    machine, reports = folder / f"bed-3-{SEED}.toml", []
    drift = ["touches=3", "bed_c=90", "soak_s=120"]
    for trial, sets in (("coil-current", []), ("coil-curve", []), ("coil-drift", drift)):
        reports.append(run_made_up(trial, sets, scenario, SEED))
        keep_in(machine, reports[-1])
    return scenario, machine, reports


def test_current_curve_and_drift_are_found_one_after_the_other(coil_machine: tuple[Path, Path, list[Any]]) -> None:
    current, curve, drift = coil_machine[2]
    assert [each["outcome"] for each in (current, curve, drift)] == ["proven"] * 3, [each["why"] for each in (drift,)]
    assert 1.25 < value(current, "near") < value(current, "far") <= 1.75
    assert value(curve, "resolves_low") < value(curve, "resolves_trigger") < value(curve, "resolves_top")
    shift = next(f for f in drift["findings"] if f["id"] == "shift")
    assert abs(shift["value"] - drift["truth"]["shift"]) <= 2.5 * shift["uncertainty"] and abs(shift["value"]) > 30
    assert f"It holds up to {value(drift, 'holds_to'):.0f} °C" in drift["why"]


def test_a_pass_tells_the_bed_as_it_is_and_how_fast_it_may_be(coil_machine: tuple[Path, Path, list[Any]]) -> None:
    report = run_made_up("coil-pass", ["columns=7", "rows=2", "slow_mm_s=40"], coil_machine[0], SEED)
    assert report["outcome"] == "proven", report["why"]
    heights = {id: true for id, true in report["truth"].items() if id.startswith("height")}
    assert len(heights) >= 6 and all(abs(value(report, id) - true) < 0.01 for id, true in heights.items())
    assert value(report, "speed") >= 40 and "instead of" in report["why"]


def test_the_board_moves_what_means_metal_with_the_coils_warmth(coil_machine: tuple[Path, Path, list[Any]]) -> None:
    scenario, machine, _ = coil_machine
    checked = check_text(machine.read_text(encoding="utf-8"), boards()).machine
    assert checked is not None
    simulated = SimulatedMachine(load_scenario(scenario), checked, lambda: 0.0)
    coil = simulated.world.coil
    assert coil is not None
    where = dict(simulated.world.mechanics.where)
    simulated.board.tick()
    cold = coil.triggers_at(where)
    coil.coil.warm_k = 30.0
    for _ in range(LOOKS_TICKS):
        simulated.board.tick()
    with_drift = coil.triggers_at(where) - cold
    simulated.board.write({"probe.coil.drift": ()})
    simulated.board.tick()
    assert abs(with_drift) < 0.015 < abs(coil.triggers_at(where) - cold)


def test_without_a_curve_heights_are_refused_and_a_coil_that_is_too_loud_too(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, SEED, 3, "coil")
    for trial in ("coil-drift", "coil-pass"):
        report = run_made_up(trial, [], scenario, SEED)
        assert report["outcome"] == "failed" and "Run “coil-curve” first" in report["why"]
    mute = tomllib.loads(scenario.read_text(encoding="utf-8"))
    mute["coil"]["loud_v_ma"] = 20.0  # type: ignore[index]
    scenario.write_text(tomlkit.dumps(mute), encoding="utf-8")
    loud = run_made_up("coil-current", [], scenario, SEED)
    assert loud["outcome"] == "failed" and "it is another coil" in loud["why"]


def test_a_trial_asked_of_another_probe_says_so(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, 0, 3)
    report = run_made_up("coil-curve", [], scenario, 0)
    assert report["outcome"] == "failed" and "this board has no coil" in report["why"]


def test_a_coil_maps_the_bed_in_one_pass(coil_machine: tuple[Path, Path, list[Any]]) -> None:
    scenario, machine, _ = coil_machine
    before = machine.read_text(encoding="utf-8")
    report = run_made_up("bed-mesh", ["columns=7", "rows=3"], scenario, SEED)
    assert report["outcome"] == "proven", report["why"]
    for id in ("range", "rms", "tilt_x", "tilt_y"):
        assert value(report, id) == pytest.approx(report["truth"][id], abs=0.012), id
    machine.write_text(before, encoding="utf-8")


def test_a_coil_that_is_too_quiet_near_the_bed_is_told_how_much_higher_to_hang(tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, SEED, 3, "coil")
    lower = tomllib.loads(scenario.read_text(encoding="utf-8"))
    hangs = lower["coil"].get("hangs_mm", 1.2)
    lower["coil"] |= {"hangs_mm": 0.3, "lossy": 10.0}
    scenario.write_text(tomlkit.dumps(lower), encoding="utf-8")
    quiet = run_made_up("coil-current", [], scenario, SEED)
    assert quiet["outcome"] == "failed" and hangs > 0.3
    higher = value(quiet, "mount")
    assert f"Mount it {higher:.1f} mm higher" in quiet["why"] and higher > 0.2
    lower["coil"]["hangs_mm"] = 0.3 + higher + 0.1
    scenario.write_text(tomlkit.dumps(lower), encoding="utf-8")
    enough = run_made_up("coil-current", [], scenario, SEED)
    assert enough["outcome"] == "proven", enough["why"]
    assert value(enough, "near") < 1.45, "no higher than it must be"


def test_touches_come_in_equal_steps_of_the_coils_own_warmth(coil_machine: tuple[Path, Path, list[Any]]) -> None:
    scenario, machine, _ = coil_machine
    before = machine.read_text(encoding="utf-8")
    report = run_made_up("coil-drift", ["touches=4", "bed_c=100", "step_c=6"], scenario, SEED)
    machine.write_text(before, encoding="utf-8")
    assert report["outcome"] == "proven"
    start, _, end = report["why"].partition("°C")[0].removeprefix("From ").partition(" to ")
    assert 3 * 6 <= float(end) - float(start) <= 3 * 6 + 3


def test_a_module_at_another_bus_socket_is_named_with_both_ways_out(
    coil_machine: tuple[Path, Path, list[Any]], tmp_path: Path
) -> None:
    scenario, _ = made_up(tmp_path, SEED, 3, "coil")
    machine = tmp_path / f"bed-3-{SEED}.toml"
    declared = tomllib.loads(machine.read_text(encoding="utf-8"))
    declared["probe"]["coil"]["socket"] = "B2"
    declared["accelerometer"].pop("socket")
    machine.write_text(tomlkit.dumps(declared), encoding="utf-8")
    there = tomllib.loads(scenario.read_text(encoding="utf-8"))
    there["coil"]["socket"] = "B1"
    scenario.write_text(tomlkit.dumps(there), encoding="utf-8")
    report = run_made_up("coil-current", [], scenario, SEED)
    assert report["outcome"] == "failed" and "its module answers at B1" in report["why"]
    assert [(p["setting"], p["after"]) for p in report["proposals"]] == [("probe.coil.socket", "B1")]
    assert "by hand: plug" in report["ways_out"][0]
    curve = run_made_up("coil-curve", [], scenario, SEED)
    assert curve["outcome"] == "failed" and "answers at B1" in curve["why"], "the board refuses, and says why"
