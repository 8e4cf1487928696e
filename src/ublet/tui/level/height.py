"""The probe's height in its mount: nozzle on its gauge and probe beside it from the side, the probe's input as large as
it goes.
"""

from __future__ import annotations

from rich.text import Text

from ublet.core.level.probe.height_trials import CLEARS_MM, HeightParameters
from ublet.core.run import TrialResult
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large

SIDE_COLUMNS = 50
LAMP_COLUMNS = 34


def triggered_now(session: Session) -> bool | None:
    """Whether the probe's input reads so; None where the board does not report it."""
    about = session.connection.about
    if about is None or "inputs.probe" not in about.channels:
        return None
    level = session.connection.channel("inputs.probe")
    return None if level is None else bool(level)


def height_picture(
    session: Session, result: TrialResult | None, aim: HeightParameters, width: int, height: int
) -> Text:
    """What stands on what, with the lengths that are set; beside it the lamp, and what was found last."""
    cells = Cells(width, height)
    afar = session.document.machine.probe is not None and session.document.machine.probe.kind != "pin"
    _side(cells, aim, afar, height)
    _lamp(cells, SIDE_COLUMNS, max(3, height // 3), triggered_now(session))
    left, row = SIDE_COLUMNS, max(3, height // 3) + 4
    clears = result.finding("clears") if result is not None else None
    cells.put(left, row, "its end over the nozzle’s tip, mm", Ink.dim)
    if clears is None:
        cells.put(left, row + 2, "not measured yet", Ink.quiet)
        return cells.text()
    ink = Ink.focus if clears.value >= CLEARS_MM else Ink.stop
    put_large(cells, left, row + 2, f"{clears.value:.1f}", f"bold {ink}")
    cells.put(left, row + 6, f"at least {CLEARS_MM:g} mm, or it scrapes what was printed", Ink.dim)
    trigger = result.finding("trigger") if result is not None else None
    if trigger is not None:
        cells.put(left, row + 8, f"triggers about {trigger.value:.1f} mm over the bed", Ink.text)
    return cells.text()


def _lamp(cells: Cells, left: int, rows: int, triggered: bool | None) -> None:
    """A field that is full while the probe's input reads triggered: seen from where one kneels at the machine."""
    words = {True: "TRIGGERED", False: "at rest", None: "no probe is reported"}[triggered]
    column, row = left + (LAMP_COLUMNS - len(words)) // 2, 2 + rows // 2
    cells.put(left, 0, "the probe’s input now", Ink.dim)
    if triggered:
        for line in range(rows):
            cells.put(left, 2 + line, " " * LAMP_COLUMNS, f"on {Ink.focus}")
        cells.put(column, row, words, f"bold {Ink.ground} on {Ink.focus}")
        return
    cells.box(left, 2, left + LAMP_COLUMNS - 1, 1 + rows, Ink.faint)
    cells.put(column, row, words, Ink.text)


def _side(cells: Cells, aim: HeightParameters, afar: bool, height: int) -> None:
    """Nozzle on gauge on bed, the probe beside it."""
    bed = height - 3
    cells.put(0, 0, "from the side, not to scale", Ink.dim)
    cells.put(2, bed, "▔" * 42, Ink.text)
    cells.put(2, bed + 1, "bed", Ink.quiet)
    cells.put(3, bed - 1, "▆" * 12, Ink.proposal)
    cells.put(17, bed - 1, f"gauge {aim.gauge_mm:g} mm", Ink.proposal)
    for row, shape in ((6, "▐████▌"), (5, "▐████▌"), (4, "▐████▌"), (3, " ▜██▛ "), (2, "  ▜▛  ")):
        if bed - row > 0:
            cells.put(6, bed - row, shape, Ink.text)
    end = bed - 4
    for row in range(max(1, end - 5), end + 1):
        cells.put(31, row, "▐██▌" if row < end else "▝▀▀▘", Ink.text)
    cells.put(14, max(1, end - 5), "═" * 17, Ink.faint)
    cells.put(36, end - 2, "probe", Ink.text)
    words = f"↑ {aim.raise_mm:g} mm" if afar else "stowed"
    cells.put(36, end, words, Ink.focus if afar else Ink.dim)
    if afar:
        cells.put(36, end + 1, "from trigger", Ink.focus)
    for row in range(end + 1, bed):
        cells.put(32, row, "┆", Ink.faint)
