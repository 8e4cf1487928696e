"""Pairing: which sensor stands out, and who was exchanged with whom."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.heat.pairing import Warmed, exchange, odd_sensors
from ublet.core.mixed_up import cycles


@pytest.mark.parametrize(
    ("rises", "sensor"),
    [
        ({"hotend": 4.0, "bed": 0.1}, "hotend"),
        ({"hotend": -1.0, "bed": 2.0}, "bed"),
        ({"hotend": 1.0, "bed": 0.0}, None),
        ({"hotend": 4.0, "bed": 3.0}, None),
        ({"only": 2.0}, "only"),
        ({}, None),
    ],
)
def test_the_sensor_that_stands_out(rises: dict[str, float], sensor: str | None) -> None:
    assert Warmed("hotend", rises).sensor == sensor


@given(st.permutations(["a", "b", "c", "d"]))
def test_the_mend_of_any_mix_up_is_its_inverse(mixed: list[str]) -> None:
    names = ["a", "b", "c", "d"]
    sockets = {name: f"S{number}" for number, name in enumerate(names)}
    really_at = {part: sockets[name] for name, part in zip(names, mixed, strict=True)}  # told `name`, `part` answers
    found: dict[str, str | None] = dict(zip(names, mixed, strict=True))
    wrong = cycles(found, {name: name for name in names})
    parts = {seen: name for name, seen in wrong.items()}
    after = {**sockets, **{p.setting.split(".")[1]: p.after for p in exchange(parts, "fans", sockets, "{}")}}
    assert after == really_at


def test_an_answer_that_is_nobodys_has_no_mend() -> None:
    assert cycles({"a": "b", "b": "b"}, {"a": "a", "b": "b"}) == {}
    assert cycles({"a": None, "b": "a"}, {"a": "a", "b": "b"}) == {}


def test_sensors_that_cannot_be_believed() -> None:
    odd = odd_sensors({"hotend": None, "bed": 60.0, "room": 22.0}, 21.0, 5.0)
    assert set(odd) == {"hotend", "bed"} and "60 °C where the room has about 21" in odd["bed"]
    assert odd_sensors({"hotend": 23.0, "bed": 22.0}, None, 5.0) == {}
