"""Materials: which run found a value, whether it holds, a copy for a new spool, which is loaded; another drive."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern, tern_scenario, virtually
from tests.core.extrude.test_advance import wren
from ublet.core.catalogue import TRIALS
from ublet.core.extrude.drive_trials import DriveParameters, changed_drive
from ublet.core.machine.schema import MachineFile
from ublet.core.run import Finding, Option, Proposal, TrialFailed, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.session.materials import (
    MaterialError,
    copy_material,
    loaded_material,
    material_rows,
    use_material,
    why_no_name,
)


def finds(value: float) -> TrialSpec:
    """A trial that finds a retraction of pla at its nozzle temperature."""

    async def recipe(bench, aim):  # type: ignore[no-untyped-def]
        at = bench.machine.materials["pla"].nozzle_c
        proposal = Proposal("materials.pla.retract_mm", None, value, "mm", "clean")
        found = Finding("retraction", value, 0.05, "mm", subject={"material": "pla"})
        return TrialResult("proven", f"at {at:g}", {}, (found,), (Option("this", "", (proposal,), {}),), "this")

    def announce(machine: MachineFile, aim: Part) -> str:
        return ""

    return TrialSpec("retraction", "retraction", "finds it", Part, recipe, (), announce, lambda *about: ())


def test_a_value_knows_its_run_and_that_it_was_found_at_another_temperature(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session = rig.session
            before = material_rows(session)[0].values["retract_mm"]
            assert before.value is None and before.station == "retraction"
            entered = await session.run(finds(0.9), Part(), Onlooker())
            await session.keep(entered.ran.result.options[0], entered.number)
            value = material_rows(session)[0].values["retract_mm"]
            assert (value.value, value.run, value.why_not) == (0.9, entered.number, "")
            await session.connection.write_live({"materials.pla.nozzle_c": 230.0})
            value = material_rows(session)[0].values["retract_mm"]
            assert value.run == entered.number and "materials.pla.nozzle_c was 215, is now 230" in value.why_not

    virtually(work)


def test_a_new_spool_takes_the_row_and_its_values_stay_marked(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session = rig.session
            session.draft.set("materials.petg.advance_s", 0.061)
            session.write_draft()
            copy_material(session, "petg", "petg-black")
            assert session.draft.given("materials.petg-black.copied_from") == "petg"
            session.write_draft()
            row = next(row for row in material_rows(session) if row.name == "petg-black")
            assert row.values["nozzle_c"].value == 240.0 and row.values["fan"].value == 0.4
            copied = row.values["advance_s"]
            assert (copied.value, copied.run, copied.copied_from) == (0.061, None, "petg")
            for name, words in (("pla", "already"), ("Two words", "small letters"), ("", "small letters")):
                assert words in (why_no_name(session, name) or "")
                with pytest.raises(MaterialError, match=words):
                    copy_material(session, "petg", name)

    virtually(work)


def test_the_loaded_material_is_the_one_that_was_reported_last(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session = rig.session
            assert loaded_material(session) == "pla"
            use_material(session, "asa")
            assert loaded_material(session) == "asa"
            assert [row.name for row in material_rows(session) if row.loaded] == ["asa"]
            use_material(session, "a spool nobody knows")
            assert loaded_material(session) == "pla", "what the machine file does not have is not loaded"

    virtually(work)


# another drive


def test_everything_that_belongs_to_a_drive_is_changed_with_it() -> None:
    changes = {of.path: (of.before, of.after) for of in changed_drive(wren(), DriveParameters(tube_mm=0.0, run_a=0.5))}
    assert changes["extruder.tube_mm"] == (420.0, 0.0)
    assert changes["extruder.retract_mm"] == (4.5, 0.8)
    assert changes["extruder.motor.run_a"] == (0.8, 0.5)
    assert "extruder.steps_per_mm" not in changes, "the gear stays, and so does what was measured"
    other = {
        of.path: of.after for of in changed_drive(wren(), DriveParameters(tube_mm=420, hob_mm=8.0, gear_ratio=3.0))
    }
    machine = wren()
    assert machine.extruder is not None
    turn = 200 * machine.extruder.motor.microsteps
    assert other["extruder.steps_per_mm"] == pytest.approx(turn * 3.0 / (8.0 * 3.14159265), rel=1e-4)
    assert "extruder.retract_mm" not in other, "another gear draws back no further"


def test_a_tube_asks_for_more_retraction_the_longer_it_is() -> None:
    def retract(tube_mm: float) -> object:
        changes = changed_drive(tern(), DriveParameters(tube_mm=tube_mm))
        return next(of.after for of in changes if of.path == "extruder.retract_mm")

    assert [retract(mm) for mm in (200, 400, 1500)] == [4.5, 5.0, 6.0]


def test_the_drive_that_is_there_is_refused_with_what_would_be_another() -> None:
    with pytest.raises(TrialFailed, match="is the drive that is declared") as failed:
        changed_drive(tern(), DriveParameters())
    assert any("tube_mm" in way.words for way in failed.value.remedies)


def test_another_drive_is_entered_as_another_load_and_kept_as_one(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session, spec = rig.session, TRIALS["drive-change"]
            entered = await session.run(spec, DriveParameters(tube_mm=400.0), Onlooker())
            result = entered.ran.result
            assert result.outcome == "proven" and len(result.options) == 1, result.why
            assert "extruder.tube_mm" in {proposal.setting for proposal in result.proposals}
            assert [fact.kind for fact in session.ledger.facts_in_force()] == ["load"]
            await session.keep(result.options[0], entered.number)
            assert session.live("extruder.retract_mm") == 5.0 and session.live("extruder.tube_mm") == 400.0
            assert session.machine_now.extruder is not None and session.machine_now.extruder.tube_mm == 400.0
            assert rig.everything_is_off()

    virtually(work)
