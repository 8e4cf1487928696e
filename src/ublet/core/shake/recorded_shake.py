"""A recorded acceleration: brought to even times, checked, and its modes and shapers found axis by axis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.recorded import RecordError, Table, check_times, parse_table
from ublet.core.shake.choosing import Limits, ShaperChoice, choose
from ublet.core.shake.complaints import CLIPPED_FRACTION, at_ends, response_words, symptoms
from ublet.core.shake.frame import Mode
from ublet.core.shake.mode_fit import fit_density, fit_frame
from ublet.core.shake.repeats import widened
from ublet.core.shake.spectra import (
    GAP_STEPS,
    Bands,
    density_of,
    frequency_response_of,
    moves_at_ends,
    resampled,
    tapered,
)
from ublet.core.shake.sweep import Sweep, sweep_in

COLUMNS = ("x_m_s2", "y_m_s2", "z_m_s2")
GRAVITY, GRAVITY_FRACTION = 9.80665, 0.25
SHORTEST_S, FEWEST_HZ = 2.0, 100.0
GAPS_FRACTION, MOST_GAPS = 0.01, 0.2
JITTER_FRACTION = 0.01
ROUNDED_FRACTION, MOSTLY = 0.02, 0.5
"""Times whose last digit is more than this share of a step are rounded."""
EXCITED_FRACTION = 0.1
EDGE_HZ = 1.0
FLAT_FROM_HZ, FLAT_TO_HZ = 5.0, 150.0


@dataclass(frozen=True)
class Shaken:
    """One axis: what was found, and what it was found from. Bands, or a density where no excitation was commanded."""

    modes: tuple[Mode, ...]
    choice: ShaperChoice
    bands: Bands | None
    density: tuple[Floats, Floats] | None


@dataclass(frozen=True)
class Resonance:
    """A whole record: by axis, and what was noticed of it; seconds that it lasts."""

    axes: dict[str, Shaken]
    problems: tuple[str, ...]
    seconds: float
    sweep: Sweep | None


def analyse_resonance(text: str, name: str, limits: Limits) -> Resonance:
    """Modes and shapers of a recorded acceleration (``time_s`` and at least one of x, y, z in m/s²).

    Raises:
        RecordError: too short, too slow, flat, in g, times that go back, no such axis, or nothing that rings.
    """
    table = parse_table(text, ("time_s",), name, COLUMNS)
    there = [column for column in COLUMNS if column in table.columns]
    if not there:
        raise RecordError(f"{name}: no acceleration: columns {', '.join(COLUMNS)} are needed, at least one of them.")
    check_times(table, "time_s", name)
    sweep = sweep_in(table.comments, name)
    _must_be_whole(table, there, name)
    problems = list(table.notes)
    if missing := [column for column in COLUMNS if column not in there]:
        problems.append(
            f"{', '.join(missing)} not recorded: nothing is said of {'it' if len(missing) == 1 else 'them'}"
        )
    time_s = _unrounded(table.columns["time_s"])
    rate = _rate(time_s, problems)
    _must_be_fast(rate, sweep, name)
    problems += _clipped(table, there)
    if sweep is None:
        problems.append("no comment gives the excitation: a flat one is assumed, and damping is less certain")
        axes = _by_density(table, there, time_s, rate, limits, problems, name)
    else:
        axes = {sweep.axis: _by_sweep(table, there, time_s, rate, sweep, limits, problems, name)}
    for axis, shaken in axes.items():
        problems += symptoms(axis, shaken.modes, sweep)
    return Resonance(axes, tuple(problems), float(time_s[-1] - time_s[0]), sweep)


def _must_be_whole(table: Table, there: list[str], name: str) -> None:
    """Raises RecordError for what is too short, flat, or in g."""
    time_s = table.columns["time_s"]
    seconds = float(time_s[-1] - time_s[0])
    if seconds < SHORTEST_S:
        raise RecordError(f"{name}: {seconds:.2f} s of data: at least {SHORTEST_S:g} s are needed.")
    if all(float(np.ptp(table.columns[band])) == 0 for band in there):
        raise RecordError(
            f"{name}: every reading is the same: the sensor was not read. Look at its plug, record again."
        )
    size = float(np.sqrt(sum(float(np.mean(table.columns[band])) ** 2 for band in there)))
    if len(there) == len(COLUMNS) and abs(size - 1) < GRAVITY_FRACTION:
        raise RecordError(
            f"{name}: gravity reads {size:.2f}: these are multiples of g, not m/s². Multiply them by {GRAVITY:g}."
        )


def _unrounded(time_s: Floats) -> Floats:
    """Times that were written with too few digits lie on a line over the readings' numbers; others are as they are."""
    usual = float(np.mean(np.diff(time_s)))
    digits = next((k for k in range(1, 8) if np.mean(np.abs(time_s - np.round(time_s, k)) < 1e-9) > MOSTLY), 9)
    if 10.0**-digits < ROUNDED_FRACTION * usual:
        return time_s
    number = np.cumsum(np.concatenate([[0.0], np.maximum(1.0, np.rint(np.diff(time_s) / usual))]))
    slope, start = np.polyfit(number, time_s, 1)
    return np.asarray(start + slope * number)


