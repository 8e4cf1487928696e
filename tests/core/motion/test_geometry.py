"""Steps per millimetre from geometry, against figures worked out by hand."""

from __future__ import annotations

import math

import pytest

from tests.conftest import tern
from ublet.core.motion.geometry import (
    axis_steps_per_mm,
    belt_steps_per_mm,
    extruder_steps_per_mm,
    screw_steps_per_mm,
    steps_per_turn,
)


@pytest.mark.parametrize(
    ("angle", "microsteps", "turn"), [(1.8, 16, 3200), (0.9, 16, 6400), (1.8, 256, 51200), (7.5, 1, 48)]
)
def test_steps_in_a_turn(angle: float, microsteps: int, turn: float) -> None:
    assert steps_per_turn(angle, microsteps) == pytest.approx(turn, rel=1e-12)


@pytest.mark.parametrize(
    ("pitch", "teeth", "gear", "steps"), [(2, 20, 1, 80), (2, 16, 1, 100), (3, 20, 1, 53.3333333), (2, 20, 3, 240)]
)
def test_belts(pitch: float, teeth: int, gear: float, steps: float) -> None:
    assert belt_steps_per_mm(3200, pitch, teeth, gear) == pytest.approx(steps, rel=1e-6)


@pytest.mark.parametrize(("lead", "steps"), [(8, 400), (4, 800), (2, 1600), (1.25, 2560)])
def test_screws(lead: float, steps: float) -> None:
    assert screw_steps_per_mm(3200, lead) == pytest.approx(steps)


def test_the_demo_machine() -> None:
    machine = tern()
    motor = machine.axes.x.motors["a"]
    assert axis_steps_per_mm(machine.axes.x, motor) == pytest.approx(160)
    assert axis_steps_per_mm(machine.axes.z, machine.axes.z.motors["left"]) == pytest.approx(800)
    assert machine.extruder is not None
    assert extruder_steps_per_mm(machine.extruder) == pytest.approx(3200 * 3 / (math.pi * 11))
