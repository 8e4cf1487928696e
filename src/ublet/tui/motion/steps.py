"""The bench of steps per mm: geometry, board and measurement of each axis, and how far each reading was off."""

from __future__ import annotations

import math
from collections.abc import Sequence

from rich.text import Text

from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.motion.homing_moves import axis_of
from ublet.core.motion.steps import other_parts
from ublet.core.motion.steps_trials import declared_drive
from ublet.core.run import Series, TrialResult
from ublet.core.settings import number_or
from ublet.core.units import show, with_uncertainty
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, put, spaced
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

NARROWEST_MM = 0.1
"""A strip of errors spans at least this to either side, mm."""

STRIP_COLUMNS = 81
STEPS_ROWS = 8
"""Rows that each axis takes where there is room."""


class StepsBench(TrialBench):
    """Each axis as long as it says."""

    kind = "steps"
    title = "Steps per mm"
    why = "geometry first; measured only to find a wrong part"

    def picture(self) -> Picture:
        """Readings against what was commanded."""
        return steps_picture


def steps_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """For each axis geometry, board and measurement; below, how far each reading was off the commanded length, to
    scale.
    """
    result = newest_result(session, watched, "steps-per-mm")
    series = watched.series("readings") if watched is not None else None
    about = watched.latest.about if watched is not None and watched.latest is not None else ""
    roomy = height >= 3 * STEPS_ROWS + 1
    head = f"{'axis':<6}{'geometry':>12}{'on the board':>16}{'measured':>24}"
    blocks = [Text(head, Ink.dim, no_wrap=True)]
    for number, name in enumerate(("x", "y", "z")):
        text = _figures(session, result, name, about == name)
        text.append("\n\n" if roomy else "\n")
        text.append_text(_strip(_errors(series, number), result, name, width))
        if roomy:
            text.append_text(_other_parts(session, name, width))
        blocks.append(text)
    return spaced(blocks, height, 5)


def _figures(session: Session, result: TrialResult | None, name: str, now: bool) -> Text:
    """An axis' steps per mm: by geometry, on the board, as measured."""
    axis, text = axis_of(session.document.machine, name), Text(no_wrap=True)
    geometry = axis_steps_per_mm(axis, next(iter(axis.motors.values())))
    live = session.live(f"axes.{name}.steps_per_mm")
    finding = result.finding("steps_per_mm", axis=name) if result is not None else None
    measured = with_uncertainty(finding.value, finding.uncertainty or 0.0) if finding is not None else "–"
    text.append(f"{name.upper():<6}", f"bold {Ink.focus}" if now else f"bold {Ink.text}")
    text.append(f"{show(geometry, '', 6):>12}{show(number_or(live, 0.0), '', 7) if live else '–':>16}", Ink.text)
    text.append(f"{measured:>24}", f"bold {Ink.focus}" if finding is not None else Ink.dim)
    text.append("  steps/mm", Ink.dim)
    return text


def _other_parts(session: Session, name: str, width: int) -> Text:
    """What it would be with another pulley or screw: a typical ratio identifies the wrong part."""
    axis, text = axis_of(session.document.machine, name), Text("\n\n", no_wrap=True)
    geometry = axis_steps_per_mm(axis, next(iter(axis.motors.values())))
    text.append("      with another part it would be   ", Ink.quiet)
    for part, steps in other_parts(geometry, declared_drive(session.document.machine, name)):
        words = f"{part} {show(steps, '', 5)}   "
        if len(text) - 2 + len(words) < width:
            text.append(words, Ink.dim)
    return text


def newest_result(session: Session, watched: TrialWatch | None, trial: str) -> TrialResult | None:
    """While a trial runs nothing older is shown beside it."""
    entry = session.ledger.latest(trial) if watched is None else None
    return entry.result if entry is not None and entry.result.outcome != "halted" else None


def _errors(series: Series | None, number: int) -> list[float]:
    """How far each reading of an axis was off, mm."""
    rows = series.rows.tolist() if series is not None else []
    return [row[3] - row[2] for row in rows if round(row[0]) == number]


def _strip(errors: list[float], result: TrialResult | None, name: str, width: int) -> Text:
    """Readings as dots around what was commanded; when all are in, their mean with two standard uncertainties."""
    columns = min(STRIP_COLUMNS, max(21, width - 30)) // 2 * 2 + 1
    mean = result.finding("error", axis=name) if result is not None else None
    values = errors or ([mean.value] if mean is not None else [])
    line = Text("      " + "─" * columns, Ink.faint)
    middle = 6 + columns // 2
    if not values:
        line = put(line, middle, "┼", Ink.dim)
        line.append("   not measured yet", Ink.dim)
        return line
    error = 2 * (mean.uncertainty or 0.0) if mean is not None else 0.0
    reach = reach_for([abs(value) + error for value in values], NARROWEST_MM)

    def at(mm: float) -> int:
        return middle + round(mm / reach * (columns // 2))

    line = put(line, middle, "┼", Ink.dim)
    if mean is not None:
        left, right = at(mean.value - error), at(mean.value + error)
        line = put(line, left, "├" + "─" * max(0, right - left - 1) + "┤", Ink.proposal)
        line = put(line, at(mean.value), "◆", f"bold {Ink.focus}")
        line.append(f"   {mean.value:+.3f} ±{error:.3f} mm", Ink.text)
    else:
        for value in values:
            line = put(line, at(value), "●", Ink.focus)
        line.append(f"   latest {values[-1]:+.3f} mm", Ink.text)
    line.append(f"\n      {-reach:<+{columns // 2}g}0{reach:>+{columns // 2}g}", Ink.quiet)
    line.append("   mm, measured − commanded", Ink.quiet)
    return line


def reach_for(values: Sequence[float], least: float) -> float:
    """How far a strip reaches to either side: the next of 1, 2, 5 times a power of ten, and at least so far."""
    most = max([least, *values])
    power = 10.0 ** math.floor(math.log10(most))
    return next(step * power for step in (1.0, 2.0, 5.0, 10.0) if step * power >= most - 1e-12)
