"""The bench of the flow limit: what goes in over the flow, with the line of 5 % and where it is crossed."""

from __future__ import annotations

from rich.text import Text

from ublet.core.extrude.flow import COMMON, SHORT
from ublet.core.extrude.flow_trials import STEP_TIMES, STEPS, FlowParameters
from ublet.core.motion.patterns import Stroke
from ublet.core.run import Series
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.recorded import RecordedBench
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS, WIDE = 40, 100
LOWEST_PERCENT, DRAWN_STEPS = 70.0, 9


HELP = Help(
    """\
    A hotend melts a limited volume a second. Beyond it less goes in than is commanded, at first a little: walls get
    thin and layers part, and nothing in a print says why.
    """,
    """\
    Filament is pushed into the air, slowly at first, then ever faster, until 5 % falls short of the slow pushes. What
    goes in is read by a mark and callipers, or counted by the wheel of a filament sensor (parameter by). There it is
    pushed once more with more current: a motor that stalls pushes on, a hob that slips does not. With hotter_c a
    second series shows what 10 °C more add.
    """,
)


class FlowBench(RecordedBench):
    """How fast it can melt."""

    kind = "flow"
    title = "Flow limit"
    why = "beyond it the hob slips or the motor stalls, and prints get thin without a word"
    help = HELP

    def picture(self) -> Picture:
        """Shares that went in over flows."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            aim = self.aim
            assert isinstance(aim, FlowParameters)
            cells = Cells(width, max(height, 6))
            side = SIDE_COLUMNS if width >= WIDE else 0
            self._graph(cells, aim, self.read(STEPS.name), (width - side, height))
            if side:
                self._beside(cells, width - side + 2, watched is not None)
            return cells.text()

        return draw

    def _graph(self, cells: Cells, aim: FlowParameters, series: Series | None, size: tuple[int, int]) -> None:
        rows = series.rows.tolist() if series is not None else []
        most = max([aim.first_mm3_s * STEP_TIMES**DRAWN_STEPS, *(1.1 * row[1] for row in rows)])
        drawn = graph(cells, 0, 0, size, (0.0, most), (LOWEST_PERCENT, 102.0), ("fed / commanded, %", "mm³/s"))
        drawn.line([0.0, most], [100 * (1 - SHORT)] * 2, Ink.stop)
        cells.put(drawn.left + drawn.width - 9, round(drawn.at(0.0, 100 * (1 - SHORT))[1]) + 1, "5 % short", Ink.stop)
        for number, celsius in enumerate(dict.fromkeys(row[0] for row in rows)):
            mine = [row for row in rows if row[0] == celsius]
            ink = f"bold {Ink.focus}" if number == 0 else f"bold {Ink.proposal}"
            for row in mine:
                drawn.mark(row[1], max(LOWEST_PERCENT, 100 * row[4]), "●" if number == 0 else "◇", ink)
            words = f"{'●' if number == 0 else '◇'} {celsius:.0f} °C"
            cells.put(drawn.left + 2, drawn.top + drawn.height - 3 + number, words, ink)
        result = self.shown_result
        for what, ink in (("flow_limit", Ink.focus), ("flow_limit_hotter", Ink.proposal)):
            if result is not None and (finding := result.finding(what)) is not None:
                drawn.mark(finding.value, 100 * (1 - SHORT), "┃", f"bold {ink}")
        if not rows:
            cells.put(drawn.left + 2, drawn.top + 1, "nothing was pushed yet", Ink.quiet)

    def _beside(self, cells: Cells, left: int, running: bool) -> None:
        """The limit large, and what it means for common lines."""
        finding = self.result.finding("flow_limit") if self.result is not None and not running else None
        cells.put(left, 0, "flow limit, mm³/s", Ink.quiet)
        if finding is None:
            cells.put(left, 1, "not found yet", Ink.text)
            return
        put_large(cells, left, 1, f"{finding.value:.1f}", f"bold {Ink.focus}")
        cells.put(left, 5, f"± {2 * (finding.uncertainty or 0.0):.1f} mm³/s", Ink.dim)
        option = self.option
        proposed = option.figures.get("flow") if option is not None else None
        if proposed is None:
            return
        cells.put(left, 7, f"{proposed:g} mm³/s with a margin prints", Ink.text)
        for row, (width, height) in enumerate(COMMON):
            section = Stroke(width, height).section_mm2
            cells.put(left, 8 + row, f"{width:g} x {height:g} mm", Ink.dim)
            cells.put(left + 14, 8 + row, f"{proposed / section:>5.0f} mm/s", f"bold {Ink.text}")
