"""Pictures of heat: the climb, the relay's cycles, predicted steps, a verified step."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from ublet.core.heat.candidates import AS_FOUND
from ublet.core.heat.relay import find_cycles
from ublet.core.run import Series
from ublet.session.connection import Connection
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.chart import ChartLine, Mark, Picture

SHORTEST_CYCLES_S = 90.0
SHORTEST_HEAT_UP_S = 60.0
SCALE_GROWS = 1.125


def heat_up(series: Series, target: float, title: str = "the heat-up") -> Picture:
    """The record from its start until a little after the target was reached."""
    time_s, celsius = series.column("time_s"), series.column("temperature_c")
    if (reached := reached_at(series, target)) is not None:
        kept = time_s <= max(SHORTEST_HEAT_UP_S, 1.2 * reached)
        time_s, celsius = time_s[kept], celsius[kept]
    top = max(target * 1.08, float(celsius.max()) + 5)
    return Picture(
        [ChartLine(time_s, celsius, Ink.focus)],
        (0.0, roomy(float(time_s[-1]), SHORTEST_HEAT_UP_S)),
        (0.0, top),
        level=target,
        title=title,
    )


def roomy(seconds: float, least_s: float) -> float:
    """Length of the time scale, s: it grows in steps, so that a live curve is not drawn anew at every sample."""
    grown = max(0, math.ceil(math.log(max(seconds, least_s) / least_s) / math.log(SCALE_GROWS)))
    return least_s * SCALE_GROWS**grown


def reached_at(series: Series, target: float) -> float | None:
    """Time at which the target was first reached."""
    hot = np.flatnonzero(series.column("temperature_c") >= target)
    return float(series.column("time_s")[hot[0]]) if len(hot) else None


def cycles(series: Series, target: float) -> Picture:
    """The swings around the target, large, with each cycle counted at its start."""
    time_s, celsius = series.column("time_s"), series.column("temperature_c")
    start = (reached_at(series, target) or 0.0) - 4
    later = celsius[time_s >= start + 4]
    low = min(target - 3, float(later.min()) - 0.7) if len(later) else target - 4
    high = max(target + 4, float(later.max()) + 1.2) if len(later) else target + 6
    found_cycles = find_cycles(time_s, series.column("duty"), celsius)
    marks = [Mark(cycle.start_s, str(number), Ink.dim) for number, cycle in enumerate(found_cycles, start=1)]
    fan = series.column("fan")
    windy = np.flatnonzero(fan > 0)
    if len(windy):
        marks.append(Mark(float(time_s[windy[0]]), "fan on", Ink.proposal))
    return Picture(
        [ChartLine(time_s, celsius, Ink.focus)],
        (start, start + roomy(float(time_s[-1]) - start, SHORTEST_CYCLES_S)),
        (low, high),
        level=target,
        marks=marks,
        x_labels=False,
    )


def duty(series: Series, x_limits: tuple[float, float]) -> Picture:
    """The duty below another picture, on the same time scale."""
    return Picture(
        [ChartLine(series.column("time_s"), 100 * series.column("duty"), Ink.text, stepped=True)],
        x_limits,
        (-8.0, 108.0),
        most_ticks=2,
    )


def steps(
    predicted: Mapping[str, Series],
    measured: Series | None,
    chosen: str,
    target: float,
    fan_at_s: float | None,
) -> Picture:
    """Predicted steps near the target: the chosen gains, those as found, and what was measured."""
    curves = []
    for name, style in ((AS_FOUND, Ink.dim), (chosen, Ink.proposal)):
        if name in predicted:
            one = predicted[name]
            curves.append(ChartLine(one.column("time_s"), one.column("temperature_c"), style))
    if measured is not None:
        curves.append(ChartLine(measured.column("time_s"), measured.column("temperature_c"), Ink.focus))
    highest = max((float(c.y.max()) for c in curves), default=target)
    longest = max((float(c.x[-1]) for c in curves), default=120.0)
    first = min((float(c.x[np.argmax(c.y > target - 12)]) for c in curves if np.any(c.y > target - 12)), default=0.0)
    start = max(0.0, first - 12)
    if not any(np.any(c.y > target - 12) for c in curves[-1:]):
        start = 0.0
    return Picture(
        curves,
        (start, longest + 1),
        (target - 8, max(target + 5, highest + 1.5)),
        level=target,
        marks=[Mark(fan_at_s, "fan on", Ink.proposal)] if fan_at_s is not None else [],
        x_labels=False,
    )


def last_minute(connection: Connection, heater: str, sensor: str) -> tuple[Picture, Picture]:
    """Temperature and duty of a heater over the last minute of the board's time, now at the right."""
    about, samples = connection.about, list(connection.samples)
    curves: list[ChartLine] = []
    duties: list[ChartLine] = []
    low, high = 20.0, 30.0
    if about is not None and samples and f"sensors.{sensor}" in about.channels:
        columns = [2 + about.channels.index(name) for name in (f"sensors.{sensor}", f"heaters.{heater}.duty")]
        rows = [(row[1], row[columns[0]], row[columns[1]]) for row in samples]
        kept = np.array([row for row in rows if None not in row], dtype=np.float64).reshape(-1, 3)
        if len(kept):
            ago = kept[:, 0] - float(samples[-1][1] or 0.0)
            curves = [ChartLine(ago, kept[:, 1], Ink.focus)]
            duties = [ChartLine(ago, 100 * kept[:, 2], Ink.text, stepped=True)]
            middle = float(kept[:, 1].min() + kept[:, 1].max()) / 2
            half = max(5.0, float(np.ptp(kept[:, 1])) * 0.6)
            low, high = middle - half, middle + half
    limits = (-60.0, 0.5)
    return Picture(curves, limits, (low, high), x_labels=False), Picture(duties, limits, (-8.0, 108.0), most_ticks=2)


def fan_start(series: Series | None) -> float | None:
    """When the fan started in a record."""
    if series is None or "fan" not in series.columns:
        return None
    windy = np.flatnonzero(series.column("fan") > 0)
    return float(series.column("time_s")[windy[0]]) if len(windy) else None
