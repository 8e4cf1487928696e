"""Where the accelerometer sits on the head and on a bed that moves, and what holds it there: drawn, not to scale."""

from __future__ import annotations

from ublet.core.machine.schema import MachineFile
from ublet.core.shake.mount import HELD, declared_columns, held_words
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells

HEAD = (
    "══════╤═══════════════════════════╤══════  rail of X",
    "      │          carriage         │",
    "      │                           │",
    "      ╰────┬─────────────────┬────╯",
    "           │     hotend      │",
    "           │                 │",
    "           │                 ├───",
    "           │                 │",
    "           ╰────╮       ╭────╯",
    "                ╰─╮   ╭─╯",
    "                  ╰╮ ╭╯",
    "                    V   nozzle",
)
"""The head from the front; the sensor is drawn onto it."""

SENSOR = ("╔═══════╗", "║◦     ◦║", "╚═══════╝")
SENSOR_AT = (16, 6)
"""Columns and rows from the head's upper left corner: as near to the nozzle as it goes."""

HEAD_COLUMNS, BLOCK_FROM = 56, 3
"""Columns of the head; from which of its lines on the block is drawn, all that a low screen has room for."""

BED_COLUMNS, BED_ROWS = 30, 11
LIST_COLUMNS, LIST_ROWS = 52, 6
"""What the list of holds takes, cells."""


def put_mounting(cells: Cells, top: int, machine: MachineFile, asked: str = "") -> int:
    """Draw the head, and the bed where that moves, with the sensor on each; what each way of holding it costs. asked:
    the part that the open question is about. Returns the first free row.

    The list stands at the right of the drawings where there is room, else below them; where the height allows only
    one drawing, it is the one that is asked about.
    """
    moves = machine.bed.moves != "no"
    drawn = [part for part in ("head", "bed") if part == "head" or moves]
    if asked and cells.width < HEAD_COLUMNS + BED_COLUMNS:
        drawn = [asked]
    columns = sum(HEAD_COLUMNS if part == "head" else BED_COLUMNS for part in drawn)
    beside = cells.width >= columns + LIST_COLUMNS
    low = cells.height < top + len(HEAD) + 2 + (0 if beside else LIST_ROWS)
    left = 0
    for part in drawn:
        if part == "head":
            _head(cells, left, top, asked in ("", "head"), BLOCK_FROM if low else 0)
        else:
            _bed(cells, left, top, asked in ("", "bed"))
        left += HEAD_COLUMNS if part == "head" else BED_COLUMNS
    if beside:
        return _holds(cells, left, top + 2, machine)
    return _holds(cells, 0, top + 2 + len(HEAD) - (BLOCK_FROM if low else 0), machine)


def _head(cells: Cells, left: int, top: int, now: bool, first: int) -> None:
    cells.put(left, top, "on the head, seen from the front", f"bold {Ink.text}" if now else Ink.dim)
    for number, line in enumerate(HEAD[first:]):
        cells.put(left, top + 1 + number, line, Ink.dim)
    _sensor(cells, left + SENSOR_AT[0], top + SENSOR_AT[1] - first, now)
    cells.put(left + 33, top + SENSOR_AT[1] + 1 - first, "sensor", Ink.focus if now else Ink.dim)


def _bed(cells: Cells, left: int, top: int, now: bool) -> None:
    cells.put(left, top, "on the bed, seen from above", f"bold {Ink.text}" if now else Ink.dim)
    cells.box(left, top + 1, left + BED_COLUMNS - 4, top + BED_ROWS, Ink.dim, "─│┌┐└┘")
    column = left + (BED_COLUMNS - 4 - len(SENSOR[0])) // 2
    _sensor(cells, column, top + 5, now)
    cells.put(column + len(SENSOR[0]) + 1, top + 6, "sensor", Ink.focus if now else Ink.dim)
    cells.put(left + 10, top + BED_ROWS, " front ", Ink.quiet)


def _sensor(cells: Cells, left: int, top: int, now: bool) -> None:
    for number, line in enumerate(SENSOR):
        cells.put(left, top + number, line, f"bold {Ink.focus}" if now else Ink.dim)


def _holds(cells: Cells, left: int, top: int, machine: MachineFile) -> int:
    """How it is held, as the machine file says, and what the other ways would cost; which way its axes look."""
    width = cells.width - left
    cells.put(left, top, "flat, tight, its cable in a loose wide loop"[:width], Ink.text)
    for number, (held, limits) in enumerate(HELD.items(), start=1):
        now = held == machine.accelerometer.held
        mark = "●" if now else "○"
        ink = f"bold {Ink.focus}" if now else Ink.dim
        cells.put(left, top + number, f"{mark} {held:<9}{held_words(limits)}"[:width], ink)
    ways = zip("XYZ", declared_columns(machine), strict=True)
    words = ", ".join(f"{own} along {way.upper().replace('-', '−')}" for own, way in ways)
    cells.put(left, top + len(HELD) + 1, "which one: accelerometer.held in the machine file"[:width], Ink.quiet)
    cells.put(left, top + len(HELD) + 2, f"declared: its {words}"[:width], Ink.quiet)
    return top + len(HELD) + 3
