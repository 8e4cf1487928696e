"""The relay phase of heater control: the heat-up, cycles counted, duties balanced, stopped when the cycles agree."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench, HeatSample
from ublet.core.heat.demands import Demands
from ublet.core.heat.record import Record
from ublet.core.heat.relay import SETTLED, Cycle, balanced_levels, find_cycles, same_levels, spread
from ublet.core.remedies import LINK
from ublet.core.remedy import ByHand, ChangeParameter
from ublet.core.run import Progress, TrialFailed
from ublet.core.units import duration

PIECES = 12
"""The climb after its steepest moment is cut into so many pieces; each gives a slope at a temperature."""

SURE = 3.0
"""Standard uncertainties that make it sure."""

SHORTEST_RISE_C = 12.0
LONGEST_REACH = 4.0
"""The end is not predicted from less than a quarter of the way to it."""


USUAL_CYCLES, FAN_CYCLES = 6, 3
"""Cycles that it usually takes until they agree; periods for which the fan is watched then."""


@dataclass(frozen=True)
class Top:
    """The temperature that a climb levels off at, with its standard uncertainty, °C."""

    celsius: float
    uncertainty_c: float

    def sure_below(self, celsius: float) -> bool:
        """Whether it surely stays below a temperature."""
        return self.celsius + SURE * self.uncertainty_c < celsius


def levels_off(time_s: Floats, celsius: Floats) -> Top | None:
    """The end of a climb at constant power: n samples of time (s) and temperature (°C) from its start.

    After the lags a first-order plant follows ``dT/dt = (T_end - T) / tau``: slopes of pieces of the climb against
    their mean temperatures lie on a line that reaches zero at T_end (linear regression; its uncertainty by the delta
    method). Losses that grow with temperature only bring the true end lower. None while the record does not show it.
    """
    if len(time_s) < 20 * PIECES:
        return None
    edges = np.linspace(0, len(time_s), 2 * PIECES + 1).astype(int)
    slopes, temperatures = [], []
    for first, last in pairwise(edges):
        t, y = time_s[first:last], celsius[first:last]
        slopes.append(float(np.polyfit(t - t[0], y, 1)[0]))
        temperatures.append(float(y.mean()))
    steepest = int(np.argmax(slopes))
    after = slice(steepest + 1, None)
    slope, mean = np.array(slopes[after]), np.array(temperatures[after])
    if len(slope) < 5 or mean[-1] - mean[0] < SHORTEST_RISE_C:
        return None
    (rate, offset), covariance = np.polyfit(mean, slope, 1, cov=True)
    if rate >= 0:
        return None
    top = -offset / rate
    if top - celsius[0] > LONGEST_REACH * (celsius[-1] - celsius[0]):
        return None
    pull = np.array([offset / rate**2, -1 / rate])
    uncertainty = math.sqrt(max(0.0, float(pull @ covariance @ pull)))
    return Top(float(top), uncertainty)


LOOK_EVERY = 100
"""Samples between two looks at where the climb levels off."""

ABOVE_TARGET_C = 2.0
"""The relay needs to get this far above the target, °C."""

SURE_RISE_C = 15.0
"""Before this rise the slope shows nothing of the time left."""


class RelayPhase:
    """Drives one heater through relay cycles.

    Args:
        heater, target_c: what swings around which temperature. hysteresis_c: of the relay.
        limit: largest duty allowed. most_cycles: stop here even when the cycles do not agree. demands: how long a
            climb and a cycle may last.
    """

    def __init__(
        self,
        bench: Bench,
        record: Record,
        heater: str,
        target_c: float,
        hysteresis_c: float,
        limit: float,
        most_cycles: int,
        demands: Demands,
    ) -> None:
        self.bench = bench
        self.record = record
        self.heater = heater
        self.target_c = target_c
        self.hysteresis_c = hysteresis_c
        self.limit = limit
        self.most_cycles = most_cycles
        self.demands = demands
        self.period_s = demands.cycle_s / 12
        self._known: list[Cycle] = []

    async def cycle(self, samples: AsyncIterator[HeatSample]) -> list[Cycle]:
        """Cycles that agree; the relay is on already."""
        seen, rebalanced = 0, 0
        levels = (self.limit, 0.0)
        reached: float | None = None
        async for sample in samples:
            if sample.target_c is None:
                continue  # the record begins when the board drives
            at = self.record.add(sample)
            if reached is None:
                if sample.celsius >= self.target_c:
                    reached = at
                elif at > self.demands.heat_up_s:
                    raise TrialFailed(
                        f"The target was not reached in {duration(self.demands.heat_up_s)}: the heater is too weak, "
                        f"it stands at {sample.celsius:.0f} °C. Check its power, its voltage and the sock.",
                        ByHand("check the heater's power, its voltage and the sock"),
                        ChangeParameter("target", "a lower temperature"),
                    )
                else:
                    self._heating_up(at)
                    self._must_suffice()
                continue
            cycles = self._cycles()
            if len(cycles) == seen:
                if at - reached > self.demands.cycle_s * (seen + 2):
                    raise TrialFailed(
                        "No limit cycle: no relay cycle came to an end.",
                        ByHand("check the heater's power and the seat of its sensor"),
                        ChangeParameter("target", "a lower temperature"),
                    )
                continue
            seen = len(cycles)
            self.period_s = cycles[-1].period_s
            same = same_levels(cycles)
            self._counting(seen, same)
            if spread(same) <= SETTLED:
                return same
            if seen >= self.most_cycles:
                if len(same) >= 2:
                    return same
                raise TrialFailed(
                    "Too few cycles agree; raise `cycles` and try again.", ChangeParameter("cycles", "more cycles")
                )
            wanted = balanced_levels(cycles[-1].mean_duty, self.limit)
            if rebalanced < 2 and abs(wanted[0] - levels[0]) + abs(wanted[1] - levels[1]) > 0.04:
                levels, rebalanced = wanted, rebalanced + 1
                await self.bench.heat.relay(self.heater, self.target_c, self.hysteresis_c, *levels)
        raise TrialFailed("The samples ended before the cycles agreed.", LINK)

    async def with_fan(self, samples: AsyncIterator[HeatSample], fan: str, still: Cycle) -> float:
        """Heat lost with the part fan on over the heat lost without, from the duty that holds."""
        await self.bench.heat.fan(fan, 1.0)
        await self.bench.heat.relay(self.heater, self.target_c, self.hysteresis_c, self.limit, 0.0)
        before = len(self._cycles())
        began: float | None = None
        async for sample in samples:
            at = self.record.add(sample)
            began = at if began is None else began
            cycles = self._cycles()
            fresh = len(cycles) - before
            self.bench.progress(
                Progress(
                    "fan on",
                    min(0.96, 0.8 + 0.05 * fresh),
                    max(0.0, 3 * self.period_s - (at - began)),
                    "what the part fan takes away",
                )
            )
            if fresh >= 3:
                await self.bench.heat.fan(fan, 0.0)
                return max(1.0, cycles[-1].mean_duty / still.mean_duty)
            if at - began > self.demands.cycle_s:
                raise TrialFailed(
                    f"With the part fan on, full power does not hold {self.target_c:g} °C: "
                    "the heater is too weak for this target, or the fan blows at the block (fit a sock).",
                    ByHand("fit a sock, or turn the fan away from the block"),
                    ChangeParameter("target", "a lower temperature"),
                )
        raise TrialFailed("The samples ended while the fan was on.", LINK)

    def _cycles(self) -> list[Cycle]:
        # a switching shows in the duty of the last two samples; only then can a cycle be new
        rows = self.record.rows
        if len(rows) >= 2 and rows[-1][1] > rows[-2][1]:
            series = self.record.series()
            self._known = find_cycles(series.column("time_s"), series.column("duty"), series.column("temperature_c"))
        return self._known

    @property
    def _fan_cycles(self) -> int:
        """Periods that the part fan is watched for after the cycles."""
        return FAN_CYCLES if self.demands.fans else 0

    def _heating_up(self, at: float) -> None:
        rows = self.record.rows
        left = None
        if len(rows) > 50 and rows[-1][2] - rows[0][2] > SURE_RISE_C:
            rate = (rows[-1][2] - rows[-50][2]) / (rows[-1][0] - rows[-50][0])
            if rate > 0.002:
                left = (self.target_c - rows[-1][2]) / rate * 1.15 + (
                    USUAL_CYCLES + (FAN_CYCLES if self.demands.fans else 0)
                ) * self.period_s
        fraction = 0.4 * max(0.0, min(1.0, rows[-1][2] / self.target_c))
        self.bench.progress(Progress("heating up", fraction, left, f"full power, {rows[-1][2]:.0f} °C"))

    def _must_suffice(self) -> None:
        """Say early, from the climb itself, when full power will not reach the target."""
        if len(self.record.rows) % LOOK_EVERY:
            return
        series = self.record.series()
        top = levels_off(series.column("time_s"), series.column("temperature_c"))
        if top is not None and top.sure_below(self.target_c + ABOVE_TARGET_C):
            raise TrialFailed(
                f"Too weak for {self.target_c:g} °C: by its climb it levels off at {top.celsius:.0f} "
                f"±{2 * top.uncertainty_c:.0f} °C at full power. Choose a lower target, or check its power, its "
                "voltage and the sock.",
                ChangeParameter("target", "a lower temperature"),
                ByHand("check the heater's power, its voltage and the sock"),
            )

    def _counting(self, seen: int, same: list[Cycle]) -> None:
        agree = spread(same)
        phase = f"settling {100 * agree:.1f} %" if math.isfinite(agree) else "settling"
        last = same[-1] if same else self._known[-1]
        left = (max(1, USUAL_CYCLES - seen) + self._fan_cycles) * self.period_s
        self.bench.progress(
            Progress(
                f"cycle {seen + 1} of at most {self.most_cycles}",
                0.4 + 0.4 * min(1.0, seen / 6),
                left,
                f"period {last.period_s:.1f} s · amplitude {last.amplitude_c:.1f} °C · {phase}",
            )
        )
