"""Machines as builders own them: valid files with what is planted in them, and honest counting."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from ublet.benchmark.owned import Owned
from ublet.benchmark.owners import ACCUSES, OwnerRun, _claims, _leg, _named, _no_change
from ublet.core.run import Finding, Option, Proposal, TrialResult
from ublet.session.document import Document
from ublet.world.scenario import load_scenario


@pytest.mark.parametrize("leg", ["level", "extrude", "shake"])
def test_every_machine_is_one_that_can_be_declared_and_every_fault_is_planted(leg: str, tmp_path: Path) -> None:
    faults = set()
    for number in range(27):
        owned = Owned(tmp_path, number, leg)
        declared = Document(tmp_path / f"owned-{number}.machine.toml").machine
        truth = load_scenario(owned.path)
        assert declared.probe is not None and (declared.probe.kind != "nozzle") == owned.probed
        if owned.lifts == "backwards":
            (back,) = [name for name, motor in truth.motors.items() if motor.reversed]
            assert declared.axes.z.motors[owned.moved[0]].socket == back
        faults.add(owned.lifts or owned.hob or owned.mount)
        if leg != "level":
            assert not owned.lifts, "what another leg mends is sound"
    assert "" in faults and len(faults) == {"level": 4, "extrude": 8, "shake": 2}[leg]


def test_the_same_number_is_the_same_machine(tmp_path: Path) -> None:
    first, again = (Owned(tmp_path, 7, "level").path.read_text(encoding="utf-8") for _ in range(2))
    assert first == again
    assert Owned(tmp_path, 8, "level").path.read_text(encoding="utf-8") != first


def result(value: float, outcome: str = "proven", why: str = "", after: float | None = None) -> TrialResult:
    found = (Finding("offset", value, 0.01, "mm"),)
    option = (
        Option("o", "", (Proposal("bed.offset_z_mm", 0.0, after, "mm", "moves"),), {}) if after is not None else None
    )
    return TrialResult(outcome, why, {}, found, (option,) if option else (), "o" if option else "")  # type: ignore[arg-type]


def test_claims_accusations_names_and_second_runs_are_counted(tmp_path: Path) -> None:
    near, far = (
        OwnerRun("z-offset", result(0.1), {"offset": 0.115}),
        OwnerRun("z-offset", result(0.1), {"offset": 0.13}),
    )
    assert _claims(near) == [("z-offset offset", True)] and _claims(far) == [("z-offset offset", False)]
    assert _claims(replace(near, truth={})) == []
    failed = OwnerRun("mesh-check", result(0.1, "failed", "the bed has moved"), {})
    assert ACCUSES["level"](failed) and not ACCUSES["level"](near)
    assert not ACCUSES["level"](replace(failed, result=result(0.1, "failed", after=0.2))), "it proposes what mends it"
    assert ACCUSES["extrude"](replace(near, result=result(1.0, why="the nozzle is partly blocked")))
    owned = next(each for n in range(30) if (each := Owned(tmp_path, n, "level")).lifts == "exchanged")
    one, two = owned.moved
    said = OwnerRun("lead-screws", result(0.1, "failed", f"{one} and {two} are on each other's drivers"), {})
    assert _named(owned, [said]) and not _named(owned, [replace(said, result=result(0.1, "failed", f"{one} sags"))])
    assert _no_change(result(0.1), result(0.2)) and _no_change(result(0.1), result(0.12, after=0.12))
    assert not _no_change(result(0.1), result(0.2, after=0.2))


def test_a_leg_counts_what_ran() -> None:
    found = _leg("extrude", 1)
    assert found["machines"] == found["sound"] == 1 and found["planted"] == 0
    assert found["unnamed"] == [] and found["accused"] == []
    assert found["claims_within_2u"] >= 0.8 and found["within_2u"]["extruder-steps went_in"][1] >= 3
