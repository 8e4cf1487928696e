"""Declarations: everything derives from them."""

from __future__ import annotations

import pytest

from ublet.core.machine.schema import SETTINGS
from ublet.core.settings import find, flatten, refusal


def test_every_setting_has_help_and_an_allowed_range_in_words() -> None:
    for declared in SETTINGS:
        assert declared.help.endswith("."), declared.path
        assert declared.allowed(), declared.path


def test_a_named_part_is_found_by_its_concrete_path() -> None:
    declared = find(SETTINGS, "heaters.hotend.maximum_c")
    assert declared is not None
    assert (declared.unit, declared.low, declared.high, declared.required) == ("°C", 40, 500, True)
    assert declared.allowed() == "40 to 500 °C"
    assert find(SETTINGS, "heaters.hotend.nothing") is None


@pytest.mark.parametrize(
    ("path", "value", "good"),
    [
        ("heaters.hotend.kp", 0.1, True),
        ("heaters.hotend.kp", 1, True),
        ("heaters.hotend.kp", -0.1, False),
        ("heaters.hotend.kp", float("nan"), False),
        ("heaters.hotend.kp", True, False),
        ("heaters.hotend.kp", "0.1", False),
        ("heaters.hotend.part", "bed", True),
        ("heaters.hotend.part", "door", False),
        ("board.baud", 115200.5, False),
        ("no.such", 1, False),
    ],
)
def test_refusals(path: str, value: object, good: bool) -> None:
    assert (refusal(SETTINGS, path, value) is None) is good  # type: ignore[arg-type]


def test_flatten_names_by_dotted_path() -> None:
    assert flatten({"a": {"b": 1, "c": {"d": "x"}}, "e": None}) == {"a.b": 1, "a.c.d": "x", "e": None}
