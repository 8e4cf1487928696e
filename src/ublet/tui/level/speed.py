"""The picture of probing speed: every way that was tried, how long a point takes, how its touches scatter."""

from __future__ import annotations

from rich.text import Text

from ublet.core.level.probe.probing import TouchSettings
from ublet.core.level.probe.speed_trials import WAYS, SpeedParameters, ways_of
from ublet.core.machine.level_parts import ProbeSettings
from ublet.core.settings import number_or
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.trial.recorded import SeriesReader

NAME_COLUMNS, FIGURE_COLUMNS = 22, 12
WORST_MM = 0.02
"""The scale of spreads reaches at least so far, mm."""


def speed_picture(session: Session, read: SeriesReader, aim: SpeedParameters, width: int, height: int) -> Text:
    """A line a way: seconds a point and the spread, each with a bar; those that were taken are marked."""
    probe = session.document.machine.probe
    cells = Cells(width, height)
    if not isinstance(probe, ProbeSettings) or probe.kind == "nozzle":
        cells.put(0, 0, "This machine has no probe that senses the bed.", Ink.text)
        return cells.text()
    live = {
        key: number_or(session.live(f"probe.{key}"), float(getattr(probe, key)))
        for key in ("approach_mm_s", "travel_mm_s", "lift_mm")
    }
    declared = TouchSettings(live["approach_mm_s"], live["travel_mm_s"], live["lift_mm"], 1, probe.tolerance_mm)
    names = ways_of(declared, aim, probe.kind == "pin")
    series = read(WAYS.name)
    rows = {round(row[0]): row for row in series.rows.tolist()} if series is not None else {}
    bars = max(8, (width - NAME_COLUMNS - 2 * FIGURE_COLUMNS - 6) // 2)
    longest = max((row[1] for row in rows.values()), default=1.0)
    widest = max([WORST_MM, *(row[2] for row in rows.values())])
    second = NAME_COLUMNS + FIGURE_COLUMNS + bars + 3
    cells.put(0, 0, "tried", Ink.dim)
    cells.put(NAME_COLUMNS, 0, f"{'a point':>{FIGURE_COLUMNS}}", Ink.dim)
    cells.put(second, 0, f"{'spread':>{FIGURE_COLUMNS}}", Ink.dim)
    apart = 3 if height > 3 * len(names) else 2 if height > 2 * len(names) else 1
    for number, name in enumerate(names):
        line, row = 1 + apart * number + (apart > 1), rows.get(number)
        now = row is None and len(rows) == number and bool(rows)
        mark = "◆" if now else "○" if row is None else "✓" if row[3] else "·"
        ink = Ink.focus if now else Ink.dim if row is None or not row[3] else Ink.good
        cells.put(0, line, f"{mark} {name}", f"bold {ink}" if row is not None and row[3] else ink)
        if row is None:
            continue
        cells.put(NAME_COLUMNS, line, f"{f'{row[1]:.2f} s':>{FIGURE_COLUMNS}}", Ink.text)
        cells.put(NAME_COLUMNS + FIGURE_COLUMNS + 1, line, "━" * max(1, round(row[1] / longest * bars)), ink)
        cells.put(second, line, f"{f'{1000 * row[2]:.1f} µm':>{FIGURE_COLUMNS}}", Ink.text)
        cells.put(second + FIGURE_COLUMNS + 1, line, "━" * max(1, round(row[2] / widest * bars)), ink)
    return cells.text()
