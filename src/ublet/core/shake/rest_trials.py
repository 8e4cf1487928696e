"""The trial of the station *accelerometer*: whether it is there, mounted upright, to scale and quiet."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.machine.schema import MachineFile
from ublet.core.plugged import answers_elsewhere
from ublet.core.remedy import ByHand, ChangeSetting, GoTo
from ublet.core.run import Finding, Outcome, Progress, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, setting
from ublet.core.shake.mount import HELD, along_axes, declared_columns, held_words
from ublet.core.streams import Chunk
from ublet.core.trial import Need, TrialSpec
from ublet.core.words import several

SENSOR = "accelerometer"
GRAVITY_M_S2 = 9.80665
"""Standard gravity (CGPM 1901), m/s²; on the ground it differs from it by less than 0.3 %."""

SCALE_OFF = 0.06
"""What is read may be off gravity by this share: offsets of such sensors are up to half a metre a second squared."""

MAX_TILT_DEG = 15.0
"""Tilted by more, it reads part of one axis as another."""

QUIET_M_S2 = 1.0
"""A reading that scatters by more hides what rings."""

MAX_LOST_FRACTION = 0.05
"""This fraction of the readings may be lost: a sweep bridges the gaps."""

STAMP_S = 1e-6
"""The board reports times in whole steps of this, s."""

RATE_HZ = 1600.0
"""Readings a second: enough for what rings below 150 Hz, and no more than a line of 250,000 bd carries."""

READINGS = Stream("readings", ("time_s", "x_m_s2", "y_m_s2", "z_m_s2"), ("s", "m/s²", "m/s²", "m/s²"), RATE_HZ, "f4")


class RestParameters(Part):
    """How long, and how many readings a second."""

    seconds: float = setting("How long it listens.", unit="s", low=1, high=60, default=6.0)
    rate_hz: float = setting("Readings a second.", unit="Hz", low=100, high=10_000, default=RATE_HZ)
    captured: bool = setting("Held by the board and handed over after; for lines that are too slow.", default=False)


async def accelerometer_at_rest(bench: Bench, aim: RestParameters) -> TrialResult:
    """Listen while nothing moves: gravity gives scale and way up, the rest is noise."""
    if (kind := bench.streams.kinds().get(SENSOR)) is None:
        raise TrialFailed(
            "This board has no accelerometer. Nothing was done.",
            ChangeSetting("accelerometer", "declare the sensor, and plug it in"),
            GoTo("resonance", "measure it from a print", "ringing-tower"),
        )
    if (elsewhere := answers_elsewhere(bench, SENSOR)) is not None:
        words, option = elsewhere
        plug = ByHand("plug the sensor's module into the declared socket, switch the board off and on")
        return TrialResult("failed", words, {}, (), (option,), option.name, (plug,))
    wanted = round(aim.seconds * aim.rate_hz)
    chunks: list[Chunk] = []
    count = 0
    async with bench.streams.open(SENSOR, aim.rate_hz, aim.seconds if aim.captured else None) as listening:
        bench.progress(Progress("listening", 0.0, aim.seconds, f"{aim.rate_hz:g} readings a second"))
        async for chunk in listening:
            chunks.append(chunk)
            count += len(chunk.time_s)
            bench.record.flow(READINGS.name, chunk.time_s, chunk.values)
            left_s = max(0.0, (wanted - count) / aim.rate_hz)
            bench.progress(Progress("listening", min(1.0, count / wanted), left_s, f"{count} of {wanted} readings"))
            if count >= wanted:
                break
    values = along_axes(np.concatenate([chunk.values for chunk in chunks]), declared_columns(bench.machine))
    mean, scatter = values.mean(axis=0), values.std(axis=0, ddof=1)
    findings = [
        Finding("gravity", float(np.linalg.norm(mean)), float(scatter.max()) / math.sqrt(len(values)), "m/s²"),
        Finding("rate", listening.rate_hz, _rate_u(listening.rate_hz, len(values)), "Hz", words="readings a second"),
    ]
    for axis, noise in zip(kind.columns, scatter, strict=True):
        noise_u = float(noise) / math.sqrt(2 * (len(values) - 1))
        findings += about({"axis": axis}, (Finding("noise", float(noise), noise_u, "m/s²", limit=QUIET_M_S2),))
    lost = sum(last - first + 1 for first, last in listening.gaps)
    findings.append(Finding("lost", float(lost), words="readings that were lost"))
    lost_words = (
        f"{lost} of {lost + count} readings were lost, on the line or in the sensor: listen at a lower rate (rate_hz), "
        "or take a shorter cable."
    )
    reach = 32767 * min(kind.scales)
    findings.append(Finding("range", reach, None, "m/s²", words="it reads up to"))
    above = above_noise(bench, float(scatter.max()))
    findings.append(Finding("sweep_over_noise", above, None, "dB", words="a sweep stands above its noise by"))
    wrong = [
        *wrong_with(kind.columns, mean, scatter),
        *([lost_words] if lost > MAX_LOST_FRACTION * count else []),
    ]
    off = 100 * (listening.rate_hz / aim.rate_hz - 1)
    good = (
        f"Upright and quiet: {np.linalg.norm(mean):.2f} m/s² of gravity, {max(scatter):.2f} m/s² of noise. "
        f"Sweep above noise: {above:.0f} dB. It takes readings {abs(off):.2f} % "
        f"{'faster' if off > 0 else 'slower'} than nominal; this is corrected."
    )
    held = bench.machine.accelerometer.held
    good += f" It is {held}: {held_words(HELD[held])}."
    if lost:
        good += f" {lost} of {lost + count} readings were lost on the way; a sweep bridges such gaps."
    conditions = {"rate_hz": aim.rate_hz}
    ways_out = (ByHand("check the sensor's cable and screws"), ChangeSetting("accelerometer", "what sensor it is"))
    outcome: Outcome = "failed" if wrong else "proven"
    why = " ".join(wrong) or good
    return TrialResult(outcome, why, conditions, tuple(findings), remedies=ways_out if wrong else ())


def above_noise(bench: Bench, noise_m_s2: float) -> float:
    """By how much a sweep as hard as the weaker axis allows, half way, stands above noise within one of its bands, dB.

    A band of a minute's sweep is passed in about 0.06 s, and read with so many readings.
    """
    with bench.aside():
        weaker = min(bench.machine.axes.x.acceleration_mm_s2, bench.machine.axes.y.acceleration_mm_s2) / 1000
    signal = weaker / 2 / math.sqrt(2)
    readings = 0.06 * RATE_HZ
    return 20 * math.log10(signal * math.sqrt(readings / 2) / noise_m_s2)


def wrong_with(columns: tuple[str, ...], mean: NDArray[np.float64], scatter: NDArray[np.float64]) -> list[str]:
    """What readings at rest show of a sensor that is not as it should be, as sentences; mean and scatter in m/s²."""
    dead = [axis.upper() for axis, noise in zip(columns, scatter, strict=True) if noise == 0]
    if dead:
        return [f"{several(dead)} never changes: a broken wire, or another kind of sensor."]
    gravity, words = float(np.linalg.norm(mean)), []
    if abs(gravity / GRAVITY_M_S2 - 1) > SCALE_OFF:
        unit = " It reads in g, not in m/s²." if abs(gravity - 1) < SCALE_OFF else ""
        words.append(f"It reads {gravity:.2f} m/s² at rest instead of {GRAVITY_M_S2:.2f}: a wrong scale.{unit}")
    up = int(np.argmax(np.abs(mean)))
    if columns[up] != "z":
        words.append(
            f"What is declared as its {columns[up].upper()} points along the machine's Z: find out how it is turned "
            "(the station's other trial), or mount it the other way."
        )
    elif mean[up] < 0:
        words.append("It hangs upside down: its Z points to the bed.")
    elif (tilted := math.degrees(math.acos(min(1.0, float(mean[up]) / gravity)))) > MAX_TILT_DEG:
        words.append(f"It is tilted by {tilted:.0f}°.")
    loud = [axis.upper() for axis, noise in zip(columns, scatter, strict=True) if noise > QUIET_M_S2]
    if loud:
        words.append(f"{several(loud)} is not quiet: a fan that shakes it, a loose mount, or somebody walks by.")
    return words


def _rate_u(rate_hz: float, count: int) -> float:
    """Of a line through times that are reported in whole steps: their rounding drifts as slowly as the line itself, so
    that many of them show no more than the first and the last.
    """
    return rate_hz * STAMP_S / (count / rate_hz) / math.sqrt(3)


def _needs(machine: MachineFile, aim: RestParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return (Need("nothing moves, nothing heats", True),)


def _figure(result: TrialResult) -> str:
    noise = max((finding.value for finding in result.findings if finding.what == "noise"), default=0.0)
    return f"noise {noise:.2f}"


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "accelerometer-at-rest",
        "accelerometer",
        "Readings while nothing moves: is it there, upright, to scale and quiet, and how fast is its clock?",
        RestParameters,
        accelerometer_at_rest,
        (READINGS,),
        lambda machine, aim: f"Listens for {aim.seconds:g} s. Nothing moves, nothing heats; do not touch the machine.",
        _needs,
        figure=_figure,
        uses=always("accelerometer"),
    ),
)
