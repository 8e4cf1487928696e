"""What a machine file means for a board: declared values, and those that follow from them."""

from __future__ import annotations

from ublet.core.heat.curves import GENERIC
from ublet.core.machine.schema import SETTINGS, MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm, extruder_steps_per_mm
from ublet.core.settings import Known, Value, flatten

BOARD_SETTINGS = Known(item for item in SETTINGS if item.board)
"""The settings that a board holds."""


def held_by_board(path: str) -> bool:
    """Whether a board holds a setting."""
    return BOARD_SETTINGS.find(path) is not None


def effective(machine: MachineFile) -> dict[str, Value]:
    """Every value of a machine by dotted path, with what follows from others filled in.

    Steps per millimetre that were not measured come from the geometry; a generic curve gives r25 and beta.
    """
    values = flatten(machine.model_dump())
    for name in ("x", "y", "z"):
        axis = getattr(machine.axes, name)
        if axis.steps_per_mm is None and axis.motors:
            values[f"axes.{name}.steps_per_mm"] = axis_steps_per_mm(axis, next(iter(axis.motors.values())))
    if machine.extruder is not None and machine.extruder.steps_per_mm is None:
        values["extruder.steps_per_mm"] = round(extruder_steps_per_mm(machine.extruder), 4)
    for name, sensor in machine.sensors.items():
        if sensor.kind == "curve" and sensor.curve is not None and sensor.curve in GENERIC:
            r25, beta = GENERIC[sensor.curve]
            root = f"sensors.{name}"
            values.update({f"{root}.kind": "beta", f"{root}.r25_ohm": r25, f"{root}.beta_k": beta})
    return values


def board_settings(machine: MachineFile) -> dict[str, Value]:
    """The settings that a board holds for this machine, by dotted path."""
    return {path: value for path, value in effective(machine).items() if value is not None and held_by_board(path)}
