"""The bench of the accelerometer: the three axes as they come, and gravity as an arrow that should point up."""

from __future__ import annotations

import numpy as np
from rich.text import Text

from ublet.core.run import Series, TrialResult
from ublet.core.shake.rest_trials import GRAVITY_M_S2
from ublet.core.units import with_uncertainty
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.instruments.picture import Picture
from ublet.tui.motion.steps import newest_result, reach_for
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

SHOWN_ROWS = 300
"""The newest rows that are drawn: six seconds."""

LABEL_COLUMNS = 20
LEAST_REACH_M_S2 = 0.5


class AccelerometerBench(TrialBench):
    """Mounted and quiet."""

    kind = "accelerometer"
    title = "Accelerometer"
    why = "what hangs askew or trembles by itself tells nothing of the frame"

    def picture(self) -> Picture:
        """The readings."""
        return readings_picture


def readings_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """A band for each axis, around its own middle; what was found where none is running."""
    series = watched.series("readings") if watched is not None else None
    if series is None:
        return _found(
            newest_result(session, watched, "accelerometer-at-rest"), "accelerometer" in session.connection.can
        )
    return _bands(series, width, height)


def _bands(series: Series, width: int, height: int) -> Text:
    rows = series.rows[-SHOWN_ROWS:]
    time_s, band = rows[:, 0], max(3, (height - 2) // 3)
    cells = Cells(width, 3 * band + 1)
    columns = width - LABEL_COLUMNS - 2
    swing = rows[:, 1:] - rows[:, 1:].mean(axis=0)
    reach = reach_for(np.abs(swing).max(axis=0).tolist(), LEAST_REACH_M_S2)
    span = max(1e-6, time_s[-1] - time_s[0])
    for number, axis in enumerate("xyz"):
        middle = number * band + band / 2
        cells.put(0, int(middle), f"{axis.upper()} {rows[-1, 1 + number]:>8.2f} m/s²", f"bold {Ink.text}")
        cells.put(LABEL_COLUMNS, int(middle), "─" * columns, Ink.faint)
        x = LABEL_COLUMNS + (time_s - time_s[0]) / span * (columns - 1)
        y = middle - swing[:, number] / reach * (band / 2 - 0.5)
        for (column, row), code in polyline_cells(x, y, cells.width, cells.height).items():
            cells.add_dots(column, row, code, Ink.focus)
    cells.put(LABEL_COLUMNS, 3 * band, f"each ±{reach:g} m/s² around its middle, the last {span:.1f} s", Ink.quiet)
    return cells.text()


def _found(result: TrialResult | None, there: bool) -> Text:
    """What the last run found."""
    text = Text(no_wrap=True)
    gravity = result.finding("gravity") if result is not None else None
    if result is None or gravity is None:
        return text.append("not listened to yet" if there else "", Ink.quiet)
    text.append("gravity       ", Ink.dim)
    text.append(f"{gravity.value:>8.2f} m/s²", f"bold {Ink.focus}")
    text.append(f"   of {GRAVITY_M_S2:.2f}\n\n", Ink.dim)
    for axis in "xyz":
        if (noise := result.finding("noise", axis=axis)) is not None:
            text.append(f"noise of {axis.upper()}    ", Ink.dim)
            text.append(f"{noise.value:>8.3f} m/s²\n", f"bold {Ink.focus}")
    if (rate := result.finding("rate")) is not None:
        text.append("\nreadings      ", Ink.dim)
        text.append(f"{with_uncertainty(rate.value, rate.uncertainty or 0.0):>8}", f"bold {Ink.focus}")
        text.append(" a second, by the board's clock", Ink.dim)
    return text
