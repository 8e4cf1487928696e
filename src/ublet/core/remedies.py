"""Ways out that several recipes name."""

from __future__ import annotations

from ublet.core.machine.level_parts import Lifts
from ublet.core.machine.schema import MachineFile
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, GoTo, Remedy

WRITE = GoTo("write to board", "the board does not run this file's image yet")
"""The board lacks what the machine file declares."""

LINK = GoTo("port and link", "see what the line and the board do")
"""The link went, or its data cannot be right."""

SOAK_FIRST = GoTo("soak time", "how long this bed moves after it is warm")
"""The bed moved while it was measured."""

ACCELEROMETER = GoTo("accelerometer", "quiet, firmly mounted and turned as declared", "accelerometer-at-rest")
"""The sensor does not measure what the machine did."""


def material_remedy(machine: MachineFile) -> Remedy:
    """What helps where a material is named that the machine file does not have."""
    if machine.materials:
        return ChangeParameter("material", f"one of {', '.join(machine.materials)}")
    return ChangeSetting("materials", "add a table below [materials]")


def level_first(machine: MachineFile, but_screws: bool = False, tilt_mm: float = 0.0) -> Remedy:
    """What brings this machine's bed level: its lead screws where several motors lift it, else its corner screws.

    but_screws: the corner screws are what failed. tilt_mm: how far it is out; further than the lifts may be moved at
    once it is first brought together by hand.
    """
    lifts = len(machine.axes.z.motors)
    senses = machine.probe is not None and machine.probe.kind != "nozzle"
    far = tilt_mm > (machine.lifts or Lifts()).largest_mm
    if lifts > 1:
        trial = "lead-screws" if senses and not far else "lead-screws-by-hand"
        return GoTo("lead screws", "the bed square to the frame first", trial)
    if len(machine.bed.screws) >= 3 and not but_screws:
        return GoTo("bed corners", "the bed flat first", "bed-corners" if senses else "bed-corners-by-hand")
    return ByHand("look whether the bed hangs or lies on something")