def _rate(time_s: Floats, problems: list[str]) -> float:
    """Readings a second, by the usual step; gaps and jitter beyond 1 % are named."""
    steps = np.diff(time_s)
    usual = float(np.median(steps))
    gaps = np.flatnonzero(steps > GAP_STEPS * usual)
    missing = float(np.sum(steps[gaps] - usual)) / float(time_s[-1] - time_s[0])
    if missing > GAPS_FRACTION:
        worst = int(gaps[np.argmax(steps[gaps])])
        problems.append(
            f"{100 * missing:.1f} % of the readings are missing, in {len(gaps)} gaps; the longest of "
            f"{1000 * float(steps[worst]):.0f} ms at {float(time_s[worst]):.2f} s"
        )
    if missing > MOST_GAPS:
        raise RecordError(f"{problems[-1]}: too many for an analysis. Record again over a faster line.")
    even = steps[steps <= GAP_STEPS * usual]
    jitter = float(np.std(even)) / usual
    if jitter > JITTER_FRACTION:
        problems.append(f"the times jitter by {100 * jitter:.1f} % of a step")
    return 1 / (float(np.mean(even)))


def _must_be_fast(rate: float, sweep: Sweep | None, name: str) -> None:
    top = sweep.to_hz if sweep is not None else FLAT_TO_HZ
    needed = max(FEWEST_HZ, 2.2 * top)
    if rate < needed and sweep is not None:
        raise RecordError(f"{name}: {rate:.0f} readings a second do not reach {top:g} Hz: {needed:.0f} are needed.")
    if rate < FEWEST_HZ:
        raise RecordError(f"{name}: {rate:.0f} readings a second: at least {FEWEST_HZ:g} are needed.")


def _clipped(table: Table, there: list[str]) -> list[str]:
    """Columns whose readings often stand at their very ends."""
    clipped = []
    for column in there:
        values = table.columns[column]
        ends = at_ends(values)
        if ends > CLIPPED_FRACTION and len(np.unique(values)) > 20:
            clipped.append(
                f"{column}: {100 * ends:.1f} % of the readings stand at {values.min():g} or {values.max():g} m/s²: "
                "clipped; sweep more gently"
            )
    return clipped


def _along(table: Table, there: list[str], axis: str, name: str) -> Floats:
    """What was recorded along an axis, m/s²; along a diagonal both together."""
    wanted = [f"{letter}_m_s2" for letter in axis if letter in "xy"]
    if missing := [column for column in wanted if column not in there]:
        raise RecordError(f"{name}: the sweep went along {axis}, but {', '.join(missing)} is not recorded.")
    if len(wanted) == 1:
        return table.columns[wanted[0]]
    sign = -1.0 if "-" in axis else 1.0
    return np.asarray((table.columns[wanted[0]] + sign * table.columns[wanted[1]]) / np.sqrt(2))


