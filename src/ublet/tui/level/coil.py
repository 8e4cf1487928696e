"""The bench of a coil: how loud by current, how fast by height, what its warmth shifts, how well it passes over the
bed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TypeAlias

import numpy as np
from rich.text import Text

from ublet.core.level.coil.curve import MAX_V, MIN_V, CoilCurve, curve_of, fit_curve, no_coil
from ublet.core.level.coil.curve_trials import CURVE, DRIVEN, CurveParameters
from ublet.core.level.coil.drift_trials import DRIFTED, GOOD_UM, HEIGHTS_MM, NEARER_MM
from ublet.core.level.coil.scan_trials import PASSED
from ublet.core.run import TrialFailed, TrialResult
from ublet.core.settings import Part
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import bed_map
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.motion.jog import JogBench
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

GLYPHS = ("△", "◇", "○", "▽")
SIDE_COLUMNS, NUMBER_COLUMNS = 40, 7

Draw: TypeAlias = Callable[[Cells, Session, SeriesReader, TrialResult | None, Part, int], None]
"""Draws a trial's picture into the left columns, and what it found beside it."""


class CoilBench(RecordedBench, JogBench):
    """How a coil measures heights."""

    kind = "coil"
    title = "Coil probe"
    why = "a coil measures a frequency; its calibration curve gives the height"

    def picture(self) -> Picture:
        """What the chosen trial finds out."""
        aim, trial = self.aim, self.spec.name

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            drawn = coil_picture(session, self.read, self.shown_result, trial, aim, width, height - 2)
            return drawn + Text("\n") + self.next_line(width)

        return draw


def coil_picture(
    session: Session, read: SeriesReader, result: TrialResult | None, trial: str, aim: Part, width: int, height: int
) -> Text:
    """The picture of one of the four trials; where the probe is no coil, that."""
    if missing := no_coil(session.document.machine):
        return Text(f"{missing[0].upper()}{missing[1:]}. Nothing is to be done here.", Ink.text)
    cells = Cells(width, height)
    PICTURES[trial](cells, session, read, result, aim, max(30, width - SIDE_COLUMNS))
    return cells.text()


def _figure(cells: Cells, row: int, words: str, figure: str, more: str = "") -> None:
    """A large figure beside the picture."""
    left = cells.width - SIDE_COLUMNS + 3
    cells.put(left, row, words, Ink.dim)
    put_large(cells, left, row + 2, figure, f"bold {Ink.focus}")
    cells.put(left, row + 6, more, Ink.dim)


