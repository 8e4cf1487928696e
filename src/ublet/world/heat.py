"""Heat in the simulated machine: heater, block, sensor, ambient, fan, and the ADC that reads them."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ublet.core.heat.curves import ZERO_C, SensorCurve

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
    the block after ``dead_time_s`` with a first-order lag ``sensor_lag_s``. A sheet of ``surface_j_k`` may lie on it
    (none: 0): heated through ``surface_w_k``, it loses ``surface_loss_w_k`` to the room.
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
    surface_j_k: float = 0.0
    surface_w_k: float = 0.0
    surface_loss_w_k: float = 0.0

    @property
    def surface_lag_s(self) -> float:
        """How far the sheet lags a block that is held, s; 0 without one."""
        return self.surface_j_k / (self.surface_w_k + self.surface_loss_w_k) if self.surface_j_k else 0.0

    @property
    def surface_share(self) -> float:
        """The sheet's height above the room as a share of the block's, when both stand still."""
        return self.surface_w_k / (self.surface_w_k + self.surface_loss_w_k) if self.surface_j_k else 1.0


class Plant:
    """The state of one heated block; temperatures in °C."""

    def __init__(self, truth: PlantTruth, start_c: float) -> None:
        self.truth = truth
        self.cartridge_c = start_c
        self.block_c = start_c
        self.sensor_c = start_c
        self.surface_c = start_c
        delay = max(1, round(truth.dead_time_s / STEP_S))
        to_cartridge = STEP_S * truth.cartridge_w_k / truth.cartridge_j_k
        to_block = STEP_S * truth.cartridge_w_k / truth.capacity_j_k
        self._coupling = (to_cartridge, to_block, 1 + to_block / (1 + to_cartridge))
        self._sensor_fraction = 1 - math.exp(-STEP_S / truth.sensor_lag_s)
        self._delayed = deque([start_c] * delay, maxlen=delay)

    def step(self, duty: float, fan: float, ambient_c: float, steps: int = 1) -> None:
        """Advance by so many times STEP_S with duty and fan 0..1.

        The flow from cartridge to block is taken at a step's end (backward Euler, stable however
        small the cartridge is), the loss at its start; the sensor's lag is exact.
        """
        truth, delayed = self.truth, self._delayed
        to_cartridge, to_block, spread = self._coupling
        block, cartridge, surface, sensor = self.block_c, self.cartridge_c, self.surface_c, self.sensor_c
        warmed = STEP_S * duty * truth.power_w / truth.cartridge_j_k
        for _ in range(steps):
            heated = (cartridge + warmed) / (1 + to_cartridge)
            leaving = loss_w(truth, block, fan, ambient_c)
            if truth.surface_j_k:
                rising = truth.surface_w_k * (block - surface)
                leaving += rising
                lost = truth.surface_loss_w_k * (surface - ambient_c)
                surface += STEP_S * (rising - lost) / truth.surface_j_k
            block = (block - STEP_S * leaving / truth.capacity_j_k + to_block * heated) / spread
            cartridge = heated + to_cartridge / (1 + to_cartridge) * block
            sensor += self._sensor_fraction * (delayed[0] - sensor)
            delayed.append(block)
        self.block_c, self.cartridge_c, self.sensor_c = block, cartridge, sensor
        self.surface_c = surface if truth.surface_j_k else block

    def put_at(self, celsius: float) -> None:
        """Bring everything to one temperature at once."""
        self.cartridge_c = self.block_c = self.sensor_c = self.surface_c = celsius
        self._delayed.extend([celsius] * len(self._delayed))


def loss_w(truth: PlantTruth, block_c: float, fan: float, ambient_c: float) -> float:
    """Heat that leaves a block to the room, W: conduction and convection, the fan, and radiation. What a sheet on it
    takes is not in it.
    """
    linear = (truth.loss_w_k + truth.fan_loss_w_k * fan) * (block_c - ambient_c)
    fourth = (block_c + ZERO_C) ** 4 - (ambient_c + ZERO_C) ** 4
    return linear + STEFAN_BOLTZMANN * truth.radiating_cm2 * 1e-4 * fourth


def holding_w(truth: PlantTruth, block_c: float, fan: float, ambient_c: float) -> float:
    """Heat that a block needs to stand at a temperature, W: its own loss, and what its sheet goes on losing."""
    through = truth.surface_share * truth.surface_loss_w_k if truth.surface_j_k else 0.0
    return loss_w(truth, block_c, fan, ambient_c) + through * (block_c - ambient_c)


@dataclass(frozen=True)
class LinearTruth:
    """The plant seen from its duty at a temperature: what a perfect record would show.

    gain_c °C per duty by the chord from the room (what holds it); time_constant_s the slow lag of the tangent there;
    delay_s the dead time with all small lags.
    """

    gain_c: float
    time_constant_s: float
    delay_s: float
    hold_duty: float


def linearise(truth: PlantTruth, celsius: float, ambient_c: float) -> LinearTruth:
    """Truth for working at ``celsius``: the chord of the loss, and the eigenvalues of the matrix of its tangent.

    With a sheet on it there is one mode more, in which block and sheet settle against each other.
    """
    hold_w = holding_w(truth, celsius, 0.0, ambient_c)
    tangent = truth.loss_w_k + 4 * STEFAN_BOLTZMANN * truth.radiating_cm2 * 1e-4 * (celsius + ZERO_C) ** 3
    cartridge = truth.cartridge_w_k / truth.cartridge_j_k
    coupling = [truth.cartridge_w_k / truth.capacity_j_k, truth.surface_w_k / truth.capacity_j_k]
    rows = [
        [-cartridge, cartridge, 0.0],
        [coupling[0], -(truth.cartridge_w_k + truth.surface_w_k + tangent) / truth.capacity_j_k, coupling[1]],
    ]
    if truth.surface_j_k:
        rows.append([0.0, truth.surface_w_k / truth.surface_j_k, -1 / truth.surface_lag_s])
    matrix = np.array(rows)[:, : len(rows)]
    lags = sorted((-1 / np.linalg.eigvals(matrix).real).tolist(), reverse=True)
    chord = hold_w / (celsius - ambient_c)
    delay = truth.dead_time_s + truth.sensor_lag_s + lags[-1]
    return LinearTruth(truth.power_w / chord, lags[0], delay, hold_w / truth.power_w)


@dataclass
class Adc:
    """A sensor input: the true thermistor's curve, noise and whole counts, averaged over a burst."""

    curve: SensorCurve
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
        burst = self._noise.pop()  # whose place in memory is used once, so the counts may take it
        burst += self.curve.ratio(celsius) * full
        np.rint(burst, burst)
        counts: list[float] = burst.tolist()
        mean = sum(counts) / self.burst
        seen: float = mean / full
        return min(1.0, max(0.0, seen))