def _even(time_s: Floats, values: Floats, rate: float, start_s: float) -> tuple[Floats, Floats]:
    """The same at even times from a start."""
    count = int((float(time_s[-1]) - start_s) * rate) + 1
    at = start_s + np.arange(count) / rate
    return at, resampled(at, time_s, values)


def _by_sweep(
    table: Table,
    there: list[str],
    time_s: Floats,
    rate: float,
    sweep: Sweep,
    limits: Limits,
    problems: list[str],
    name: str,
) -> Shaken:
    """From the known excitation: the transfer, its modes."""
    values = _along(table, there, sweep.axis, name)
    if float(np.ptp(values)) == 0:
        raise RecordError(f"{name}: {sweep.axis} is flat: the sensor did not read that axis. Record again.")
    start = max(0.0, float(time_s[0]))
    at, response = _even(time_s, values - values.mean(), rate, start)
    high = sweep.to_hz
    if float(time_s[-1]) < sweep.duration_s - 0.1:
        high = sweep.from_hz + sweep.rate_hz_s * float(time_s[-1])
        problems.append(
            f"the record ends at {time_s[-1]:.1f} of {sweep.duration_s:g} s: only up to {high:.0f} Hz is reported"
        )
    low = sweep.from_hz + sweep.rate_hz_s * start
    if high - low < 10 * EDGE_HZ:
        raise RecordError(f"{name}: the sweep covers only {low:.0f} to {high:.0f} Hz: record it from its beginning.")
    commanded = sweep.at(at)
    if any(ends := moves_at_ends(response, rate)):
        commanded, response = tapered(commanded, rate, ends), tapered(response, rate, ends)
        where = " and ".join(word for word, moving in zip(("begins", "ends"), ends, strict=True) if moving)
        problems.append(f"the record {where} while it shakes: record from before the sweep until it is still again")
    bands = frequency_response_of(commanded, response, rate, low + EDGE_HZ / 2, high - EDGE_HZ)
    fit = fit_frame(bands)
    modes = widened(fit.modes, [fit.modes])
    if not fit.is_whole:
        problems.append(
            f"{sweep.axis}: the shares of what was found sum to {fit.whole:.2f}, not to one: modes cannot be "
            "separated, or lie outside the sweep; record a longer or a harder one"
        )
    problems += response_words(bands)
    return Shaken(modes, choose(modes, limits), bands, None)


def _by_density(
    table: Table, there: list[str], time_s: Floats, rate: float, limits: Limits, problems: list[str], name: str
) -> dict[str, Shaken]:
    """Without an excitation: of every axis that shook, from its density."""
    response = {
        column[0]: _even(time_s, table.columns[column] - table.columns[column].mean(), rate, float(time_s[0]))[1]
        for column in there
    }
    size = {axis: float(np.sqrt(np.mean(values**2))) for axis, values in response.items()}
    by_axis = {}
    for axis, values in response.items():
        if size[axis] < EXCITED_FRACTION * max(size.values()):
            continue
        hz, density, windows = density_of(values, rate, FLAT_FROM_HZ, min(FLAT_TO_HZ, 0.45 * rate))
        if not np.all(density > 0):
            raise RecordError(f"{name}: {axis} has no noise at all between its readings: it is no recording.")
        modes = fit_density(hz, density, windows)
        if not modes:
            problems.append(f"{axis}: nothing that rings stands out of the noise: shake harder, record longer")
            continue
        by_axis[axis] = Shaken(modes, choose(modes, limits), None, (hz, density))
    if not by_axis:
        raise RecordError(f"{name}: nothing in it rings: it is noise. Shake the machine while it is recorded.")
    return by_axis
