"""Resonance on frames made up at random: modes against the truth, shapers judged apart on the true modes, and speed."""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from ublet.benchmark.structures import Structure, recorded, structure
from ublet.core.arrays import Floats
from ublet.core.shake.choosing import OPTIMISED, Limits, choose
from ublet.core.shake.mode_fit import fit_modes
from ublet.core.shake.shapers import ImpulseSequence
from ublet.core.shake.spectra import frequency_response_of
from ublet.core.shake.sweep import Sweep

RATE_HZ, LOW_HZ, HIGH_HZ = 3200.0, 5.5, 129.0
SWEEP = Sweep("x", 5, 130, 60, 0.06)
NOISES_DB = (40.0, 28.0, 15.0)
INVENTED, NEAR = 0.05, 0.1
LONG_S, AXES = 120.0, 3


def shaking(frames: int, rounds: int) -> dict[str, Any]:
    """A number of frames at each noise, and the speed of a whole analysis beside Welch's method."""
    return {**{f"{noise:g} dB": _modes(frames, noise) for noise in NOISES_DB}, "speed": speed(rounds)}


def _modes(frames: int, noise_db: float) -> dict[str, Any]:
    times = np.arange(int(RATE_HZ * (SWEEP.duration_s + 1))) / RATE_HZ
    commanded, limits = SWEEP.at(times), Limits()
    hz, damping, covered, invented, left, drifted, shorter, against = [], [], [], [], [], [], [], []
    for seed in range(frames):
        random = np.random.default_rng(seed)
        made = structure(random)
        response = recorded(made, SWEEP.at, times, random, noise_db)
        modes = fit_modes(frequency_response_of(commanded, response, RATE_HZ, LOW_HZ, HIGH_HZ))
        main = int(np.argmax(made.modal_share))
        mode = min(modes, key=lambda own_mode: abs(own_mode.frequency_hz - made.hz[main]))
        hz.append(abs(mode.frequency_hz / made.hz[main] - 1))
        damping.append(abs(mode.damping_ratio / made.damping[main] - 1))
        covered.append(abs(mode.frequency_hz - made.hz[main]) <= 2 * mode.frequency_u)
        covered.append(abs(mode.damping_ratio - made.damping[main]) <= 2 * mode.damping_u)
        invented.append(
            any(
                mode.modal_share > INVENTED and min(abs(mode.frequency_hz / true - 1) for true in made.hz) > NEAR
                for mode in modes
            )
        )
        choice = choose(modes, limits)
        keep = [s for s in choice.shapers if s.keeps(limits) and s.rounds(limits) <= limits.rounding_mm]
        if any(shaper.name != OPTIMISED for shaper in keep):
            left.append(_left(choice.chosen.impulses, made, 1.0))
            drifted.append(max(_left(choice.chosen.impulses, made, way) for way in (0.9, 1.1)))
            against.append(left[-1] / max(0.05, min(_left(s.impulses, made, 1.0) for s in keep if s.name != OPTIMISED)))
        named = [s.impulses.duration_s for s in choice.shapers if s.name != OPTIMISED and s.keeps(limits)]
        best = next((s for s in choice.shapers if s.name == OPTIMISED), None)
        if named and best is not None:
            shorter.append(1 - best.impulses.duration_s / min(named))
    return {
        "frames": frames,
        "frequency_within_1_percent": round(float(np.mean(np.array(hz) <= 0.01)), 3),
        "frequency_p95": float(f"{np.percentile(hz, 95):.2g}"),
        "damping_within_20_percent": round(float(np.mean(np.array(damping) <= 0.2)), 3),
        "damping_p95": float(f"{np.percentile(damping, 95):.2g}"),
        "covered": round(float(np.mean(covered)), 3),
        "invented": round(float(np.mean(invented)), 3),
        "chosen_within_5_percent": round(float(np.mean(np.array(left) <= 0.05)), 3) if left else None,
        "chosen_drifted_within_10_percent": round(float(np.mean(np.array(drifted) <= 0.10)), 3) if drifted else None,
        "chosen_over_best_named_most": round(max(against), 2) if against else None,
        "where_a_named_one_keeps_all": len(left),
        "optimised_shorter_median": round(float(np.median(shorter)), 3) if shorter else None,
    }


def _left(impulses: ImpulseSequence, made: Structure, way: float) -> float:
    """What a train really leaves of the true frame: every mode integrated by itself after each impulse."""
    worst = 0.0
    for hz, z, fraction in zip(made.hz, made.damping, made.modal_share, strict=True):
        w = 2 * np.pi * hz * way
        poles = -z * w + 1j * w * np.sqrt(1 - z * z)
        state, now = 0j, 0.0
        for at, amplitude in zip(impulses.times.tolist(), impulses.amplitudes.tolist(), strict=True):
            state, now = state * np.exp(poles * (at - now)) + amplitude, at
        worst += fraction * abs(state)
    return float(worst)


def speed(rounds: int) -> dict[str, Any]:
    """Three axes of 120 s, modes and all shapers, beside Welch's method of SciPy on the same data; s."""
    from scipy.signal import welch

    sweep = Sweep("x", 5, 130, LONG_S - 1, 0.06)
    times = np.arange(int(RATE_HZ * LONG_S)) / RATE_HZ
    response: list[Floats] = []
    for seed in range(AXES):
        random = np.random.default_rng(seed)
        response.append(recorded(structure(random), sweep.at, times, random, 30.0))
    ours, plain = [], []
    for _ in range(rounds + 1):
        began = time.perf_counter()
        for values in response:
            choose(fit_modes(frequency_response_of(sweep.at(times), values, RATE_HZ, LOW_HZ, HIGH_HZ)), Limits())
        ours.append(time.perf_counter() - began)
        began = time.perf_counter()
        for values in response:
            welch(values, RATE_HZ, nperseg=8192)
        plain.append(time.perf_counter() - began)
    whole, welch_s = float(np.median(ours[1:])), float(np.median(plain[1:]))  # the first one imports
    return {"s_median": round(whole, 3), "welch_s_median": round(welch_s, 3), "limit_s": round(4 * welch_s + 0.3, 3)}
