"""A third kinematics, as data: a head on two belts in X and Z over a bed in Y, through Wire, Move and Shake."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from ublet.benchmark.layers import on_made_up
from ublet.core.catalogue import TRIALS
from ublet.core.run import TrialResult
from ublet.session.headless import Looking
from ublet.session.library import machine_path, scenario_path
from ublet.session.session import Session

Z_BY_BELTS = """\
[axes.z]
minimum_mm = -1
maximum_mm = 170
drive = "belt"
belt_pitch_mm = 2
pulley_teeth = 16
maximum_feed_mm_s = 120
acceleration_mm_s2 = 1000
jerk_mm_s = 5

"""


def made(folder: Path, motors: str = "") -> Path:
    """A machine file and its scenario in a folder; motors: tables of the scenario, as they really are."""
    machine = machine_path("wren-180").read_text(encoding="utf-8")
    machine = machine.replace('kinematics = "cartesian"', 'kinematics = "belts-xz"')
    start, end = machine.index("[axes.z]\n"), machine.index("[axes.z.homing]")
    machine = machine[:start] + Z_BY_BELTS + machine[end:]
    machine = machine.replace("order = 3\nfast_mm_s = 4\nslow_mm_s = 0.8", "order = 3\nfast_mm_s = 25\nslow_mm_s = 4")
    scenario = scenario_path("wren-180").read_text(encoding="utf-8")
    scenario = scenario.replace("../machines/wren-180.toml", "belts-xz.machine.toml")
    (folder / "belts-xz.machine.toml").write_text(machine, encoding="utf-8")
    path = folder / "belts-xz.toml"
    path.write_text(scenario + motors, encoding="utf-8")
    return path


def walked(path: Path, *trials: str, seed: int = 3) -> dict[str, tuple[TrialResult, dict[str, float]]]:
    """Trials one after the other, what each proposes kept: their results, and the truth."""
    done: dict[str, tuple[TrialResult, dict[str, float]]] = {}

    async def walk(session: Session, watcher: Looking) -> None:
        for name in trials:
            spec = TRIALS[name]
            aim: Any = spec.parameters()
            entered = await session.run(spec, aim, watcher)
            result = entered.ran.result
            done[name] = result, watcher.truth(spec, aim)
            if result.choice is not None and result.proposals:
                await session.keep(result.choice, entered.number)

    on_made_up(path, seed, walk)
    return done


def test_wire_and_move_are_proven_on_it(tmp_path: Path) -> None:
    wire = ("inputs-by-hand", "heaters-paired", "fans-one-by-one", "motors-one-by-one", "directions")
    move = ("homing", "travel-limits", "steps-per-mm", "driver-current")
    done = walked(made(tmp_path), *wire, *move[:3], "speed-limits", move[3])
    limits, _ = done.pop("speed-limits")
    assert "X and Z share their motors: this holds along the diagonals" in limits.why
    assert {p.setting for p in limits.proposals} >= {"axes.x.maximum_feed_mm_s", "axes.z.maximum_feed_mm_s"}
    assert {name: result.outcome for name, (result, _) in done.items()} == dict.fromkeys((*wire, *move), "proven")
    steps, truth = done["steps-per-mm"]
    assert "X and Z: leave it" in steps.why, "two belts carry both: they are judged together"
    for finding in steps.findings:
        if finding.uncertainty and finding.id in truth:
            assert abs(finding.value - truth[finding.id]) <= 3 * finding.uncertainty, finding.id
    assert "X and Z need" in done["driver-current"][0].why and "Y needs" in done["driver-current"][0].why


@pytest.mark.parametrize(
    ("motors", "mends"),
    [
        ('\n[motors.MA]\nrole = "x.x"\nturn_mm = 32\nreversed = true\n', {"axes.x.motors.x.reversed"}),
        (
            '\n[motors.MA]\nrole = "z.z"\nturn_mm = 32\n\n[motors.MC]\nrole = "x.x"\nturn_mm = 32\n',
            {"axes.x.motors.x.socket", "axes.z.motors.z.socket"},
        ),
    ],
)
def test_a_motor_reversed_or_exchanged_looks_as_its_layout_says(motors: str, mends: set[str], tmp_path: Path) -> None:
    done = walked(made(tmp_path, motors), "directions", "homing")
    result, _ = done["directions"]
    assert result.outcome == "failed" and {p.setting for p in result.proposals} == mends
    assert done["homing"][0].outcome == "proven", "what was proposed and kept mends it"


def test_it_is_shaken_along_its_axes(tmp_path: Path) -> None:
    done = walked(made(tmp_path), "accelerometer-turned", "accelerometer-at-rest", "resonance")
    result, truth = done["resonance"]
    assert result.outcome == "proven"
    for axis in ("x", "y"):
        frequency = result.finding("frequency", axis=axis, mode="main")
        assert frequency is not None and frequency.uncertainty
        assert abs(frequency.value - truth[frequency.id]) <= 3 * frequency.uncertainty
    belts, _ = walked(made(tmp_path), "belts")["belts"]
    assert belts.outcome == "failed" and "belt of its own" in belts.why
