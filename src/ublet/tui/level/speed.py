"""The picture of probing speed: every way that was tried, how long a point takes, how its touches scatter."""

from __future__ import annotations

from rich.text import Text

from ublet.core.level.probe.probing import TouchSettings
from ublet.core.level.probe.speed_trials import WAYS, SpeedParameters, ways_of
from ublet.core.machine.level_parts import ProbeSettings
from ublet.core.settings import number_or
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.attempts import Tried, draw_attempts
from ublet.tui.instruments.cells import Cells
from ublet.tui.trial.recorded import SeriesReader


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
    rows = series.rows.tolist() if series is not None else []
    tried = [Tried(row[1], row[2], bool(row[3])) for row in rows]
    draw_attempts(cells, names, tried, width, height, "a point", goes_on=bool(rows))
    return cells.text()
