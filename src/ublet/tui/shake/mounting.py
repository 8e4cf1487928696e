"""Where the accelerometer sits on the head and on a bed that moves, and what holds it there: drawn, not to scale."""

from __future__ import annotations

from ublet.core.machine.schema import MachineFile
from ublet.core.shake.mount import HELD, held_words
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells

HEAD = (
    "══════╤═══════════════╤══════  rail of X",
    "      │   carriage    │",
    "      │  ╭─────────╮  │",
    "      ╰──┤ hotend  ├──╯",
    "         │         │",
    "         ╰──╮   ╭──╯",
    "             ╲ ╱",
)
"""The head from the front; the sensor is drawn onto it."""

SENSOR = ("▐▀▀▀▌", "▐▄▄▄▌")
SENSOR_AT = (11, 4)
"""Columns and rows from the head's upper left corner: as near to the nozzle as it goes."""

BED_COLUMNS, BED_ROWS = 30, 7
WIDE = 84
"""With fewer columns what it means stands below the drawing, not beside it."""


def put_mounting(cells: Cells, top: int, machine: MachineFile, asked: str = "") -> int:
    """Draw the head, and the bed where that moves, with the sensor on each; what each way of holding it costs. asked:
    the part that the open question is about. Returns the first free row.
    """
    moves = machine.bed.moves != "no"
    beside = moves and cells.width >= WIDE
    _head(cells, 0, top, asked in ("", "head"))
    row = top + len(HEAD) + 3
    if moves:
        left, bed_top = (46, top) if beside else (0, row)
        _bed(cells, left, bed_top, asked == "bed" or not asked)
        row = max(row, bed_top + BED_ROWS + 3)
    cells.put(0, row, "flat, tight, its cable loose in a wide loop, as near to the tool as it goes", Ink.text)
    for number, (held, limits) in enumerate(HELD.items(), start=1):
        now = held == machine.accelerometer.held
        mark = "●" if now else "○"
        ink = f"bold {Ink.focus}" if now else Ink.dim
        cells.put(0, row + number, f"{mark} {held:<9}{held_words(limits)}", ink)
    cells.put(0, row + len(HELD) + 1, "which one it is stands in the machine file (accelerometer.held)", Ink.quiet)
    return row + len(HELD) + 2


def _head(cells: Cells, left: int, top: int, now: bool) -> None:
    cells.put(left, top, "on the head, seen from the front", f"bold {Ink.text}" if now else Ink.dim)
    for number, line in enumerate(HEAD):
        cells.put(left, top + 1 + number, line, Ink.dim)
    for number, line in enumerate(SENSOR):
        cells.put(left + SENSOR_AT[0], top + SENSOR_AT[1] + number, line, f"bold {Ink.focus}" if now else Ink.dim)
    cells.put(left + 22, top + SENSOR_AT[1], "◂ sensor", Ink.focus if now else Ink.dim)


def _bed(cells: Cells, left: int, top: int, now: bool) -> None:
    cells.put(left, top, "on the bed, seen from above", f"bold {Ink.text}" if now else Ink.dim)
    cells.box(left, top + 1, left + BED_COLUMNS, top + BED_ROWS, Ink.dim, "─│┌┐└┘")
    middle = left + BED_COLUMNS // 2 - 2
    for number, line in enumerate(SENSOR):
        cells.put(middle, top + 3 + number, line, f"bold {Ink.focus}" if now else Ink.dim)
    cells.put(middle + 6, top + 3, "◂ sensor", Ink.focus if now else Ink.dim)
    cells.put(left + 12, top + BED_ROWS, " front ", Ink.quiet)
