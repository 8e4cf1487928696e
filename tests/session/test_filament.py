"""What sees the filament: proven by hand, and a print that is held and lifted when none comes, and goes on."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.session.test_wire_trials import RIGHT, run
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import edited
from ublet.core.settings import Value
from ublet.firmware.filament import OUT, STUCK, FilamentWatch
from ublet.session.library import boards, machine_path

SWITCH: dict[str, Value] = {"filament.kind": "switch", "filament.socket": "I4"}
WHEEL: dict[str, Value] = {**SWITCH, "filament.kind": "wheel"}
PLUGGED = '\n[switches.filament]\nsocket = "I4"\nnormally_closed = true\n'
TURNS = f"{PLUGGED}pulse_mm = 3\n"


def spool(text: str, mm: float) -> str:
    """The same machine with so much filament left."""
    return text.replace("\n[extruder]\n", f"\n[extruder]\nspool_mm = {mm}\n", 1)


@pytest.mark.parametrize(("declared", "there"), [(SWITCH, PLUGGED), (WHEEL, TURNS)])
def test_it_is_proven_by_hand(folder: Path, declared: dict[str, Value], there: str) -> None:
    code, report = run("inputs-by-hand", folder, RIGHT + there, edits=declared)
    assert code == 0 and "4 inputs follow the hand" in report["why"]


@pytest.mark.parametrize(
    ("declared", "there", "words"),
    [
        (SWITCH, PLUGGED.replace("= true", "= false"), "filament sensor reads triggered at rest"),
        (SWITCH, PLUGGED + 'fault = "broken-wire"\n', "filament sensor reads triggered and does not change"),
        (WHEEL, TURNS + 'fault = "stuck"\n', "filament sensor never changes"),
        (WHEEL, TURNS.replace("I4", "I6"), "filament sensor never changes"),
    ],
)
def test_what_is_wrong_with_it_is_named(folder: Path, declared: dict[str, Value], there: str, words: str) -> None:
    code, report = run("inputs-by-hand", folder, RIGHT + there, edits=declared)
    assert code == 1 and words in report["why"]


@pytest.mark.parametrize(("declared", "there"), [(SWITCH, PLUGGED), (WHEEL, TURNS)])
def test_a_print_is_held_while_new_filament_is_loaded_and_then_goes_on(
    folder: Path, declared: dict[str, Value], there: str
) -> None:
    edits: dict[str, Value] = {**declared, "filament.slack_mm": 4.0}
    code, report = run("test-piece", folder, spool(RIGHT, 12) + there, "printed=true", "side_mm=60", edits=edits)
    assert code == 0, report["why"]
    assert "It took" not in report["why"], "that it was held changed the time, which is not held against it"
    without = run("test-piece", folder, spool(RIGHT, 12), "printed=true", "side_mm=60")[1]
    assert "It took" in without["why"], "without a sensor nobody notices"


def test_a_wheel_that_stands_still_is_told_from_one_that_turns() -> None:
    state, pushed = (False, 10), [0.0]
    watch = FilamentWatch(lambda: state, lambda: pushed[0])
    watch.settled({"filament.kind": "wheel", "filament.slack_mm": 8.0})
    watch.begin()
    for mm in range(1, 9):
        pushed[0] = float(mm)
        assert watch.trouble() == ""
    pushed[0] = 8.5
    assert watch.trouble() == STUCK
    state = (True, 11)
    assert watch.trouble() == "", "it turned"
    watch.settled({"filament.kind": "switch"})
    assert watch.trouble() == OUT
    assert FilamentWatch(lambda: None, lambda: 1e9).trouble() == ""


def test_two_parts_at_its_socket_are_named() -> None:
    text = edited(machine_path("tern-280").read_text(encoding="utf-8"), {**SWITCH, "filament.socket": "I3"})
    (problem,) = check_text(text, boards()).errors
    assert problem.key == "probe.socket" and "filament.socket" in problem.found


def test_the_wheel_shows_the_flow_limit_and_nobody_reads_anything(folder: Path) -> None:
    turns = TURNS.replace("pulse_mm = 3", "pulse_mm = 1.5")
    code, report = run("flow-limit", folder, RIGHT + turns, "by=wheel", edits=WHEEL)
    limit = next(each for each in report["findings"] if each["id"] == "flow_limit.pla")
    true = report["truth"]["flow_limit.pla"]
    assert (
        code == 0
        and abs(limit["value"] - true) <= 2.5 * limit["uncertainty"]
        and limit["value"] == pytest.approx(true, rel=0.08)
    )


def test_without_a_wheel_or_with_one_that_stands_a_mark_is_the_way_out(folder: Path) -> None:
    _, none = run("flow-limit", folder, RIGHT, "by=wheel")
    assert none["outcome"] == "failed" and "no wheel" in none["why"] and any("mark" in way for way in none["ways_out"])
    _, stuck = run("flow-limit", folder, RIGHT + TURNS + 'fault = "stuck"\n', "by=wheel", edits=WHEEL)
    assert stuck["outcome"] == "failed" and "changed 0 times" in stuck["why"]
