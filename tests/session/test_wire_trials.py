"""The leg Wire on the simulated board: every planted fault is named and mended by its proposal, none invented."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

from ublet.core.machine.edit import edited
from ublet.core.settings import Value
from ublet.session.headless import run_on_scenario
from ublet.session.library import DEMOS, machine_path, scenario_path
from ublet.session.orders import order_for

TERN = scenario_path("tern-280").read_text(encoding="utf-8")
RIGHT = (
    TERN.replace('[switches.x]\nsocket = "I2"', '[switches.x]\nsocket = "I1"')
    .replace('[switches.y]\nsocket = "I1"', '[switches.y]\nsocket = "I2"')
    .replace('socket = "I3"\nnormally_closed = true', 'socket = "I3"\nnormally_closed = false')
    .replace('F2 = "board"\nF3 = "hotend"', "")
    .replace("turn_mm = 40\nreversed = true", "turn_mm = 40")
    .replace('"z.back"\n', '"z.right"\n', 1)
    .replace('[motors.M5]\nrole = "z.right"', '[motors.M5]\nrole = "z.back"')
    .replace("turn_mm = 8", "turn_mm = 4")
    .replace("at_mm = -5.2", "at_mm = -4")
    .replace("low_mm = -9\n", "")
)

ALL = ("inputs-by-hand", "heaters-paired", "fans-one-by-one", "motors-one-by-one", "directions")


def run(
    trial: str, tmp_path: Path, text: str, *words: str, seed: int = 1, edits: Mapping[str, Value] | None = None
) -> tuple[int, dict[str, Any]]:
    """As the command runs a trial: exit code and JSON; a word KEY=VALUE sets a parameter. edits: of the machine
    file.
    """
    for name in ("machines", "scenarios"):
        (tmp_path / name).mkdir(exist_ok=True)
    for stem in DEMOS.values():
        machine = edited(machine_path(stem).read_text(encoding="utf-8"), edits or {})
        (tmp_path / "machines" / f"{stem}.toml").write_text(machine, encoding="utf-8")
    scenario = tmp_path / "scenarios" / "s.toml"
    scenario.write_text(text, encoding="utf-8")
    order = order_for(trial, [word for word in words if "=" in word], "--keep" in words, "--save" in words)
    done = run_on_scenario(order, scenario, None, seed, lambda progress: None)
    return {"proven": 0, "failed": 1, "halted": 4}[done.outcome], done.report


@pytest.mark.parametrize("trial", ALL)
def test_a_machine_that_is_right_is_proven_and_nothing_is_proposed(trial: str, tmp_path: Path) -> None:
    code, report = run(trial, tmp_path, RIGHT)
    assert (code, report["outcome"], report["proposals"]) == (0, "proven", [])


X, PROBE = '"I1"\nnormally_closed = true', '"I3"\nnormally_closed = false'
HEATERS, CROSSED_HEATERS = 'H1 = "hotend"\nH2 = "bed"', 'H1 = "bed"\nH2 = "hotend"'
T1, T2 = "[sensors.T1]\nplant = ", "[sensors.T2]\nplant = "
CROSSED_SENSORS = [(f'{T1}"hotend"', f'{T1}"bed"'), (f'{T2}"bed"', f'{T2}"hotend"')]
BED_CURVE = "r25_ohm = 100000\nbeta_k = 3950"
M1 = '[motors.M1]\nrole = "x.a"\n'
M2 = '[motors.M2]\nrole = "y.b"\n'
MOTORS, WAYS = "motors-one-by-one", "directions"
INPUTS, PAIRS, FANS = "inputs-by-hand", "heaters-paired", "fans-one-by-one"
FAULTS = [
    (INPUTS, [('[switches.x]\nsocket = "I1"', '[switches.x]\nsocket = "I4"')], "X endstop reads triggered", False),
    (INPUTS, [(X, X.replace("true", "false"))], "inverted", True),
    (INPUTS, [(X, f'{X}\nfault = "broken-wire"')], "broken wire", False),
    (INPUTS, [(X.replace("I1", "I2"), f'{X.replace("I1", "I2")}\nfault = "stuck"')], "never changes", False),
    (INPUTS, [(PROBE, f'{PROBE}\nfault = "pin-stuck"')], "probe was not", False),
    (INPUTS, [(PROBE, PROBE.replace("I3", "I1")), (X, X.replace("I1", "I3"))], "X endstop moved the probe", True),
    (PAIRS, [(HEATERS, CROSSED_HEATERS)], "heaters' plugs are mixed up", True),
    (PAIRS, CROSSED_SENSORS, "sensors' plugs are mixed up", True),
    (
        PAIRS,
        [(HEATERS, CROSSED_HEATERS), *CROSSED_SENSORS],
        "Driving the hotend, the bed got warm. Driving the bed, the hotend got warm. The heaters' plugs are mixed up. "
        "The sensors' plugs are mixed up.",
        True,
    ),
    (PAIRS, [("power_w = 48", "power_w = 0")], "hotend warmed no sensor", False),
    (PAIRS, [(BED_CURVE, BED_CURVE.replace("100000", "10000"))], "bed sensor reads", False),
    (
        INPUTS,  # all three go round, and what sits at each socket then is of the other kind than declared there
        [
            (X, '"I2"\nnormally_closed = true'),
            ('[switches.y]\nsocket = "I2"', '[switches.y]\nsocket = "I3"'),
            (PROBE, PROBE.replace("I3", "I1")),
        ],
        "Pressing the X endstop moved the Y endstop. Pressing the Y endstop moved the probe. Pressing the probe moved "
        "the X endstop.",
        True,
    ),
    (
        FANS,
        [('F1 = "part"\n', 'F1 = "hotend"\nF2 = "part"\n')],
        "The part fan was switched on, and the hotend fan turned instead",
        True,
    ),
    (FANS, [('F1 = "part"\n', 'F1 = "spare"\n')], "The part fan does not turn", False),
    (MOTORS, [(M2, f"{M2}open = true\n")], "Nothing turned for Y b", False),
    (MOTORS, [(M2, f"{M2}least_a = 1.5\n")], "Nothing turned for Y b", False),
    (
        MOTORS,
        [
            (f"{M1}knee_turns_s = 13\nturn_mm = 40\n", '[motors.M1]\nrole = "z.left"\nturn_mm = 4\n'),
            ('[motors.M3]\nrole = "z.left"', '[motors.M3]\nrole = "x.a"'),
        ],
        "X a was commanded",
        True,
    ),
    (WAYS, [(M2, f"{M2}reversed = true\n")], "Y b runs the wrong way", True),
    (
        WAYS,
        [(M1, f"{M1}reversed = true\n")],
        "X a runs the wrong way",
        True,
    ),
    (WAYS, [(M2, M2.replace("y.b", "x.a")), (M1, M1.replace("x.a", "y.b"))], "X a and Y b are exchanged", True),
    (WAYS, [(M2, f"{M2}open = true\n")], "diagonally", False),
]


@pytest.mark.parametrize(("trial", "planted", "words", "mended"), FAULTS)
def test_a_planted_fault_is_named_and_mended_by_its_proposal(
    trial: str, planted: list[tuple[str, str]], words: str, mended: bool, tmp_path: Path
) -> None:
    text = RIGHT
    for before, after in planted:
        assert before in text
        text = text.replace(before, after, 1)
    code, report = run(trial, tmp_path, text)
    assert (code, report["outcome"]) == (1, "failed") and words in str(report["why"])
    assert bool(report["proposals"]) is mended
    if mended:
        code, report = run(trial, tmp_path, text, "--keep", "--save")
        assert (code, report["outcome"]) == (0, "proven") and report["saved"] == len(report["proposals"])


def test_the_demo_machine_is_found_out_and_mended(tmp_path: Path) -> None:
    code, report = run("inputs-by-hand", tmp_path, TERN, "--keep")
    settings = {p["setting"]: p["after"] for p in report["proposals"]}
    assert code == 0
    assert settings == {"endstops.x.socket": "I2", "endstops.y.socket": "I1", "probe.normally_closed": True}
    code, report = run("fans-one-by-one", tmp_path, TERN, "--keep")
    assert code == 0 and {p["after"] for p in report["proposals"]} == {"F2", "F3"}


def test_plugs_of_the_bed_and_of_its_surface_that_are_mixed_up_are_told(tmp_path: Path) -> None:
    lower, upper = '[sensors.T2]\nplant = "bed"', '[sensors.T3]\nplant = "bed"\nat = "surface"'
    assert lower in RIGHT and upper in RIGHT
    text = RIGHT.replace(upper, "[sensors.T3]\nplant = bed").replace(lower, f"{lower}\nat = 'surface'")
    code, report = run("heaters-paired", tmp_path, text.replace("plant = bed", 'plant = "bed"'))
    assert code == 1 and "Driving the bed warmed the plate sensor" in report["why"]
