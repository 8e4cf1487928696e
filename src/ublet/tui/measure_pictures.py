"""Pictures of measured lengths and of tried speeds."""

from __future__ import annotations

import math

from rich.text import Text

from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import axis_of
from ublet.core.motion.steps import other_parts
from ublet.core.motion.steps_trials import declared_drive
from ublet.core.run import Series, TrialResult
from ublet.core.settings import number_or
from ublet.core.units import show, with_uncertainty
from ublet.session.session import Session
from ublet.tui.pictures import put
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch

NARROWEST_MM = 0.1
"""A strip of errors spans at least this to either side, mm."""

STRIP_COLUMNS = 81
STEPS_ROWS = 8
"""Rows that each axis takes where there is room."""


def steps_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """For each axis geometry, board and measurement; below, how far each reading was off what was told, to scale."""
    result = _latest(session, watched, "steps-per-mm")
    series = watched.series("readings") if watched is not None else None
    phase = watched.latest.phase if watched is not None and watched.latest is not None else ""
    text = Text(no_wrap=True)
    roomy = height >= 3 * STEPS_ROWS + 1
    text.append(f"{'axis':<6}{'geometry':>12}{'on the board':>16}{'measured':>24}\n", palette.dim)
    for number, name in enumerate(("x", "y", "z")):
        axis = axis_of(session.document.machine, name)
        geometry = axis_steps_per_mm(axis, next(iter(axis.motors.values())))
        live = session.live(f"axes.{name}.steps_per_mm")
        found = result.finding("steps_per_mm", axis=name) if result is not None else None
        measured = with_uncertainty(found.value, found.uncertainty or 0.0) if found is not None else "–"
        now = phase == f"axis {name.upper()}"
        text.append("\n")
        text.append(f"{name.upper():<6}", f"bold {palette.focus}" if now else f"bold {palette.text}")
        text.append(
            f"{show(geometry, '', 6):>12}{show(number_or(live, 0.0), '', 7) if live else '–':>16}", palette.text
        )
        text.append(f"{measured:>24}", f"bold {palette.focus}" if found is not None else palette.dim)
        text.append("  steps/mm\n", palette.dim)
        text.append("\n" if roomy else "")
        text.append_text(_strip(_errors(series, number), result, name, width, palette))
        text.append("\n")
        if roomy:
            text.append("\n      with another part it would be   ", palette.quiet)
            others = other_parts(geometry, declared_drive(session.document.machine, name))
            for part, steps in others:
                words = f"{part} {show(steps, '', 5)}   "
                if len(text.plain) - text.plain.rfind("\n") + len(words) < width:
                    text.append(words, palette.dim)
            text.append("\n")
    return text


def _latest(session: Session, watched: TrialWatch | None, trial: str) -> TrialResult | None:
    """While a trial runs nothing older is shown beside it."""
    entry = session.ledger.latest(trial) if watched is None else None
    return entry.result if entry is not None and entry.result.outcome != "halted" else None


def _errors(series: Series | None, number: int) -> list[float]:
    """How far each reading of an axis was off, mm."""
    rows = series.rows.tolist() if series is not None else []
    return [row[3] - row[2] for row in rows if round(row[0]) == number]