def _current(
    cells: Cells, session: Session, read: SeriesReader, result: TrialResult | None, aim: Part, width: int
) -> None:
    """Loudness against current, near and far, between the two limits."""
    series = read(DRIVEN.name)
    rows = series.rows.tolist() if series is not None else []
    top = max([2.0, *(1.05 * row[2] for row in rows)])
    drawn = graph(cells, 0, 0, (width, cells.height), (0.0, 1.7), (0.0, top), ("amplitude, V", "drive current, mA"))
    for volts, words in ((MAX_V, "too loud above"), (MIN_V, "too quiet below")):
        drawn.line((0.0, 1.7), (volts, volts), Ink.proposal)
        column, row = drawn.at(1.7, volts)
        cells.put(round(column) - len(words), round(row) - 1, words, Ink.proposal)
    for drive, up, volts, _ in rows:
        drawn.mark(drive, volts, "△" if up else "▽", Ink.focus if up else Ink.text)
    cells.put(16, 0, "▽ near  △ far", Ink.dim)
    finding = result.finding("drive") if result is not None else None
    if finding is not None:
        _figure(cells, 1, "drive current, mA", f"{finding.value:.2f}")
    elif not rows:
        cells.put(drawn.left + 2, drawn.top + drawn.height // 2 + 1, "not measured yet", Ink.quiet)


def _curve(
    cells: Cells, session: Session, read: SeriesReader, result: TrialResult | None, aim: Part, width: int
) -> None:
    """Frequency against height: every reading, and the curve through them."""
    assert isinstance(aim, CurveParameters)
    series = read(CURVE.name)
    rows = series.rows if series is not None else np.empty((0, 4))
    curve = _fitted(rows) if len(rows) >= 5 else _kept(session)
    khz = np.concatenate([rows[:, 1], curve.hz if curve is not None else np.empty(0)]) / 1000
    low, high = (float(khz.min()), float(khz.max())) if len(khz) else (0.0, 100.0)
    pad = 0.04 * (high - low) or 1.0
    words = ("frequency over the reference, kHz", "nozzle over the bed, mm")
    drawn = graph(cells, 0, 0, (width, cells.height), (0.0, aim.top_mm), (low - pad, high + pad), words)
    if curve is not None:
        drawn.line(curve.heights.tolist(), (curve.hz / 1000).tolist(), Ink.proposal)
        if curve.heights[0] <= aim.trigger_mm <= curve.heights[-1]:
            hz = float(curve.frequency(aim.trigger_mm)) / 1000
            drawn.line((aim.trigger_mm, aim.trigger_mm), (low, hz), Ink.faint)
            drawn.mark(aim.trigger_mm, hz, "◉", f"bold {Ink.focus}")
    for height, hz, _, _ in rows.tolist():
        drawn.mark(height, hz / 1000, "•", Ink.text)
    finding = result.finding("resolves_trigger") if result is not None else None
    if finding is None:
        cells.put(drawn.left + 2, drawn.top, "" if len(rows) else "not measured yet", Ink.quiet)
        return
    _figure(
        cells,
        1,
        f"noise at {aim.trigger_mm:g} mm, µm (1 s.d.)",
        f"{finding.value:.1f}",
        "smaller nearer the bed",
    )
    for line, (what, place_words) in enumerate((("resolves_low", "at its lowest"), ("resolves_top", "at its highest"))):
        other = result.finding(what) if result is not None else None
        if other is not None:
            cells.put(width + 3, 10 + line, f"{place_words:<16}{other.value:>6.1f} µm", Ink.text)
    backlash = result.finding("play") if result is not None else None
    if backlash is not None:
        cells.put(width + 3, 13, f"{'backlash of Z':<16}{backlash.value:>6.0f} µm", Ink.text)


def _fitted(rows: np.ndarray) -> CoilCurve | None:
    try:
        return fit_curve(rows[:, 0].tolist(), rows[:, 1].tolist())
    except ValueError:
        return None


def _kept(session: Session) -> CoilCurve | None:
    try:
        return curve_of(session.document.machine)
    except TrialFailed:
        return None


def _drift(
    cells: Cells, session: Session, read: SeriesReader, result: TrialResult | None, aim: Part, width: int
) -> None:
    """How far heights shift with the coil's warmth."""
    series, curve = read(DRIFTED.name), _kept(session)
    rows = series.rows.tolist() if series is not None and curve is not None else []
    heights = [float(curve.height(hz)) for _, _, hz in rows] if curve is not None else []
    off = [(celsius, 1000 * (mm - height), height) for (celsius, height, _), mm in zip(rows, heights, strict=True)]
    warm = [deviation[0] for deviation in off] or [20.0, 60.0]
    reach = max([50.0, *(1.1 * abs(deviation[1]) for deviation in off)])
    span = (min(warm) - 2, max(warm) + 2)
    words = ("heights shift without the drift, µm", "warmth of the coil, °C")
    drawn = graph(cells, 0, 0, (width, cells.height), span, (-reach, reach), words)
    drawn.line(span, (0.0, 0.0), Ink.faint)
    for celsius, um, height in off:
        drawn.mark(celsius, um, GLYPHS[HEIGHTS_MM.index(height)] if height in HEIGHTS_MM else "•", Ink.text)
    legend = "  ".join(f"{glyph} {height:g}" for glyph, height in zip(GLYPHS, HEIGHTS_MM, strict=True))
    cells.put(drawn.left + 2, drawn.top + drawn.height - 1, f"{legend} mm over the touched place", Ink.dim)
    finding = result.finding("holds_to") if result is not None else None
    if finding is not None and result is not None and (left := result.finding("residual")) is not None:
        _figure(cells, 1, "the drift leaves, µm", f"{left.value:.1f}", f"at most {GOOD_UM:g}")
        cells.put(width + 3, 10, f"holds up to {finding.value:.0f} °C", f"bold {Ink.text}")
        shift = result.finding("shift")
        if shift is not None:
            cells.put(width + 3, 12, f"without it {shift.value:+.0f} µm at {NEARER_MM:g} mm", Ink.dim)
    elif not off:
        cells.put(drawn.left + 2, drawn.top, "not measured yet", Ink.quiet)


def _pass(
    cells: Cells, session: Session, read: SeriesReader, result: TrialResult | None, aim: Part, width: int
) -> None:
    """The bed from above with what the newest scan measured, and how much each speed differs from the slow one."""
    series = read(PASSED.name)
    rows = series.rows if series is not None else np.empty((0, 5))
    wide = width - 16
    drawn = bed_map(cells, session.document.machine.bed, (), wide, cells.height)
    if not len(rows):
        cells.put(wide + 2, 1, "not passed yet", Ink.quiet)
        return
    newest = rows[rows[:, 0] == rows[-1, 0]]
    last = {(x, y): (there + back) / 2 for _, x, y, there, back in newest.tolist()}
    columns = sorted({x for x, _ in last})
    apart = abs(drawn.cell((columns[-1], 0.0))[0] - drawn.cell((columns[0], 0.0))[0]) / max(1, len(columns) - 1)
    columns_each = max(1, round(NUMBER_COLUMNS / max(0.5, apart) + 0.49))
    mean = sum(last.values()) / len(last)
    for (x, y), mm in last.items():
        words = f"{1000 * (mm - mean):+.0f}" if columns.index(x) % columns_each == 0 else "·"
        column, row = drawn.cell((x, y))
        cells.put(column - len(words) // 2, row, words, Ink.text if words != "·" else Ink.dim)
    cells.put(wide + 2, 0, "µm over the mean, in the newest pass", Ink.dim)
    speeds = _by_speed(rows)
    cells.put(wide + 2, 3, f"{'speed':<14}{'differs from slow':>20}", Ink.dim)
    chosen = result.finding("speed") if result is not None else None
    for line, (speed, um) in enumerate(speeds.items()):
        taken = chosen is not None and abs(chosen.value - speed) < 0.5
        style = f"bold {Ink.good}" if taken else Ink.text
        cells.put(wide + 2, 4 + line, f"{'✓' if taken else ' '} {speed:>5g} mm/s {um:>16.1f} µm", style)
    time = result.finding("time") if result is not None else None
    if time is not None:
        cells.put(wide + 2, 6 + len(speeds), f"a pass takes {time.value:.0f} s", f"bold {Ink.text}")


def _by_speed(rows: np.ndarray) -> Mapping[float, float]:
    """Deviation of each speed's heights from those of the slowest, µm; passes of one speed are taken together."""
    maps: dict[float, dict[tuple[float, float], list[float]]] = {}
    for speed, x, y, there, back in rows.tolist():
        maps.setdefault(speed, {}).setdefault((x, y), []).append((there + back) / 2)
    slow = {place: sum(point) / len(point) for place, point in maps[min(maps)].items()}
    by_speed = {}
    for speed, heights in maps.items():
        off = [sum(height) / len(height) - slow[place] for place, height in heights.items() if place in slow]
        by_speed[speed] = 1000 * float(np.std(off))
    return by_speed


PICTURES: Mapping[str, Draw] = {
    "coil-current": _current,
    "coil-curve": _curve,
    "coil-drift": _drift,
    "coil-pass": _pass,
}
