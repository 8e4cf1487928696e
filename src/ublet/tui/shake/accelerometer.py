"""The bench of the accelerometer: the three axes as they come, and gravity as an arrow that should point up."""

from __future__ import annotations

import numpy as np
from rich.text import Text

from ublet.core.run import Series, TrialResult
from ublet.core.shake.mount import declared_columns
from ublet.core.shake.rest_trials import GRAVITY_M_S2
from ublet.core.shake.shaking import SHAKEN
from ublet.core.shake.turned_trials import TurnedParameters
from ublet.core.trial import TrialSpec
from ublet.core.units import with_uncertainty
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.picture import Picture
from ublet.tui.motion.steps import newest_result, reach_for
from ublet.tui.shake.mounting import put_mounting
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

SHOWN_ROWS = 300
"""The newest rows that are drawn: six seconds."""

LABEL_COLUMNS = 20
LEAST_REACH_M_S2 = 0.5
LEAST_ROWS = 10


class AccelerometerBench(TrialBench):
    """Mounted and quiet."""

    kind = "accelerometer"
    title = "Accelerometer"
    why = "a tilted or noisy sensor cannot measure the frame"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.last: Series | None = None

    def ended(self, spec: TrialSpec, result: TrialResult) -> None:
        """What was drawn stays."""
        super().ended(spec, result)
        self.last = self.watched.series("readings") if self.watched is not None else None

    def picture(self) -> Picture:
        """The readings; beside them what was found, where nothing runs."""
        last = self.last
        if isinstance(self.aim, TurnedParameters):
            return turned_picture

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            series = watched.series("readings") if watched is not None else None
            if series is not None:
                return put_bands(series, width, height)
            result = newest_result(session, watched, "accelerometer-at-rest")
            there = "accelerometer" in session.connection.can
            if result is None and watched is None and there:
                cells = Cells(width, height)
                put_mounting(cells, 0, session.machine_now)
                return cells.text()
            columns = _found(result)
            room = height - columns.plain.count("\n") - 3
            if last is None or watched is not None or room < LEAST_ROWS:
                return columns
            return columns.append("\n\n").append_text(put_bands(last, width, room))

        return draw


