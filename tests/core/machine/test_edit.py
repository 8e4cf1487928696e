"""Edits of a machine file's text: only what was meant changes, and they can be merged."""

from __future__ import annotations

import tomllib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import machine_text
from ublet.core.machine.compare import differences, merged, same
from ublet.core.machine.edit import GONE, Edit, EditError, edited, take_part, with_part, without_part
from ublet.core.settings import Value, flatten


def flat(text: str) -> dict[str, Value]:
    return flatten(tomllib.loads(text))


def changed_lines(before: str, after: str) -> list[str]:
    return [b for a, b in zip(before.split("\n"), after.split("\n"), strict=True) if a != b]


def test_a_value_changes_in_its_line_and_its_comment_stays() -> None:
    text = edited(machine_text(), {"axes.z.homing.over_x_mm": 170.5})
    assert changed_lines(machine_text(), text) == [
        "over_x_mm = 170.5          # the nozzle's place; the probe then stands over the middle"
    ]


def test_a_whole_number_stays_one() -> None:
    text = edited(machine_text(), {"axes.x.maximum_feed_mm_s": 250.0, "extruder.retract_mm": 1.0})
    assert changed_lines(machine_text(), text) == ["maximum_feed_mm_s = 250", "retract_mm = 1.0"]


def test_keys_come_and_go_and_empty_tables_go_with_them() -> None:
    gone: dict[str, Edit] = {
        "modules.counters": None,
        "modules.shaping": None,
        "modules.advance": None,
        "board.baud": GONE,
    }
    text = edited(machine_text(), {"axes.x.steps_per_mm": 160.2, **gone})
    values = flat(text)
    assert values["axes.x.steps_per_mm"] == 160.2
    assert "modules.counters" not in values and "board.baud" not in values
    assert "[modules]" not in text
    assert flat(edited(text, {"modules.arcs": True}))["modules.arcs"] is True


def test_parts_come_and_go() -> None:
    text = with_part(machine_text(), "endstops.z", {"socket": "I4", "normally_closed": False})
    assert flat(text)["endstops.z.socket"] == "I4"
    assert flat(without_part(text, "endstops.z")) == flat(machine_text())
    with pytest.raises(EditError, match="already"):
        with_part(text, "endstops.z", {})
    with pytest.raises(EditError, match="no part"):
        without_part(text, "endstops.q")
    with pytest.raises(EditError, match="is a value"):
        edited(text, {"machine.name.short": "T"})


def test_a_probe_mount_is_taken_over_with_its_comments() -> None:
    other = '[probe]\nkind = "inductive"   # from the other machine\nsocket = "I3"\noffset_x_mm = 24.5\n'
    text = take_part(machine_text(), other, "probe")
    values = flat(text)
    assert values["probe.kind"] == "inductive" and "probe.servo_socket" not in values
    assert "# from the other machine" in text and values["bed.width_mm"] == 280
    with pytest.raises(EditError, match="no part card"):
        take_part(machine_text(), other, "card")


PATHS = [path for path, value in flat(machine_text()).items() if isinstance(value, float)]


@settings(max_examples=25, deadline=None)
@given(st.dictionaries(st.sampled_from(PATHS), st.floats(0.01, 100, allow_nan=False), max_size=4))
def test_exactly_the_edits_change(edits: dict[str, float]) -> None:
    before, after = flat(machine_text()), flat(edited(machine_text(), dict(edits)))
    assert after == {**before, **edits}


VALUES = st.dictionaries(st.sampled_from("abcd"), st.integers(0, 2), max_size=4)


@settings(max_examples=200, deadline=None)
@given(VALUES, VALUES, VALUES)
def test_a_merge_takes_both_sides_and_names_every_collision(
    base: dict[str, Value], mine: dict[str, Value], theirs: dict[str, Value]
) -> None:
    edits, conflicts = merged(base, mine, theirs)
    result = dict(theirs)
    for path, value in edits.items():
        if value is GONE:
            result.pop(path, None)
        else:
            result[path] = value  # type: ignore[assignment]
    collided = {conflict.path for conflict in conflicts}
    for path in "abcd":
        was, my, their, now = (each.get(path) for each in (base, mine, theirs, result))
        if my == was:
            assert now == their
        elif their in (was, my):
            assert now == my and path not in collided
        else:
            assert path in collided


def test_differences_and_what_counts_as_the_same() -> None:
    found = differences({"a": 1, "b": 2.0, "c": "x"}, {"b": 2.0000001, "c": "y", "d": True})
    assert [(d.path, d.before, d.after) for d in found] == [("a", 1, None), ("c", "x", "y"), ("d", None, True)]
    assert same(1, 1.0) and not same(True, 1) and same(None, None) and not same(0.0, None)