def _strip(errors: list[float], result: TrialResult | None, name: str, width: int, palette: Palette) -> Text:
    """Readings as dots around what was told; when all are in, their mean with two standard uncertainties."""
    columns = min(STRIP_COLUMNS, max(21, width - 30)) // 2 * 2 + 1
    mean = result.finding("error", axis=name) if result is not None else None
    values = errors or ([mean.value] if mean is not None else [])
    line = Text("      " + "─" * columns, palette.faint)
    middle = 6 + columns // 2
    if not values:
        line = put(line, middle, "┼", palette.dim)
        line.append("   not measured yet\n", palette.dim)
        return line
    error = 2 * (mean.uncertainty or 0.0) if mean is not None else 0.0
    reach = _round_up(max([NARROWEST_MM, *(abs(value) + error for value in values)]))

    def at(mm: float) -> int:
        return middle + round(mm / reach * (columns // 2))

    line = put(line, middle, "┼", palette.dim)
    if mean is not None:
        left, right = at(mean.value - error), at(mean.value + error)
        line = put(line, left, "├" + "─" * max(0, right - left - 1) + "┤", palette.proposal)
        line = put(line, at(mean.value), "◆", f"bold {palette.focus}")
        line.append(f"   {mean.value:+.3f} ±{error:.3f} mm", palette.text)
    else:
        for value in values:
            line = put(line, at(value), "●", palette.focus)
        line.append(f"   latest {values[-1]:+.3f} mm", palette.text)
    line.append(f"\n      {-reach:<+{columns // 2}g}0{reach:>+{columns // 2}g}", palette.quiet)
    line.append("   mm further than told", palette.quiet)
    return line


def _round_up(mm: float) -> float:
    """The next of 1, 2, 5 times a power of ten."""
    power = 10.0 ** math.floor(math.log10(mm))
    return next(step * power for step in (1.0, 2.0, 5.0, 10.0) if step * power >= mm - 1e-12)


def limits_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """What is live for each axis, and every try of the running trial: what was asked, how far off it came."""
    text = Text(no_wrap=True)
    series = watched.series("tries") if watched is not None else None
    text.append(f"{'axis':<6}{'feed':>14}{'acceleration':>18}{'current':>12}\n", palette.dim)
    for name in ("x", "y", "z"):
        feed, acceleration = (session.live(f"axes.{name}.{key}") for key in ("maximum_feed_mm_s", "acceleration_mm_s2"))
        motor = next(iter(axis_of(session.document.machine, name).motors))
        amps = session.live(f"axes.{name}.motors.{motor}.run_a")
        values = [
            show(float(value), unit, 4) if isinstance(value, (int, float)) else "–"
            for value, unit in ((feed, "mm/s"), (acceleration, "mm/s²"), (amps, "A"))
        ]
        text.append(f"{name.upper():<6}", f"bold {palette.text}")
        text.append(f"{values[0]:>14}{values[1]:>18}{values[2]:>12}\n", palette.text)
    if series is None:
        text.append_text(_found(session, height, palette))
        return text
    heading = f"\n{'tried':<6}{'feed':>14}{'acceleration':>18}{'current':>12}{'off by':>14}"
    text.append(f"{heading}{'':<17}times what is live\n", palette.dim)
    room = max(3, height - 8)
    for row in series.rows.tolist()[-room:]:
        text.append_text(_try_line(session, row, max(0, width - 112), palette))
    return text


def _try_line(session: Session, row: list[float], columns: int, palette: Palette) -> Text:
    """One try: what was asked, how far off the count came, and a bar of how many times the live value that was."""
    name, held, line = "xyz"[round(row[0])], bool(row[5]), Text()
    line.append(f"{name.upper():<6}", palette.text)
    amps_words = show(row[3], "A", 3) if row[3] else ""
    line.append(f"{show(row[1], 'mm/s', 4):>14}{show(row[2], 'mm/s²', 4):>18}{amps_words:>12}", palette.text)
    line.append(f"{row[4]:>+11.3f} mm", palette.text)
    line.append(f"   {'● held' if held else '✗ lost steps':<14}", palette.good if held else palette.stop)
    motor = next(iter(axis_of(session.document.machine, name).motors))
    paths = ("maximum_feed_mm_s", "acceleration_mm_s2", f"motors.{motor}.run_a")
    shares = []
    for path, value in zip(paths, row[1:4], strict=True):
        live = session.lent.get(f"axes.{name}.{path}", session.live(f"axes.{name}.{path}"))
        if value and isinstance(live, (int, float)) and live:
            shares.append(value / live)
    ratio = max(shares, key=lambda share: abs(share - 1), default=1.0)
    line.append(f"{ratio:>6.2f} ", f"bold {palette.focus}")
    line.append("█" * min(columns, round(columns * ratio / 2)), palette.good if held else palette.stop)
    line.append("\n")
    return line


def _found(session: Session, height: int, palette: Palette) -> Text:
    """What the newest results found."""
    text = Text()
    for trial, words in (("speed-limits", "speed and acceleration"), ("driver-current", "driver current")):
        result = _latest(session, None, trial)
        text.append(f"\n{words}\n", palette.dim)
        if result is None or not result.findings:
            text.append("  not tried yet\n", palette.quiet)
            continue
        for finding in result.findings[: max(2, height // 3)]:
            shown = with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)
            text.append(f"  {finding.name:<34}", palette.text)
            text.append(f"{shown:>22}\n", f"bold {palette.focus}")
    return text
