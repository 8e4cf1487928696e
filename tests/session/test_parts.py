"""Parts by files: taken over with where their numbers come from, held against the machine file, wrong ones named."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Rig, mended_tern, virtually
from tests.session.test_wire_trials import RIGHT, run
from ublet.core.machine.part_files import PartFileError, part_from
from ublet.session.checking import check_report
from ublet.session.document import Document
from ublet.session.draft import Draft
from ublet.session.library import DATA, machine_path
from ublet.session.parts import happened, parts_for, take_part

BEAD = '[part]\nof = "sensor"\nname = "my bead"\nsource = "its sheet"\n\n[settings]\nr25_ohm = 100000\nbeta_k = 3990\n'


@pytest.fixture
def machine(tmp_path: Path) -> Path:
    file = tmp_path / "m.toml"
    file.write_text(machine_path("tern-280").read_text(encoding="utf-8"), encoding="utf-8")
    return file


def test_every_shipped_part_can_be_used_and_is_called_by_its_own_words(machine: Path) -> None:
    parts = parts_for(machine.parent)
    files = [*(DATA / "parts").glob("*.toml"), *(DATA / "mounts").glob("*.toml")]
    assert not parts.broken and len(parts.known) == len(files) >= 15
    kinds = {one.part.of for one in parts.known.values()}
    assert kinds == {"sensor", "hotend", "axis drive", "extruder drive", "motor", "probe mount"}
    assert all(one.part.source for one in parts.known.values())


@pytest.mark.parametrize(
    ("name", "table", "expected"),
    [
        ("bead-4092", "sensors.hotend", {"sensors.hotend.beta_k": 4092}),
        ("metal-throat-50", "heaters.hotend", {"heaters.hotend.limits.throat.celsius": 320}),
        ("belt-2-16", "axes.x", {"axes.x.pulley_teeth": 16}),
        ("motor-fine", "axes.y.motors.b", {"axes.y.motors.b.step_angle_deg": 0.9}),
        ("motor-flat", "extruder.motor", {"extruder.motor.run_a": 0.7}),
        ("tube-1", "extruder", {"extruder.gear_ratio": 1}),
    ],
)
def test_a_part_gives_its_numbers_and_says_whose_they_are(
    machine: Path, name: str, table: str, expected: dict[str, float]
) -> None:
    draft = Draft(Document(machine))
    one = parts_for(machine.parent).known[name]
    take_part(draft, one, table)
    assert all(draft.given(path) == value for path, value in expected.items())
    assert draft.given(f"{table}.numbers_from") == one.part.name
    if not draft.checked.errors:  # both belts of a CoreXY must be alike
        draft.write()
        assert "numbers_from" not in check_report(machine, False)[0]
    assert draft.undo() and draft.given(f"{table}.numbers_from") is None


def test_numbers_that_were_changed_since_are_held_against_the_part(machine: Path) -> None:
    draft = Draft(Document(machine))
    take_part(draft, parts_for(machine.parent).known["bead-4092"], "sensors.hotend")
    draft.set("sensors.hotend.beta_k", 4110)
    assert not draft.checked.problems, "within what the part may be off"
    draft.set("sensors.hotend.beta_k", 4200)
    (problem,) = draft.checked.problems
    assert problem.severity == "warning" and "4092, by the part “cartridge bead" in problem.allowed
    draft.set("sensors.hotend.numbers_from", "nobody's")
    (unknown,) = draft.checked.problems
    assert "which no file describes" in unknown.found and "glass bead, beta 3950" in unknown.allowed
    draft.set("sensors.hotend.numbers_from", "fine motor, 0.9°")
    assert "of the kind motor" in draft.checked.problems[0].found


def test_a_mounts_offset_is_by_the_part_until_it_is_measured(machine: Path, folder: Path) -> None:
    draft = Draft(Document(machine))
    take_part(draft, parts_for(machine.parent).known["rear-arm-long"], "probe")
    assert (draft.given("probe.offset_y_mm"), draft.given("probe.offset_from")) == (41.5, "part")
    (problem,) = [each for each in draft.checked.problems if each.key == "probe.offset_from"]
    assert problem.severity == "warning" and "not measured: right within 1 mm" in problem.found
    assert happened(["probe.part.name", "probe.offset_x_mm"]) == (("probe", ""),)
    code, report = run("probe-place", folder, RIGHT, edits={"probe.offset_from": "part"})
    assert code == 0 and ("probe.offset_from", "measured") in [(p["setting"], p["after"]) for p in report["proposals"]]


def test_taking_a_mount_makes_stale_what_rests_on_the_probe(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            session = rig.session
            take_part(session.draft, parts_for(folder).known["rear-arm-long"], "probe")
            session.write_draft()
            assert [fact.kind for fact in session.ledger.facts_in_force()] == ["probe"]

    virtually(work)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("nonsense =", "TOML"),
        ("[settings]\nbeta_k = 3950\n", "no table [part]"),
        (BEAD.replace('"sensor"', '"wheel"'), "part.of: found 'wheel', allowed: sensor"),
        (BEAD.replace('"my bead"', '""'), "part.name: found ''"),
        (BEAD.replace("beta_k = 3990", "beta_k = 12"), "settings.beta_k: found 12"),
        (BEAD.replace("beta_k = 3990", 'socket = "T1"'), "where it sits in a machine"),
        (BEAD.replace("beta_k = 3990", "watts = 50"), "a key that [sensors.*] does not have"),
        (BEAD + "\n[uncertain]\nr0_ohm = 3\n", "uncertain.r0_ohm"),
        (BEAD.partition("[settings]")[0], "no numbers"),
        ('[probe.part]\nname = "x"\noffset_x_mm = 1\n', "no 'offset_y_mm'"),
        ('[probe.part]\nname = "x"\noffset_x_mm = 1\noffset_y_mm = 9e9\n', "offset_y_mm: found"),
    ],
)
def test_a_file_that_is_no_part_is_named_with_what_is_allowed(text: str, words: str) -> None:
    with pytest.raises(PartFileError) as error:
        part_from(text)
    assert words in str(error.value)


def test_a_nearer_file_counts_and_two_of_one_name_are_both_left_out(machine: Path) -> None:
    own = machine.parent / "parts"
    own.mkdir()
    (own / "bead.toml").write_text(BEAD.replace("my bead", "glass bead, beta 3950"), encoding="utf-8")
    parts = parts_for(machine.parent)
    assert parts.named("glass bead, beta 3950").part.settings["beta_k"] == 3990 and not parts.broken  # type: ignore[union-attr]
    (own / "again.toml").write_text(BEAD.replace("my bead", "glass bead, beta 3950"), encoding="utf-8")
    (own / "binary.toml").write_bytes(b"\xff\xfe\x00")
    parts = parts_for(machine.parent)
    assert any("both called “glass bead, beta 3950”" in words for words in parts.broken)
    assert any("binary.toml" in words and "UTF-8" in words for words in parts.broken)
    assert parts.named("glass bead, beta 3950").part.settings["beta_k"] == 3950, "the shipped one is left"  # type: ignore[union-attr]


def test_a_part_for_another_table_or_for_none_is_refused(machine: Path) -> None:
    draft, known = Draft(Document(machine)), parts_for(machine.parent).known
    with pytest.raises(
        PartFileError, match=r"a part for \[axes.\*.motors.\*\] or \[extruder.motor\], not for \[axes.x\]"
    ):
        take_part(draft, known["motor-fine"], "axes.x")
    with pytest.raises(PartFileError, match=r"no table \[sensors.oven\]"):
        take_part(draft, known["bead-3950"], "sensors.oven")
    assert not draft.dirty
