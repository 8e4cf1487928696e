"""One endstop for each lift: homing brings every lift to its own, and so the bed square."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.session.test_wire_trials import RIGHT, run
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import edited
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.session.library import boards, machine_path
from ublet.simulated import SimulatedMachine
from ublet.world.scenario import parse_scenario

LIFTS = {"left": "I4", "right": "I5", "back": "I6"}
EDITS: dict[str, Value] = {"axes.z.homing.end": "low"}
for lift, socket in LIFTS.items():
    EDITS |= {f"endstops.z{lift}.socket": socket, f"axes.z.motors.{lift}.endstop": f"z{lift}"}
AT = {"left": 0.1, "right": -0.2, "back": 0.05}
SWITCHES = "".join(
    f'\n[switches.z{lift}]\nsocket = "{socket}"\nlift = "z.{lift}"\nat_mm = {AT[lift]}\nspread_mm = 0.002\n'
    for lift, socket in LIFTS.items()
)


def declared(more: dict[str, Value] | None = None) -> MachineFile:
    text = edited(machine_path("tern-280").read_text(encoding="utf-8"), {**EDITS, **(more or {})})
    checked = check_text(text, boards())
    assert checked.machine is not None, [problem.sentence("m") for problem in checked.problems]
    return checked.machine


def homed(scenario: str, more: dict[str, Value] | None = None) -> tuple[str, dict[str, float], float | None]:
    """Why Z did not find its ends, how wide the gap is at each lift then, and where Z is called to be."""
    simulated = SimulatedMachine(parse_scenario(scenario), declared(more), lambda: 0.0)
    board, world = simulated.board, simulated.world
    board.note_host()
    board.mover.home("z")
    for _ in range(4000):
        board.note_host()
        board.tick()
        if not board.mover.moving:
            break
    why, _ = board.mover.home_results["z"]
    gaps = {name: world.mechanics.where["z"] + world.bed.lifts_mm[f"z.{name}"] for name in LIFTS}
    return why, gaps, board.mover.position["z"]


def test_every_lift_comes_to_its_own_end_however_far_apart_they_stood() -> None:
    why, gaps, z = homed(RIGHT + SWITCHES)
    assert why == "" and z == -2.0
    for name, at in AT.items():
        assert gaps[name] == pytest.approx(at, abs=0.03), "play, and the switch's own spread"


def test_it_goes_from_its_end_as_far_as_the_setting_says() -> None:
    _, before, _ = homed(RIGHT + SWITCHES)
    _, after, _ = homed(RIGHT + SWITCHES, {"axes.z.motors.right.endstop_off_mm": 0.3})
    assert after["right"] - before["right"] == pytest.approx(0.3, abs=0.03)
    assert after["left"] == pytest.approx(before["left"], abs=0.02)


@pytest.mark.parametrize(
    ("fault", "words"),
    [
        ('fault = "stuck"\n', "the endstop of the lift back did not trigger within 20 mm"),
        ('fault = "broken-wire"\n', "the endstop of back reads triggered and stays so"),
    ],
)
def test_what_keeps_a_lift_from_its_end_is_named(fault: str, words: str) -> None:
    assert words in homed(RIGHT + SWITCHES + fault)[0]


def test_squared_by_the_probe_the_ends_are_moved_so_that_homing_keeps_it(folder: Path) -> None:
    code, report = run("lead-screws", folder, RIGHT + SWITCHES, edits=EDITS)
    after = {p["setting"].split(".")[3]: p["after"] for p in report["proposals"]}
    assert code == 0 and set(after) == set(LIFTS), report["why"]
    more: dict[str, Value] = {f"axes.z.motors.{name}.endstop_off_mm": mm for name, mm in after.items()}
    gaps = homed(RIGHT + SWITCHES, more)[1]
    assert max(gaps.values()) - min(gaps.values()) < 0.1 < max(AT.values()) - min(AT.values())
    again = run("lead-screws", folder, RIGHT + SWITCHES, edits={**EDITS, **more})[1]
    before = next(f["value"] for f in again["findings"] if f["id"] == "range_before")
    assert before < 0.1, "homed it was square already"


@pytest.mark.parametrize(
    ("more", "key", "words"),
    [
        ({"axes.z.homing.end": "probe"}, "axes.z.homing.endstop", "Leave it out"),
        ({"axes.x.motors.a.endstop": "zleft"}, "axes.x.motors.a.endstop", "only lifts of Z"),
        ({"axes.z.motors.back.endstop": None}, "axes.z.motors.back.endstop", "as the others have"),
    ],
)
def test_contradictions_are_named(more: dict[str, Value], key: str, words: str) -> None:
    text = edited(machine_path("tern-280").read_text(encoding="utf-8"), {**EDITS, **more})
    wrong = [problem for problem in check_text(text, boards()).errors if problem.key == key]
    assert wrong and any(words in f"{problem.allowed} {problem.mend}" for problem in wrong)


def test_each_of_them_is_pressed_by_hand(folder: Path) -> None:
    code, report = run("inputs-by-hand", folder, RIGHT + SWITCHES, edits=EDITS)
    assert code == 0 and "6 inputs follow the hand" in report["why"]
