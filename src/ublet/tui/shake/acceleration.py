"""The bench of acceleration: what a print takes at each, by how much corners are rounded, and what bounds each axis."""

from __future__ import annotations

from rich.text import Text

from ublet.core.run import TrialResult
from ublet.core.shake.acceleration_trials import TIMES, AccelerationParameters
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.shake.sketches import put_times
from ublet.tui.trial.recorded import RecordedBench
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS = 40
BAR_COLUMNS = 24


class AccelerationBench(RecordedBench):
    """The limit that follows."""

    kind = "acceleration"
    title = "Acceleration"
    why = "faster than it is worth only rounds corners and shakes the bench"

    def picture(self) -> Picture:
        """Time and rounding over the acceleration."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            cells = Cells(width, height)
            series, result, aim = self.read(TIMES.name), self.shown_result, self.aim
            assert isinstance(aim, AccelerationParameters)
            if series is None or not len(series.rows):
                cells.put(0, 0, "not computed yet", Ink.quiet)
                put_times(cells, 2, aim.side_mm, aim.speed_mm_s)
                return cells.text()
            mm_s2, seconds, rounding = series.rows.T.tolist()
            wide = max(40, width - SIDE_COLUMNS)
            half = height // 2
            span = (min(mm_s2), max(max(mm_s2), min(mm_s2) + 1))
            longest = max(seconds)
            words = (f"a square of {aim.side_mm:g} mm takes, s", "mm/s²")
            upper = graph(cells, 0, 0, (wide, half), span, (0.9 * min(seconds), 1.05 * longest), words)
            upper.line(mm_s2, seconds, Ink.focus)
            most = max(aim.rounding_mm * 1.2, max(rounding) * 1.1)
            words = ("corners are rounded by, mm", "mm/s²")
            lower = graph(cells, 0, half, (wide, height - half), span, (0.0, most), words)
            lower.line(mm_s2, rounding, Ink.focus)
            lower.line(list(span), [aim.rounding_mm] * 2, Ink.proposal)
            best = result.finding("printing") if result is not None else None
            if best is not None:
                for drawn in (upper, lower):
                    column = round(drawn.at(best.value, drawn.up[0])[0])
                    for row in range(drawn.height):
                        cells.put(column, drawn.top + row, "╎", Ink.good)
            if result is not None and wide < width:
                _bounds(cells, wide + 3, result)
            return cells.text()

        return draw


def _bounds(cells: Cells, left: int, result: TrialResult) -> None:
    """What is worth printing at, large; what bounds each axis."""
    best = result.finding("printing")
    if best is not None:
        cells.put(left, 0, "worth printing at, mm/s²", Ink.dim)
        put_large(cells, left, 1, f"{best.value:.0f}", f"bold {Ink.good}")
    most = max(
        (finding.value for what in ("limit", "by_rounding", "by_motors") for finding in result.all_of(what)),
        default=1.0,
    )
    row = 6
    for axis in ("x", "y"):
        cells.put(left, row, axis.upper(), f"bold {Ink.text}")
        for what, words in (("by_rounding", "rounding"), ("by_motors", "motors"), ("limit", "so at most")):
            finding = result.finding(what, axis=axis)
            row += 1
            if finding is None:
                cells.put(left + 2, row, f"{words:<11}not known", Ink.dim)
                continue
            ink = f"bold {Ink.focus}" if what == "limit" else Ink.text
            cells.put(left + 2, row, f"{words:<11}{finding.value:>6.0f}", ink)
            cells.put(left + 20, row, "━" * max(1, round(finding.value / most * (BAR_COLUMNS - 8))), ink)
        row += 2
