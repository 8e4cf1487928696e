"""The view of a machine through which everything that is read is noted."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from ublet.core.machine.check import check_text
from ublet.core.machine.schema import MachineFile
from ublet.core.machine.traced import Readers, traced
from ublet.core.settings import Value
from ublet.session.library import boards, machine_path


class Noted:
    """A machine that is read, and what was noted of it."""

    def __init__(self) -> None:
        machine = check_text(machine_path("wren-180").read_text(encoding="utf-8"), boards()).machine
        assert machine is not None
        self.values: list[str] = []
        self.listed: list[tuple[str, tuple[str, ...]]] = []
        self.asked: list[tuple[str, bool]] = []
        self.machine: MachineFile = traced(
            machine,
            Readers(
                self._read,
                lambda path, names: self.listed.append((path, names)),
                lambda path, declared: self.asked.append((path, declared)),
            ),
        )

    def _read(self, path: str, written: Value) -> Value:
        self.values.append(path)
        return 7.0 if path == "axes.x.steps_per_mm" else written


def test_a_value_is_noted_and_may_be_another_than_the_file_says() -> None:
    noted = Noted()
    assert noted.machine.axes.x.steps_per_mm == 7.0 and noted.values == ["axes.x.steps_per_mm"]
    assert noted.listed == noted.asked == []


@pytest.mark.parametrize(
    ("ask", "declared"),
    [
        (lambda heaters: "hotend" in heaters, True),
        (lambda heaters: "chamber" in heaters, False),
        (lambda heaters: heaters.get("chamber"), False),
    ],
)
def test_whether_a_part_is_declared_is_noted_also_when_it_is_not(ask: Callable[[Any], Any], declared: bool) -> None:
    noted = Noted()
    assert bool(ask(noted.machine.heaters)) is declared
    assert noted.asked == [(f"heaters.{'hotend' if declared else 'chamber'}", declared)] and noted.listed == []


@pytest.mark.parametrize("read", [list, len, dict, lambda table: [*table.values()]])
def test_whoever_goes_through_a_table_rests_on_its_names(read: Callable[[Any], Any]) -> None:
    noted = Noted()
    read(noted.machine.heaters)
    assert set(noted.listed) == {("heaters", ("hotend", "bed"))}


def test_properties_and_copies_of_a_part_note_what_they_read() -> None:
    noted = Noted()
    assert noted.machine.machine.layout.name == noted.machine.machine.kinematics
    assert set(noted.values) == {"machine.kinematics"}
    noted.machine.axes.x.model_copy()
    assert {"axes.x.steps_per_mm", "axes.x.maximum_mm"} <= set(noted.values)
