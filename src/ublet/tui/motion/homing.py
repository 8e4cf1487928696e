"""The bench of homing: each axis to scale, the end it homes to, and how well that end repeats."""

from __future__ import annotations

from rich.text import Text

from ublet.core.motion.homing_speed_trials import TRIED, HomingSpeedParameters
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.attempts import Tried, draw_attempts
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.picture import Picture, put
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch


class HomingBench(RecordedBench):
    """Every axis to its end, and how fast."""

    kind = "homing"
    title = "Homing"
    why = "every position counts from the ends"

    def picture(self) -> Picture:
        """Axes to scale, and how well their ends repeat; or the speeds that were tried."""
        if not isinstance(self.aim, HomingSpeedParameters):
            return homing_picture

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            return homing_speed_picture(self.read, watched is not None, width, height)

        return draw


def homing_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """Each axis to scale: its travel, the end it homes to, where it stands; and how far off each repeat found it."""
    connection, machine, text = session.connection, session.document.machine, Text(no_wrap=True)
    about = watched.latest.about if watched is not None and watched.latest is not None else ""
    series = watched.series("shifts") if watched is not None else None
    columns = max(20, width - 46)
    longest = max(a.maximum_mm - a.minimum_mm for a in (machine.axes.x, machine.axes.y, machine.axes.z))
    text.append(f"{'axis':<6}{'order':<7}{'end':<8}{'stands at':>12}   travel, to scale\n", Ink.dim)
    for number, name in enumerate(("x", "y", "z")):
        axis = getattr(machine.axes, name)
        here = connection.channel(f"axes.{name}.mm")
        now = about == name
        text.append(f"\n{name.upper():<6}", f"bold {Ink.focus}" if now else f"bold {Ink.text}")
        text.append(f"{axis.homing.order:<7}{axis.homing.end:<8}", Ink.dim)
        shown = f"{round(here, 2) + 0.0:.2f} mm" if here is not None else "not homed"
        text.append(f"{shown:>12}   ", f"bold {Ink.focus}" if here is not None else Ink.dim)
        length = max(4, round(columns * (axis.maximum_mm - axis.minimum_mm) / longest))
        track = ["─"] * length
        track[-1 if axis.homing.end == "high" else 0] = "┫" if axis.homing.end == "high" else "┣"
        line = Text("".join(track), Ink.faint)
        if here is not None:
            fraction = (here - axis.minimum_mm) / (axis.maximum_mm - axis.minimum_mm)
            line = put(line, round(min(1.0, max(0.0, fraction)) * (length - 1)), "●", Ink.focus)
        text.append_text(line)
        text.append("\n")
        if series is not None:
            shifts = [row[1] for row in series.rows.tolist() if round(row[0]) == number]
            words = "   ".join(f"{1000 * shift:+.0f}" for shift in shifts)
            text.append(f"{'':<33}   repeats, µm: {words}\n" if words else "\n", Ink.dim)
        else:
            text.append("\n")
    return text


def homing_speed_picture(read: SeriesReader, running: bool, width: int, height: int) -> Text:
    """A line for each pair of speeds that was tried, axis by axis."""
    cells, series = Cells(width, height), read(TRIED.name)
    rows = series.rows.tolist() if series is not None else []
    if not rows and not running:
        cells.put(
            0, 0, "Nothing tried yet: how long each axis homes, and how well its end repeats, stands here.", Ink.dim
        )
        return cells.text()
    names = [
        f"{'XYZ'[round(axis)]} {'reference' if not way else f'{fast:g} then {slow:g} mm/s'}"
        for axis, way, fast, slow, *_ in rows
    ]
    tried = [Tried(row[4], row[5] if row[5] >= 0 else None, bool(row[6])) for row in rows]
    waiting = ["the next one"] if running else []
    draw_attempts(cells, [*names, *waiting], tried, width, height, "from middle", goes_on=running)
    return cells.text()