def put_bands(series: Series, width: int, height: int) -> Text:
    """The newest readings, an axis a band."""
    rows = series.rows[-SHOWN_ROWS:]
    time_s, band = rows[:, 0], max(3, (height - 2) // 3)
    cells = Cells(width, 3 * band + 1)
    columns = width - LABEL_COLUMNS - 2
    sweep_move = rows[:, 1:] - rows[:, 1:].mean(axis=0)
    reach = reach_for(np.abs(sweep_move).max(axis=0).tolist(), LEAST_REACH_M_S2)
    span = max(1e-6, time_s[-1] - time_s[0])
    for number, axis in enumerate("xyz"):
        middle = number * band + band / 2
        cells.put(0, int(middle), f"{axis.upper()} {rows[-1, 1 + number]:>8.2f} m/s²", f"bold {Ink.text}")
        cells.put(LABEL_COLUMNS, int(middle), "─" * columns, Ink.faint)
        x = LABEL_COLUMNS + (time_s - time_s[0]) / span * (columns - 1)
        y = middle - sweep_move[:, number] / reach * (band / 2 - 0.5)
        for (column, row), code in polyline_cells(x, y, cells.width, cells.height).items():
            cells.add_dots(column, row, code, Ink.focus)
    cells.put(LABEL_COLUMNS, 3 * band, f"each ±{reach:g} m/s² around its middle, the last {span:.1f} s", Ink.quiet)
    return cells.text()


def _found(result: TrialResult | None) -> Text:
    """What the last run found."""
    text = Text(no_wrap=True)
    gravity = result.finding("gravity") if result is not None else None
    if result is None or gravity is None:
        return text

    def line(words: str, value: str, after: str) -> None:
        text.append(f"{words:<14}", Ink.dim)
        text.append(f"{value:>20} ", f"bold {Ink.focus}")
        text.append(f"{after}\n", Ink.dim)

    line("gravity", f"{gravity.value:.2f}", f"m/s² of {GRAVITY_M_S2:.2f}")
    for axis in "xyz":
        if (noise := result.finding("noise", axis=axis)) is not None:
            line(f"noise of {axis.upper()}", f"{noise.value:.3f}", "m/s²")
    if (rate := result.finding("rate")) is not None:
        line("readings", with_uncertainty(rate.value, rate.uncertainty or 0.0), "a second, by the board's clock")
    return text


def turned_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """How it is turned: the machine's axes, the sensor's as declared, what it felt; while it jerks, the readings."""
    series = None
    for axis in ("y", "x") if watched is not None else ():
        series = series or (watched.series(f"{SHAKEN} {axis}") if watched is not None else None)
    if series is not None and len(series.rows) > 2:
        return put_bands(series, width, height)
    cells = Cells(width, height)
    result = newest_result(session, watched, "accelerometer-turned")
    words = declared_columns(session.document.machine)
    top = max(0, (height - TRIAD_ROWS) // 3)
    proposed = {proposal.setting: str(proposal.after) for proposal in result.proposals} if result is not None else {}
    words_by_axis = [proposed.get(f"accelerometer.{own}", word) for own, word in zip("xyz", words, strict=True)]
    shown: list[tuple[str, list[str], str]] = [("the machine", ["x", "y", "z"], Ink.text)]
    shown.append(("the sensor on it, as declared", [_own_axis(words, axis) for axis in "xyz"], Ink.focus))
    if proposed:
        own = (words_by_axis[0], words_by_axis[1], words_by_axis[2])
        shown.append(("the sensor, as a jerk showed it", [_own_axis(own, axis) for axis in "xyz"], Ink.proposal))
    columns = max(24, min(TRIAD_COLUMNS, width // len(shown)))
    for number, (title, names, ink) in enumerate(shown):
        cells.put(2 + columns * number, top, title[: columns - 2], Ink.dim)
        _triad(cells, 2 + columns * number, top + 2, tuple(names), ink)
    row = top + TRIAD_ROWS + 1
    cells.put(2, row, "response to a jerk along", Ink.dim)
    for number, axis in enumerate(("x", "y")):
        felt = result.finding("felt", axis=axis) if result is not None else None
        at, left = row + 1, 28 + columns * number
        cells.put(left, row, axis.upper(), f"bold {Ink.text}")
        if felt is None:
            still = "moves with the bed" if session.document.machine.bed.moves == axis else "not jerked yet"
            cells.put(left + 2, row, still, Ink.quiet)
            continue
        cells.put(left + 2, row, "━" * round(min(1.2, felt.value) * FELT_COLUMNS), Ink.focus)
        cells.put(left + 2, at, f"{100 * felt.value:.0f} % of it", Ink.dim)
    return cells.text()


TRIAD_COLUMNS, TRIAD_ROWS, FELT_COLUMNS = 34, 12, 20


def _own_axis(words: tuple[str, str, str], axis: str) -> str:
    """The sensor's axis that points along one of the machine's."""
    for own, word in zip("xyz", words, strict=True):
        if word.removeprefix("-") == axis:
            return f"-{own}" if word.startswith("-") else own
    return "?"


def _triad(cells: Cells, left: int, top: int, names: tuple[str, ...], ink: str) -> None:
    """Three arrows: to the right, to the back, up; with what they are called."""
    x, y, z = (f"{'−' if name.startswith('-') else ''}{name[-1].upper()}" for name in names)
    origin_column, origin_row = left + 4, top + 8
    for row in range(6):
        cells.put(origin_column, origin_row - 1 - row, "│", Ink.dim)
    cells.put(origin_column, origin_row - 7, "▲", ink)
    cells.put(origin_column + 2, origin_row - 7, z, f"bold {ink}")
    for step in range(1, 5):
        cells.put(origin_column + 2 * step, origin_row - step, "╱", Ink.dim)
    cells.put(origin_column + 10, origin_row - 5, y, f"bold {ink}")
    cells.put(origin_column, origin_row, "┼" + "─" * 15 + "▶", Ink.dim)
    cells.put(origin_column + 16, origin_row, "▶", ink)
    cells.put(origin_column + 18, origin_row, x, f"bold {ink}")
    cells.put(origin_column + 8, origin_row + 1, "right", Ink.quiet)
    cells.put(origin_column + 12, origin_row - 4, "back", Ink.quiet)
    cells.put(origin_column - 3, origin_row - 7, "up", Ink.quiet)
