"""The bench of probe spread: every touch as a dot over its number, and how wide they lie."""

from __future__ import annotations

import numpy as np
from rich.text import Text

from ublet.core.level.probe.probing import TOUCHES
from ublet.core.level.probe.speed_trials import SpeedParameters
from ublet.core.level.probe.spread_trials import SpreadParameters
from ublet.core.level.scatter import FEW, scatter_of
from ublet.core.run import TrialResult
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.level.speed import speed_picture
from ublet.tui.motion.steps import reach_for
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

LEFT = 8
NARROWEST_UM = 20.0
"""The strip spans at least so much either way, µm."""

SIDE_COLUMNS = 34


class SpreadBench(RecordedBench):
    """How well the probe repeats."""

    kind = "spread"
    title = "Probe spread"
    why = "no height is better than the probe that reads it"

    def picture(self) -> Picture:
        """The strip of readings, or the ways that were tried."""
        aim = self.aim

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            if isinstance(aim, SpeedParameters):
                return speed_picture(session, self.read, aim, width, height)
            assert isinstance(aim, SpreadParameters)
            return spread_picture(session, self.read, self.shown_result, aim, width, height)

        return draw


def spread_picture(
    session: Session, read: SeriesReader, result: TrialResult | None, aim: SpreadParameters, width: int, height: int
) -> Text:
    """Touches in their order about their mean, place by place; at the right the standard deviation, large."""
    cells = Cells(width, height)
    series = read(TOUCHES.name)
    rows = series.rows if series is not None else np.empty((0, 3))
    columns = max(20, width - LEFT - SIDE_COLUMNS)
    bottom = height - 3
    means = {tuple(place): float(rows[(rows[:, :2] == place).all(axis=1), 2].mean()) for place in rows[:, :2].tolist()}
    off = np.array([1000 * (z - means[(x, y)]) for x, y, z in rows.tolist()])
    reach = reach_for([float(v) for v in np.abs(off)], max(NARROWEST_UM, 1000 * aim.limit_mm))
    middle = bottom // 2

    def row_of(um: float) -> int:
        return middle - round(um / reach * (middle - 1))

    for um in (reach, 0.0, -reach):
        cells.put(0, row_of(um), f"{um:+6.0f}" if um else "  mean", Ink.dim)
        cells.put(LEFT, row_of(um), "─" * columns if um == 0 else "·" * columns, Ink.faint)
    for sign in (2, -2):
        um = sign * 1000 * aim.limit_mm
        if abs(um) <= reach:
            cells.put(LEFT, row_of(um), "┄" * columns, Ink.proposal)
    cells.put(LEFT, 0, "µm about the mean of its place, touch by touch", Ink.dim)
    total = max(len(off), aim.touches * (5 if aim.places == "five" else 1))
    before: list[float] = []
    for number, um in enumerate(off):
        column = LEFT + round((number + 0.5) / total * (columns - 1))
        place = rows[number, :2].tolist()
        if before and place != before:
            for line in range(1, bottom):
                cells.put(column - 1, line, "╎", Ink.faint)
        before = place
        cells.put(column, row_of(float(um)), "●", f"bold {Ink.focus}" if number == len(off) - 1 else Ink.focus)
    cells.put(LEFT, bottom, f"1{total:>{columns - 1}}", Ink.quiet)
    _figures(cells, width - SIDE_COLUMNS + 3, rows, result, aim)
    return cells.text()


def _figures(cells: Cells, left: int, rows: np.ndarray, result: TrialResult | None, aim: SpreadParameters) -> None:
    """The worst standard deviation so far, large, and what else there is to say."""
    deviations, ranges = [], []
    for place in {tuple(place) for place in rows[:, :2].tolist()}:
        heights = rows[(rows[:, :2] == place).all(axis=1), 2]
        if len(heights) >= FEW:
            scatter = scatter_of(heights)
            deviations.append(scatter.deviation_mm)
            ranges.append(scatter.range_mm)
    if not len(rows) and result is not None:
        deviations = [finding.value for finding in result.all_of("deviation")]
        ranges = [finding.value for finding in result.all_of("spread_range")]
    cells.put(left, 0, "standard deviation, µm", Ink.dim)
    if not deviations:
        cells.put(left, 2, "not measured yet" if not len(rows) else "three touches show", Ink.quiet)
        return
    worst = max(deviations)
    good = worst <= aim.limit_mm
    put_large(cells, left, 2, f"{1000 * worst:.1f}", f"bold {Ink.good if good else Ink.stop}")
    cells.put(left, 6, f"{'✓' if good else '✗'} {1000 * aim.limit_mm:g} µm are good enough", Ink.text)
    cells.put(left, 8, f"range {1000 * max(ranges):.0f} µm", Ink.text)
    cells.put(left, 9, f"┄ twice {1000 * aim.limit_mm:g} µm", Ink.proposal)
