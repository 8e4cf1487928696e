"""The sensors as they read: counts, resistance, degrees, resolution; and what a wrong curve would do to one of them."""

from __future__ import annotations

import math

import numpy as np
from rich.text import Text

from ublet.core.heat.curves import SensorCurve, divider_ohm
from ublet.core.heat.references import CHECKED_C, catalogue, errors, resolution_c, shown_for
from ublet.core.heat.sensor_trials import live_curve, working_point
from ublet.core.settings import number_or
from ublet.core.units import show
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import polyline_cells
from ublet.tui.trial.watch import TrialWatch

HOTTEST_C = 260.0
LARGEST_ERROR_C = 30.0
LABEL_COLUMNS = 17
WIDE_COLUMNS = 110
AXIS_COLUMNS = 6


def sensors_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """A line for each sensor; below, the error that each catalogue curve would make for the first one."""
    text = _table(session, width)
    names = list(session.document.machine.sensors)
    used = len(names) + 2
    if (
        names
        and (curve := live_curve(session.document.machine, names[0], session.live)) is not None
        and height - used > 10
    ):
        pullup = number_or(session.live(f"sensors.{names[0]}.pullup_ohm"), 0.0)
        text.append_text(_errors_table(names[0], curve, pullup))
        used += len(catalogue(pullup)) + 2
        if height - used > 7:
            text.append("\n")
            text.append_text(_chart(curve, pullup, min(width, 110), height - used - 1))
    return text


def _table(session: Session, width: int) -> Text:
    """A line for each sensor; what one count is, where there is room for it."""
    text, counts, roomy = Text(no_wrap=True), 2**session.document.board.adc_bits - 1, width >= WIDE_COLUMNS
    heading = f"{'sensor':<14}{'socket':<8}{'curve':<22}{'counts':>8}{'resistance':>14}{'reads':>11}"
    text.append(f"{heading}{'one count' if roomy else '':>13}{'hot' if roomy else '':>20}".rstrip() + "\n", Ink.dim)
    for name in session.document.machine.sensors:
        root = f"sensors.{name}"
        celsius, curve = session.connection.channel(root), live_curve(session.document.machine, name, session.live)
        text.append(f"{name:<14}", f"bold {Ink.text}")
        text.append(f"{session.live(f'{root}.socket') or '–'!s:<8}{_curve_words(session, root):<22}", Ink.dim)
        if celsius is None or curve is None:
            text.append("✗ open, shorted or silent\n", Ink.stop)
            continue
        ratio = curve.ratio(celsius)
        ohm = divider_ohm(ratio, number_or(session.live(f"{root}.pullup_ohm"), 0.0))
        text.append(f"{ratio * counts:>8.1f}{show(ohm, 'Ω', 5):>14}", Ink.text)
        text.append(f"{celsius:>8.2f} °C", f"bold {Ink.focus}")
        if not roomy:
            text.append("\n")
            continue
        text.append(f"{resolution_c(curve, celsius, counts):>10.3f} °C", Ink.text)
        hot = working_point(session.document.machine, name)
        text.append(f"{f'{resolution_c(curve, hot, counts):.2f} °C at {hot:g}':>20}\n", Ink.text)
    return text


def _curve_words(session: Session, root: str) -> str:
    kind = session.live(f"{root}.kind")
    if kind == "platinum":
        return f"platinum {session.live(f'{root}.r0_ohm')}"
    if kind == "points":
        return "its own points"
    if kind == "steinhart":
        return "Steinhart-Hart"
    return f"{show(number_or(session.live(f'{root}.r25_ohm'), 0.0), 'Ω', 6)}, {session.live(f'{root}.beta_k')} K"


def _errors_table(name: str, own: SensorCurve, pullup: float) -> Text:
    text = Text(no_wrap=True)
    columns = 34 + len(name)
    text.append(f"\n{f'it reads too high by, if the {name} is':<{columns}}"[: columns + 1], Ink.dim)
    text.append("".join(f"{f'at {at:g} °C':>14}" for at in CHECKED_C), Ink.dim)
    text.append("\n")
    for number, (curve, off) in enumerate(errors(own, pullup).items()):
        right = all(error is not None and abs(error) < 0.05 for error in off)
        text.append(f"{number + 1} {curve:<{columns - 2}}", Ink.good if right else Ink.text)
        for error in off:
            cell = "outside" if error is None or abs(error) > 500 else f"{error:+.1f} °C"
            text.append(f"{cell:>14}", Ink.good if right else Ink.text)
        text.append("   ● as declared\n" if right else "\n", Ink.good)
    return text


def _chart(own: SensorCurve, pullup: float, width: int, height: int) -> Text:
    """Error over temperature, one line for each catalogue curve, numbered at its right end."""
    cells = Cells(width, height)
    left, right = AXIS_COLUMNS, max(AXIS_COLUMNS + 1, width - 4)
    rows = height - 2
    for value in (LARGEST_ERROR_C, 0.0, -LARGEST_ERROR_C):
        row = round((LARGEST_ERROR_C - value) / (2 * LARGEST_ERROR_C) * (rows - 1))
        cells.put(0, row, f"{value:>+4.0f}" if value else "   0", Ink.dim)
        for column in range(left, right, 2):
            cells.put(column, row, "·", Ink.faint)
    for at in range(50, int(HOTTEST_C) + 1, 50):
        cells.put(left + round((at - 20) / (HOTTEST_C - 20) * (right - left - 1)), height - 2, f"{at}", Ink.dim)
    cells.put(right - 20, height - 1, "°C, error in °C", Ink.quiet)
    styles = [Ink.focus, Ink.proposal, Ink.good, Ink.stop, Ink.text, Ink.dim, Ink.quiet]
    temperatures = np.linspace(20, HOTTEST_C, 160)
    for number, curve in enumerate(catalogue(pullup).values()):
        shown = [shown_for(own, curve, float(at)) for at in temperatures]
        off = np.array([math.nan if s is None else s - t for s, t in zip(shown, temperatures.tolist(), strict=True)])
        seen = np.isfinite(off) & (np.abs(off) <= LARGEST_ERROR_C)
        if np.count_nonzero(seen) < 2:
            continue
        columns = (temperatures[seen] - 20) / (HOTTEST_C - 20) * (right - left - 1)
        lines = (LARGEST_ERROR_C - off[seen]) / (2 * LARGEST_ERROR_C) * (rows - 1) + 0.5
        style = styles[number % len(styles)]
        for (column, row), code in polyline_cells(columns, lines, right - left, rows).items():
            cells.put(left + column, row, chr(code), style)
        cells.put(left + int(columns[-1]) + 1, int(lines[-1]), f"{number + 1}", f"bold {style}")
    return cells.text()
