"""Kinematics: motors from axes and back, forces, and a third one that nobody has built a planner for."""

from __future__ import annotations

import pytest

from ublet.core.motion.kinematics import KINDS, Kinematics, kinematics_of

MOTORS = {"x": ["a"], "y": ["b"], "z": ["left", "right", "back"]}


def test_a_corexy_by_the_handbook() -> None:
    corexy = kinematics_of("corexy", MOTORS)
    assert corexy.of_axes({"x": 10.0}) == {"a": 10, "b": 10} and corexy.of_axes({"y": 10.0}) == {"a": 10, "b": -10}
    assert corexy.of_axes({"x": 10.0, "y": 10.0}) == {"a": 20}, "a diagonal turns one motor at the sum of both"
    assert corexy.of_motors({"a": 10.0}) == pytest.approx({"x": 5, "y": 5})
    assert corexy.of_motors({"a": 3.0, "b": 7.0}) == pytest.approx({"x": 5, "y": -2})
    assert corexy.axes_of("a") == ("x", "y") and corexy.axes_of("left") == ("z",)


def test_one_belt_gives_all_the_force_of_a_diagonal() -> None:
    corexy = kinematics_of("corexy", MOTORS)
    forces = corexy.forces({"x": 8.0})
    assert (forces["a"], forces["b"]) == pytest.approx((4, 4)), "along an axis both share"
    forces = corexy.forces({"x": 8.0, "y": 8.0})
    assert (forces["a"], forces["b"]) == pytest.approx((8, 0))
    forces = corexy.forces({"x": 8.0, "y": -5.0})
    assert (forces["a"], forces["b"]) == pytest.approx((1.5, 6.5))


@pytest.mark.parametrize("kind", KINDS)
def test_lifts_carry_by_their_mean_and_share_the_load(kind: str) -> None:
    built = kinematics_of(kind, MOTORS)
    assert built.of_motors({"left": 3.0}) == pytest.approx({"z": 1.0})
    assert built.of_axes({"z": 2.0}) == {"left": 2, "right": 2, "back": 2}
    assert built.forces({"z": 9.0})["back"] == pytest.approx(3)
    assert all(built.of_motors(built.of_axes({axis: 4.0})) == pytest.approx({axis: 4.0}) for axis in "xyz")


def test_power_is_the_same_at_motors_and_axes() -> None:
    """Virtual work: force times travel, for any load and any travel that the motors can make."""
    corexy = kinematics_of("corexy", MOTORS)
    travel, load = {"x": 3.0, "y": -1.5, "z": 0.7}, {"x": 5.0, "y": 2.0, "z": 11.0}
    forces, motors = corexy.forces(load), corexy.of_axes(travel)
    at_axes = sum(load[axis] * travel[axis] for axis in "xyz")
    assert sum(forces[name] * motors.get(name, 0.0) for name in forces) == pytest.approx(at_axes)


def test_a_third_kinematics_is_a_table() -> None:
    """Z carried by the same belts as X, as some build it."""
    built = Kinematics(("a", "b", "y"), ((1.0, 0.0, 1.0), (1.0, 0.0, -1.0), (0.0, 1.0, 0.0)))
    assert built.of_axes({"z": 4.0}) == {"a": 4, "b": -4} and built.axes_of("a") == ("x", "z")
    assert built.of_motors({"a": 2.0, "b": 2.0, "y": 1.0}) == pytest.approx({"x": 2, "y": 1})
