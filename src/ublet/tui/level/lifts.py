"""The bench of lead screws: the bed from above with its lifts, and how the range fell round by round."""

from __future__ import annotations

import math

from rich.text import Text

from ublet.core.level.probe.probing import TOUCHES
from ublet.core.level.support.lift_trials import pivots_of
from ublet.core.machine.level_parts import Lifts
from ublet.core.run import Series, TrialFailed, TrialResult
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import bed_map
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

ROUND_COLUMNS, EACH_COLUMNS, APART, LEAST_MAP_COLUMNS = 5, 9, 4, 30
FLOOR_MM = 0.005


class LiftsBench(RecordedBench):
    """The bed square to the frame."""

    kind = "lifts"
    title = "Lead screws"
    why = "a tilted gantry or bed cannot be levelled by the corner screws"

    def picture(self) -> Picture:
        """The lifts from above, and the rounds."""
        by_hand = self.spec.by_hand

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            return lifts_picture(session, self.read, self.shown_result, self.spec.name, by_hand, width, height)

        return draw


def lifts_picture(
    session: Session, read: SeriesReader, result: TrialResult | None, trial: str, by_hand: bool, width: int, height: int
) -> Text:
    """The lifts at their pivots with what each side is off; beside them every round."""
    machine = session.document.machine
    names = tuple(machine.axes.z.motors)
    if len(names) < 2:
        return Text("One lead screw carries Z: there is nothing to bring square.", Ink.text)
    try:
        pivots = pivots_of(machine)
    except TrialFailed as missing:
        return Text(str(missing), Ink.stop)
    rows = _rows(read, "gaps" if by_hand else "rounds")
    cells = Cells(width, height)
    table = ROUND_COLUMNS + EACH_COLUMNS * (len(names) + 1) + APART
    wide = max(LEAST_MAP_COLUMNS, width - table)
    drawn = bed_map(cells, machine.bed, pivots.values(), wide, height)
    cells.put(0, 0, "from above", Ink.dim)
    off = _latest(rows, names) or _found(result, names)
    touches = read(TOUCHES.name)
    if touches is not None:
        for x, y, _ in touches.rows.tolist():
            drawn.mark((x, y), "•", Ink.dim)
        drawn.mark(tuple(touches.rows[-1][:2].tolist()), "◉", f"bold {Ink.focus}")
    for name, pivot in pivots.items():
        drawn.mark(pivot, "◆", Ink.proposal)
        mm = off.get(name)
        figure = f"{mm:+.3f} mm" if mm is not None and not by_hand else f"{mm:.1f} mm" if mm is not None else "–"
        drawn.label(
            pivot, ((name, Ink.text), (figure, f"bold {Ink.focus}")), below=pivot[1] <= machine.bed.depth_mm / 2
        )
    _table(cells, wide + 2, rows, names, by_hand, machine.lifts or Lifts(), result)
    return cells.text()


def _rows(read: SeriesReader, stream: str) -> list[list[float]]:
    series: Series | None = read(stream)
    return series.rows.tolist() if series is not None else []


def _latest(rows: list[list[float]], names: tuple[str, ...]) -> dict[str, float]:
    """What each side was off in the last round."""
    return {names[round(row[1])]: row[2] for row in rows}


def _found(result: TrialResult | None, names: tuple[str, ...]) -> dict[str, float]:
    """What the last result says of each side."""
    findings = {name: result.finding("height", lift=name) if result is not None else None for name in names}
    return {name: finding.value for name, finding in findings.items() if finding is not None}


def _table(
    cells: Cells,
    left: int,
    rows: list[list[float]],
    names: tuple[str, ...],
    by_hand: bool,
    lifts: Lifts,
    result: TrialResult | None,
) -> None:
    """Every round: its range, on a scale of tens, and what each lift did."""
    cells.put(left, 0, "round" + "".join(f"{name:>{EACH_COLUMNS}}" for name in (*names, "range")), Ink.dim)
    rounds: dict[int, list[list[float]]] = {}
    for row in rows:
        rounds.setdefault(round(row[0]), []).append(row)
    line = 2
    for number, heights in rounds.items():
        values = [row[2] for row in heights]
        cells.put(left, line, f"{number:>5}", Ink.dim)
        for row in heights:
            shown = f"{row[2]:.1f}" if by_hand else f"{row[2]:+.3f}"
            cells.put(left + ROUND_COLUMNS + EACH_COLUMNS * round(row[1]), line, f"{shown:>{EACH_COLUMNS}}", Ink.text)
        if len(heights) == len(names):
            spread = max(values) - min(values)
            good = spread <= lifts.tolerance_mm
            style = f"bold {Ink.good if good and not by_hand else Ink.focus}"
            cells.put(
                left + ROUND_COLUMNS + EACH_COLUMNS * len(names),
                line,
                f"{spread:>{EACH_COLUMNS}.{1 if by_hand else 3}f}",
                style,
            )
        if not by_hand and any(row[3] for row in heights):
            cells.put(left, line + 1, "  did", Ink.quiet)
            for row in heights:
                cells.put(
                    left + ROUND_COLUMNS + EACH_COLUMNS * round(row[1]),
                    line + 1,
                    f"{_way(row[3]):>{EACH_COLUMNS}}",
                    Ink.quiet,
                )
            line += 1
        line += 2
    finding = result.finding("range") if result is not None else None
    before = result.finding("range_before") if result is not None else None
    if not rows:
        state = "not measured yet"
        if finding is not None and before is not None:
            state = f"last: from {before.value:.3f} to {finding.value:.3f} mm"
        cells.put(left, 2, state, Ink.text if finding is not None else Ink.quiet)
    if not by_hand:
        ranges = [max(row[2] for row in heights) - min(row[2] for row in heights) for heights in rounds.values()]
        if not ranges and finding is not None and before is not None:
            ranges = [before.value, finding.value]
        _scale(cells, left, max(line + 1, 4), ranges, lifts.tolerance_mm)


def _way(mm: float) -> str:
    """What a lift did: ``↓ 0.312`` lowers its side."""
    return f"{'↓' if mm > 0 else '↑'} {abs(mm):.3f}" if mm else "–"


def _scale(cells: Cells, left: int, top: int, ranges: list[float], tolerance_mm: float) -> None:
    """The ranges on a scale of tens, round by round downwards, with the tolerance as a line."""
    columns, high = min(48, cells.width - left - 2), 2.0
    if top + 4 > cells.height or columns < 24:
        return

    def at(mm: float) -> int:
        fraction = math.log(max(mm, FLOOR_MM) / FLOOR_MM) / math.log(high / FLOOR_MM)
        return left + round(min(1.0, fraction) * columns)

    cells.put(left, top, "range, mm", Ink.dim)
    bottom = min(cells.height - 2, top + max(3, len(ranges)) + 1)
    for row in range(top + 1, bottom):
        cells.put(at(tolerance_mm), row, "┆", Ink.good)
    cells.put(left, bottom, "─" * (columns + 1), Ink.faint)
    for mark in (0.01, 0.1, 1.0):
        cells.put(at(mark), bottom, "┴", Ink.faint)
        cells.put(at(mark) - 1, bottom + 1, f"{mark:g}", Ink.quiet)
    cells.put(at(tolerance_mm) + 1, top, f"{tolerance_mm:g} is level", Ink.good)
    for line, spread in enumerate(ranges, start=top + 1):
        if line < bottom and spread > 0:
            cells.put(left, line, "━" * (at(spread) - left), Ink.faint)
            cells.put(at(spread), line, "●", f"bold {Ink.good if spread <= tolerance_mm else Ink.focus}")
