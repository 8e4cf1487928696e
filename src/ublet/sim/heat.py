"""Heat in the simulated machine: heater, block, sensor, ambient, fan, and the ADC that reads them."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ublet.core.heat.curves import ZERO_C, Thermistor

STEFAN_BOLTZMANN = 5.670374419e-8
"""W/(m² K⁴), CODATA 2018."""

NOISE_BLOCK = 256
"""Readings whose noise is drawn at once, for speed."""

STEP_S = 0.05
"""Integration step of the thermal plant, s: below a tenth of its fastest lag."""


@dataclass(frozen=True)
class PlantTruth:
    """What a heater and its block really are.

    power_w is the heater at full duty; heat flows from the cartridge to the block through
    ``cartridge_w_k`` and leaves it to ambient by ``loss_w_k`` (still air), ``fan_loss_w_k`` (more,
    at full part fan) and radiation from ``radiating_cm2`` (emissivity included). The sensor follows
    the block after ``dead_time_s`` with a first-order lag ``sensor_lag_s``.
    """

    power_w: float
    capacity_j_k: float
    cartridge_j_k: float
    cartridge_w_k: float
    loss_w_k: float
    fan_loss_w_k: float
    radiating_cm2: float
    sensor_lag_s: float
    dead_time_s: float


class Plant:
    """The state of one heated block; temperatures in °C."""

    def __init__(self, truth: PlantTruth, start_c: float) -> None:
        self.truth = truth
        self.cartridge_c = start_c
        self.block_c = start_c
        self.sensor_c = start_c
        delay = max(1, round(truth.dead_time_s / STEP_S))
        to_cartridge = STEP_S * truth.cartridge_w_k / truth.cartridge_j_k
        to_block = STEP_S * truth.cartridge_w_k / truth.capacity_j_k
        self._coupling = (to_cartridge, to_block, 1 + to_block / (1 + to_cartridge))
        self._sensor_share = 1 - math.exp(-STEP_S / truth.sensor_lag_s)
        self._delayed = deque([start_c] * delay, maxlen=delay)

    def step(self, duty: float, fan: float, ambient_c: float) -> None:
        """Advance by STEP_S with duty and fan 0..1.

        The flow from cartridge to block is taken at the step's end (backward Euler, stable however
        small the cartridge is), the loss at its start; the sensor's lag is exact.
        """
        truth = self.truth
        to_cartridge, to_block, spread = self._coupling
        heated = (self.cartridge_c + STEP_S * duty * truth.power_w / truth.cartridge_j_k) / (1 + to_cartridge)
        cooled = self.block_c - STEP_S * self.loss_w(fan, ambient_c) / truth.capacity_j_k
        self.block_c = (cooled + to_block * heated) / spread
        self.cartridge_c = heated + to_cartridge / (1 + to_cartridge) * self.block_c
        arriving = self._delayed[0]
        self._delayed.append(self.block_c)
        self.sensor_c += self._sensor_share * (arriving - self.sensor_c)

    def put_at(self, celsius: float) -> None:
        """Bring everything to one temperature at once."""
        self.cartridge_c = self.block_c = self.sensor_c = celsius
        self._delayed.extend([celsius] * len(self._delayed))

    def loss_w(self, fan: float, ambient_c: float) -> float:
        """Heat leaving the block at its present temperature, W."""
        return loss_w(self.truth, self.block_c, fan, ambient_c)


def loss_w(truth: PlantTruth, block_c: float, fan: float, ambient_c: float) -> float:
    """Heat that leaves a block, W: conduction and convection, the fan, and radiation."""
    linear = (truth.loss_w_k + truth.fan_loss_w_k * fan) * (block_c - ambient_c)
    fourth = (block_c + ZERO_C) ** 4 - (ambient_c + ZERO_C) ** 4
    return linear + STEFAN_BOLTZMANN * truth.radiating_cm2 * 1e-4 * fourth


@dataclass(frozen=True)
class LinearTruth:
    """The plant seen from its duty, linearised at a temperature: what a perfect fit would find.

    gain_c °C per duty (holding), time_constant_s and second_lag_s the two slow lags,
    dead_time_s the pure delay together with the lag that is left over.
    """

    gain_c: float
    time_constant_s: float
    second_lag_s: float
    dead_time_s: float
    hold_duty: float


def linearise(truth: PlantTruth, celsius: float, ambient_c: float) -> LinearTruth:
    """Linear truth for holding ``celsius``: the chord of the loss, and the eigenvalues of its matrix."""
    hold_w = loss_w(truth, celsius, 0.0, ambient_c)
    chord = hold_w / (celsius - ambient_c)
    cartridge = truth.cartridge_w_k / truth.cartridge_j_k
    matrix = np.array(
        [
            [-cartridge, cartridge],
            [
                truth.cartridge_w_k / truth.capacity_j_k,
                -(truth.cartridge_w_k + chord) / truth.capacity_j_k,
            ],
        ]
    )
    slow, fast = sorted((-1 / np.linalg.eigvals(matrix).real).tolist(), reverse=True)
    second, left = sorted((fast, truth.sensor_lag_s), reverse=True)
    return LinearTruth(truth.power_w / chord, slow, second, truth.dead_time_s + left, hold_w / truth.power_w)


@dataclass
class Adc:
    """A sensor input: the true thermistor's curve, noise and whole counts, averaged over a burst."""

    curve: Thermistor
    bits: int
    noise_counts: float
    burst: int
    fault: str | None = None
    _noise: list[NDArray[np.float64]] = field(default_factory=list, repr=False)

    def read(self, celsius: float, random: np.random.Generator) -> float:
        """The ratio 0..1 that the board sees; a fault puts it on a rail."""
        if self.fault == "open":
            return 1.0
        if self.fault == "short":
            return 0.0
        full = 2**self.bits - 1
        if not self._noise:
            self._noise = list(random.standard_normal((NOISE_BLOCK, self.burst)) * self.noise_counts)
        counts = np.rint(self._noise.pop() + self.curve.ratio(celsius) * full)
        mean: float = np.add.reduce(counts) / self.burst
        return float(min(1.0, max(0.0, mean / full)))
