"""The bench of the Z offset: the nozzle over its gauge from the side, Z large, and every touch."""

from __future__ import annotations

from rich.text import Text

from ublet.core.level.probe.offset_trials import TOUCHED, TouchParameters, offset_live
from ublet.core.level.support.corner_hand_trials import gauge_of
from ublet.core.questions import Jog, Question
from ublet.core.run import TrialResult
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.motion.jog import JogBench
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS, LARGE_COLUMNS = 42, 34
NOZZLE = ("▐████▌", "▐████▌", "▐████▌", " ▜██▛ ", "  ▜▛  ")


class TouchBench(RecordedBench, JogBench):
    """How high the nozzle is over the bed."""

    kind = "touch"
    title = "Z offset"
    why = "the first layer is as thick as this is right; corners come first"

    def picture(self) -> Picture:
        """Nozzle, gauge and bed from the side."""
        aim = self.aim
        assert isinstance(aim, TouchParameters)
        question = self.question[0] if self.question is not None else None

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            drawn = touch_picture(session, self.read, self.shown_result, aim, question, width, height - 2)
            return drawn + Text("\n") + self.next_line(width)

        return draw


def touch_picture(
    session: Session,
    read: SeriesReader,
    result: TrialResult | None,
    aim: TouchParameters,
    question: Question | None,
    width: int,
    height: int,
) -> Text:
    """The nozzle as near as it is, the gauge below it; Z and the offset in large figures; the touches so far."""
    cells = Cells(width, height)
    z = session.connection.channel("axes.z.mm")
    gauge = aim.gauge_mm or gauge_of(session.document.machine)
    jog = question if isinstance(question, Jog) else None
    _from_the_side(cells, z if jog is not None else None, gauge, height)
    left = SIDE_COLUMNS
    cells.put(left, 0, "Z now, mm", Ink.dim)
    if z is None:
        cells.put(left, 2, "not homed", Ink.focus)
    else:
        put_large(cells, left, 2, f"{z:.2f}", f"bold {Ink.focus}")
    if jog is not None and jog.floor:
        cells.put(left, 6, f"not below {jog.floor['z']:.2f} mm", Ink.stop)
    offset = offset_live(session.document.machine, session.live)
    cells.put(left, 8, "Z offset on the board, mm", Ink.dim)
    put_large(cells, left, 10, f"{offset:.3f}", Ink.text)
    cells.put(left, 14, "more negative is nearer to the bed", Ink.dim)
    _touches(cells, left + LARGE_COLUMNS, read, result, gauge)
    return cells.text()


def _from_the_side(cells: Cells, z: float | None, gauge_mm: float, height: int) -> None:
    """Nozzle over gauge over bed. Heights are drawn on a scale that opens near the bed: 1 mm is as high as 10 are."""
    bed = height - 3
    cells.put(0, 0, "from the side", Ink.dim)
    cells.put(2, bed, "▔" * 36, Ink.text)
    cells.put(2, bed + 1, "bed", Ink.quiet)
    cells.put(6, bed - 1, "━" * 28, Ink.proposal)
    cells.put(35, bed - 1, f"{gauge_mm:g} mm", Ink.proposal)
    room = max(3, bed - 8)
    fraction = 1.0 if z is None else min(1.0, max(0.0, (max(0.0, z - gauge_mm) / 10) ** 0.5))
    tip = bed - 2 - round(fraction * (room - 1))
    for row, shape in (
        (tip - 4, "▐████▌"),
        (tip - 3, "▐████▌"),
        (tip - 2, "▐████▌"),
        (tip - 1, " ▜██▛ "),
        (tip, "  ▜▛  "),
    ):
        if row > 0:
            cells.put(15, row, shape, Ink.text if z is not None else Ink.faint)


def _touches(cells: Cells, left: int, read: SeriesReader, result: TrialResult | None, gauge_mm: float) -> None:
    """Every touch so far; else the last result."""
    if left + 30 > cells.width:
        return
    series = read(TOUCHED.name)
    cells.put(left, 0, f"{'touch':<7}{'triggered':>10}{'dragged':>10}{'offset':>10}", Ink.dim)
    if series is not None:
        for line, (number, trigger, touched) in enumerate(series.rows.tolist()):
            shown = f"{trigger:>10.3f}" if trigger else f"{'–':>10}"
            cells.put(left, 2 + line, f"{number + 1:<7.0f}{shown}{touched:>10.3f}", Ink.text)
            if trigger:
                cells.put(left + 27, 2 + line, f"{touched - gauge_mm - trigger:>10.3f}", f"bold {Ink.focus}")
        return
    finding = result.finding("offset") if result is not None else None
    if finding is None:
        cells.put(left, 2, "nothing was touched yet", Ink.quiet)
        return
    cells.put(left, 2, f"last: {finding.value:.3f} ±{2 * (finding.uncertainty or 0.0):.3f} mm", f"bold {Ink.focus}")
    scatter = result.finding("scatter") if result is not None else None
    if scatter is not None:
        cells.put(left, 4, f"touches differ by {scatter.value:.3f} mm", Ink.text)
    hot = result.finding("hot_less_cold") if result is not None else None
    if hot is not None:
        cells.put(left, 6, f"hot less cold {hot.value:+.3f} mm", Ink.text)
