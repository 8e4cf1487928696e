"""Kinematics: motors from axes and back, forces, and a third one that nobody has built a planner for."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import ublet
from ublet.core.machine.layouts import LAYOUTS, Layout
from ublet.core.motion.kinematics import kinematics_of

MOTORS = {"x": ["a"], "y": ["b"], "z": ["left", "right", "back"]}


def test_a_corexy_by_the_handbook() -> None:
    corexy = kinematics_of(LAYOUTS["corexy"], MOTORS)
    assert corexy.of_axes({"x": 10.0}) == {"a": 10, "b": 10} and corexy.of_axes({"y": 10.0}) == {"a": 10, "b": -10}
    assert corexy.of_axes({"x": 10.0, "y": 10.0}) == {"a": 20}, "a diagonal turns one motor at the sum of both"
    assert corexy.of_motors({"a": 10.0}) == pytest.approx({"x": 5, "y": 5})
    assert corexy.of_motors({"a": 3.0, "b": 7.0}) == pytest.approx({"x": 5, "y": -2})
    assert corexy.axes_of("a") == ("x", "y") and corexy.axes_of("left") == ("z",)


def test_one_belt_gives_all_the_force_of_a_diagonal() -> None:
    corexy = kinematics_of(LAYOUTS["corexy"], MOTORS)
    forces = corexy.forces({"x": 8.0})
    assert (forces["a"], forces["b"]) == pytest.approx((4, 4)), "along an axis both share"
    forces = corexy.forces({"x": 8.0, "y": 8.0})
    assert (forces["a"], forces["b"]) == pytest.approx((8, 0))
    forces = corexy.forces({"x": 8.0, "y": -5.0})
    assert (forces["a"], forces["b"]) == pytest.approx((1.5, 6.5))


@pytest.mark.parametrize("kind", [name for name, layout in LAYOUTS.items() if "z" not in layout.shared])
def test_lifts_carry_by_their_mean_and_share_the_load(kind: str) -> None:
    built = kinematics_of(LAYOUTS[kind], MOTORS)
    assert built.of_motors({"left": 3.0}) == pytest.approx({"z": 1.0})
    assert built.of_axes({"z": 2.0}) == {"left": 2, "right": 2, "back": 2}
    assert built.forces({"z": 9.0})["back"] == pytest.approx(3)
    assert all(built.of_motors(built.of_axes({axis: 4.0})) == pytest.approx({axis: 4.0}) for axis in "xyz")


def test_power_is_the_same_at_motors_and_axes() -> None:
    """Virtual work: force times travel, for any load and any travel that the motors can make."""
    corexy = kinematics_of(LAYOUTS["corexy"], MOTORS)
    travel, load = {"x": 3.0, "y": -1.5, "z": 0.7}, {"x": 5.0, "y": 2.0, "z": 11.0}
    forces, motors = corexy.forces(load), corexy.of_axes(travel)
    at_axes = sum(load[axis] * travel[axis] for axis in "xyz")
    assert sum(forces[name] * motors.get(name, 0.0) for name in forces) == pytest.approx(at_axes)


BELTS_XZ = LAYOUTS["belts-xz"]
"""The head on two belts in X and Z, the bed in Y: a third layout, as data."""


def test_a_third_layout_is_data() -> None:
    built = kinematics_of(BELTS_XZ, {"x": ["a"], "y": ["bed"], "z": ["b"]})
    assert built.of_axes({"z": 4.0}) == {"a": 4, "b": -4} and built.axes_of("a") == ("x", "z")
    assert built.of_axes({"y": 3.0}) == {"bed": 3}
    assert built.of_motors({"a": 2.0, "b": 2.0, "bed": 1.0}) == pytest.approx({"x": 2, "y": 1})
    assert built.forces({"x": 8.0, "z": 8.0})["a"] == pytest.approx(8)


@pytest.mark.parametrize(
    ("layout", "shared"), [(LAYOUTS["cartesian"], ()), (LAYOUTS["corexy"], ("x", "y")), (BELTS_XZ, ("x", "z"))]
)
def test_what_depends_on_the_kinematics_asks_the_layout(layout: Layout, shared: tuple[str, ...]) -> None:
    assert layout.shared == shared
    groups = layout.groups(("x", "y", "z"))
    assert sorted(axis for group in groups for axis in group) == ["x", "y", "z"]
    for axis in "xyz":
        assert layout.carried_with(axis) == next(group for group in groups if axis in group)
        assert layout.groups((axis,)) == (layout.carried_with(axis),)
        assert layout.most_motors(axis) == (1 if axis in shared else 4 if axis == "z" else 2)


def test_no_code_outside_the_layouts_compares_the_kinematics_word() -> None:
    source = Path(ublet.__file__).parent
    words = re.compile(r"""kinematics\s*(==|!=|in)\s*|["']corexy["']""")
    found = [
        f"{file.relative_to(source)}: {line.strip()}"
        for file in source.rglob("*.py")
        for line in file.read_text(encoding="utf-8").splitlines()
        if words.search(line) and file.name not in ("layouts.py", "schema.py") and "benchmark" not in file.parts
    ]
    assert found == []
