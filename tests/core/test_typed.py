"""Values as people type them, read by the declaration of their setting; and as tables show them."""

from __future__ import annotations

import pytest

from ublet.core.machine.schema import SETTINGS
from ublet.core.settings import Value
from ublet.core.typed import shown_value, typed_value
from ublet.core.units import NotAQuantity


@pytest.mark.parametrize(
    ("path", "text", "value"),
    [
        ("axes.x.maximum_feed_mm_s", "15 m/min", 250.0),
        ("axes.x.acceleration_mm_s2", "3 m/s²", 3000.0),
        ("axes.z.homing.back_off_mm", "100thou", 2.54),
        ("axes.x.motors.a.run_a", "850 mA", 0.85),
        ("axes.x.motors.a.microsteps", "32", 32),
        ("sensors.bed.r25_ohm", "100k", 100_000.0),
        ("endstops.x.normally_closed", "No", False),
        ("machine.kinematics", "corexy", "corexy"),
        ("machine.note", "  two words ", "two words"),
    ],
)
def test_what_is_typed_is_read(path: str, text: str, value: Value) -> None:
    declared = SETTINGS.find(path)
    assert declared is not None and typed_value(declared, text) == value


@pytest.mark.parametrize(
    ("path", "text", "words"),
    [
        ("axes.x.maximum_feed_mm_s", "fast", "not a number"),
        ("axes.x.maximum_feed_mm_s", "3 kg", "does not fit"),
        ("axes.x.maximum_feed_mm_s", "9000", "0.1 to 2000 mm/s"),
        ("axes.x.motors.a.microsteps", "17", "one of 1, 2, 4"),
        ("mesh.columns", "4.5", "a whole number"),
        ("endstops.x.normally_closed", "maybe", "neither yes nor no"),
        ("machine.kinematics", "delta", "cartesian, corexy"),
    ],
)
def test_what_is_not_allowed_is_told(path: str, text: str, words: str) -> None:
    declared = SETTINGS.find(path)
    assert declared is not None
    with pytest.raises(NotAQuantity, match=words):
        typed_value(declared, text)


@pytest.mark.parametrize(
    ("value", "text"),
    [(None, "–"), (True, "yes"), (False, "no"), (0.024, "0.024"), (250.0, "250"), (1 / 3, "0.333333")],
)
def test_values_as_tables_show_them(value: Value, text: str) -> None:
    assert shown_value(value) == text
