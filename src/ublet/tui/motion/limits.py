"""The bench of speed limits and driver current: what each axis stands, and every try of it."""

from __future__ import annotations

from rich.text import Text

from ublet.core.motion.counting import DIRECTIONS
from ublet.core.motion.homing_moves import axis_of
from ublet.core.run import Finding, Series
from ublet.core.settings import number_or
from ublet.core.units import show, with_uncertainty
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, put, spaced
from ublet.tui.motion.steps import newest_result
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch


class LimitsBench(TrialBench):
    """What each axis stands."""

    kind = "limits"
    title = "Speed limits"
    why = "the fastest that loses no step, with a margin kept"

    def picture(self) -> Picture:
        """Every try, and whether it held."""
        return limits_picture


QUANTITIES = (("feed", "maximum_feed_mm_s", "mm/s"), ("acceleration", "acceleration_mm_s2", "mm/s²"))
"""What an axis is limited to: in words, its setting, its unit."""

BAR_FRACTION = 2.5
"""A bar is as long as so many times the live value."""


def limits_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """What is live for each axis, beside what was found; and every try of the running trial."""
    series = watched.series("tries") if watched is not None else None
    if series is not None:
        return _tries(session, series, width, height)
    results = [newest_result(session, None, trial) for trial in ("speed-limits", "driver-current")]
    findings = [finding for result in results if result is not None for finding in result.findings]
    columns = max(10, min(70, width - 56))
    blocks = [Text(f"{'axis':<6}{'':<14}{'live':>14}   bars: live, and ◆ where steps are lost", Ink.dim, no_wrap=True)]
    for name in ("x", "y", "z"):
        mine = {finding.what.partition("_")[0]: finding for finding in findings if finding.subject == {"axis": name}}
        text, motor = Text(no_wrap=True), next(iter(axis_of(session.document.machine, name).motors))
        for row, (what, key, unit) in enumerate((*QUANTITIES, ("current", f"motors.{motor}.run_a", "A"))):
            text.append("\n" if row else "")
            text.append(f"{name.upper() if not row else '':<6}", f"bold {Ink.text}")
            text.append(f"{what:<14}", Ink.dim)
            live = session.live(f"axes.{name}.{key}")
            finding = mine.get("least" if what == "current" else what)
            text.append_text(_limit_line(number_or(live, 0.0), unit, finding, columns))
        blocks.append(text)
    return spaced(blocks, height, 3)


def _limit_line(live: float, unit: str, finding: Finding | None, columns: int) -> Text:
    """A live value with its bar; where it was tried, a mark where steps were lost and what that means in words."""
    line = Text(no_wrap=True)
    line.append(f"{show(live, unit, 4) if live else '–':>14}   ", f"bold {Ink.text}")
    full = round(columns / BAR_FRACTION) if live else 0
    bar = Text().append("━" * full, Ink.focus).append("─" * (columns - full), Ink.faint)
    if finding is not None and live:
        bar = put(
            bar, min(columns - 1, round(columns * finding.value / live / BAR_FRACTION)), "◆", f"bold {Ink.proposal}"
        )
    line.append_text(bar)
    if finding is None:
        line.append("  not tried yet", Ink.quiet)
    else:
        words = {"limit": "lost above", "holds": "held up to", "current": "lost below"}
        shown = with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)
        line.append(f"  {words[finding.what.rpartition('_')[2]]} {shown}", Ink.text)
    return line


def _tries(session: Session, series: Series, width: int, height: int) -> Text:
    """The newest tries of a running trial, as many as there is room for."""
    text = Text(no_wrap=True)
    heading = f"{'tried':<6}{'feed':>14}{'acceleration':>18}{'current':>12}{'off by':>14}"
    text.append(f"{heading}{'':<17}times what is live\n", Ink.dim)
    for row in series.rows.tolist()[-max(3, height - 3) :]:
        text.append_text(_try_line(session, row, max(0, width - 88)))
    text.rstrip()
    return text


def _try_line(session: Session, row: list[float], columns: int) -> Text:
    """One try: what was asked, how far off the count came, and a bar of how many times the live value that was."""
    direction, held, line = DIRECTIONS[round(row[0])], bool(row[5]), Text()
    name = direction[0]
    line.append(f"{direction.upper():<6}", Ink.text)
    amps_words = show(row[3], "A", 3) if row[3] else ""
    line.append(f"{show(row[1], 'mm/s', 4):>14}{show(row[2], 'mm/s²', 4):>18}{amps_words:>12}", Ink.text)
    line.append(f"{row[4]:>+11.3f} mm", Ink.text)
    line.append(f"   {'● held' if held else '✗ lost steps':<14}", Ink.good if held else Ink.stop)
    motor = next(iter(axis_of(session.document.machine, name).motors))
    paths = ("maximum_feed_mm_s", "acceleration_mm_s2", f"motors.{motor}.run_a")
    fractions = []
    for path, value in zip(paths, row[1:4], strict=True):
        live = session.loans.get(f"axes.{name}.{path}", session.live(f"axes.{name}.{path}"))
        if value and isinstance(live, (int, float)) and live:
            fractions.append(value / live)
    ratio = max(fractions, key=lambda fraction: abs(fraction - 1), default=1.0)
    line.append(f"{ratio:>6.2f} ", f"bold {Ink.focus}")
    line.append("█" * min(columns, round(columns * ratio / 2)), Ink.good if held else Ink.stop)
    line.append("\n")
    return line
