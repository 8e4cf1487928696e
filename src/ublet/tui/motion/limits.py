"""The bench of speed limits and driver current: what each axis stands, and every try of it."""

from __future__ import annotations

from rich.text import Text

from ublet.core.motion.homing_moves import axis_of
from ublet.core.units import show, with_uncertainty
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture
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


def limits_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """What is live for each axis, and every try of the running trial: what was asked, how far off it came."""
    text = Text(no_wrap=True)
    series = watched.series("tries") if watched is not None else None
    text.append(f"{'axis':<6}{'feed':>14}{'acceleration':>18}{'current':>12}\n", Ink.dim)
    for name in ("x", "y", "z"):
        feed, acceleration = (session.live(f"axes.{name}.{key}") for key in ("maximum_feed_mm_s", "acceleration_mm_s2"))
        motor = next(iter(axis_of(session.document.machine, name).motors))
        amps = session.live(f"axes.{name}.motors.{motor}.run_a")
        values = [
            show(float(value), unit, 4) if isinstance(value, (int, float)) else "–"
            for value, unit in ((feed, "mm/s"), (acceleration, "mm/s²"), (amps, "A"))
        ]
        text.append(f"{name.upper():<6}", f"bold {Ink.text}")
        text.append(f"{values[0]:>14}{values[1]:>18}{values[2]:>12}\n", Ink.text)
    if series is None:
        text.append_text(_found(session, height))
        return text
    heading = f"\n{'tried':<6}{'feed':>14}{'acceleration':>18}{'current':>12}{'off by':>14}"
    text.append(f"{heading}{'':<17}times what is live\n", Ink.dim)
    room = max(3, height - 8)
    for row in series.rows.tolist()[-room:]:
        text.append_text(_try_line(session, row, max(0, width - 112)))
    return text


def _try_line(session: Session, row: list[float], columns: int) -> Text:
    """One try: what was asked, how far off the count came, and a bar of how many times the live value that was."""
    name, held, line = "xyz"[round(row[0])], bool(row[5]), Text()
    line.append(f"{name.upper():<6}", Ink.text)
    amps_words = show(row[3], "A", 3) if row[3] else ""
    line.append(f"{show(row[1], 'mm/s', 4):>14}{show(row[2], 'mm/s²', 4):>18}{amps_words:>12}", Ink.text)
    line.append(f"{row[4]:>+11.3f} mm", Ink.text)
    line.append(f"   {'● held' if held else '✗ lost steps':<14}", Ink.good if held else Ink.stop)
    motor = next(iter(axis_of(session.document.machine, name).motors))
    paths = ("maximum_feed_mm_s", "acceleration_mm_s2", f"motors.{motor}.run_a")
    shares = []
    for path, value in zip(paths, row[1:4], strict=True):
        live = session.lent.get(f"axes.{name}.{path}", session.live(f"axes.{name}.{path}"))
        if value and isinstance(live, (int, float)) and live:
            shares.append(value / live)
    ratio = max(shares, key=lambda share: abs(share - 1), default=1.0)
    line.append(f"{ratio:>6.2f} ", f"bold {Ink.focus}")
    line.append("█" * min(columns, round(columns * ratio / 2)), Ink.good if held else Ink.stop)
    line.append("\n")
    return line


def _found(session: Session, height: int) -> Text:
    """What the newest results found."""
    text = Text()
    for trial, words in (("speed-limits", "speed and acceleration"), ("driver-current", "driver current")):
        result = newest_result(session, None, trial)
        text.append(f"\n{words}\n", Ink.dim)
        if result is None or not result.findings:
            text.append("  not tried yet\n", Ink.quiet)
            continue
        for finding in result.findings[: max(2, height // 3)]:
            shown = with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)
            text.append(f"  {finding.name:<34}", Ink.text)
            text.append(f"{shown:>22}\n", f"bold {Ink.focus}")
    return text
