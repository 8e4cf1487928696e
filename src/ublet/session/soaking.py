"""How long each slow heater has been at its target, and how its surface follows: from every sample that comes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.heat.soak import SheetModel, TemperatureSlope, drift_of, still_after
from ublet.core.heat.soak_trials import NOW_S, WINDOW_S
from ublet.core.heat.start import surface_sensor
from ublet.core.machine.schema import MachineFile
from ublet.link.replies import Sample
from ublet.session.connection import Connection

ROW_S = 1.0
LONGEST = 3 * 3600
"""Rows kept: three hours."""

REACHED_C, LEFT_C = 1.0, 3.0
"""A target is reached within the first, and left beyond the second, °C."""


@dataclass
class HeldHeater:
    """A heater since it was given its target: board times (s) and readings (°C; None: no surface sensor)."""

    target_c: float
    began_s: float
    reached_s: float | None = None
    rows: list[tuple[float, float, float | None]] = field(default_factory=list)

    def columns(self) -> tuple[Floats, Floats, Floats]:
        """Times since the target was given, bed, surface (nan where it did not read)."""
        rows = np.array(self.rows, dtype=np.float64).reshape(-1, 3)
        return rows[:, 0] - self.began_s, rows[:, 1], rows[:, 2]


@dataclass(frozen=True)
class Soaking:
    """Where a soak stands: time at the target (None: not there yet), time left (None: the sheet is not known), how the
    surface drifts (None: it has no sensor, or not long enough).
    """

    held_s: float | None
    left_s: float | None
    drift: TemperatureSlope | None


class SoakWatch:
    """Follows the heaters of slow parts, whoever heats them."""

    def __init__(self, connection: Connection, machine: Callable[[], MachineFile]) -> None:
        self._connection, self._machine = connection, machine
        self.held: dict[str, HeldHeater] = {}
        connection.sampled.append(self._take)

    def state(self, heater: str, sheet: SheetModel | None, drift_c_min: float, room_c: float | None) -> Soaking | None:
        """Where the soak of a heater stands, standing still being so little drift; None while it has no target."""
        held = self.held.get(heater)
        if held is None or len(held.rows) < 3:
            return None
        time_s, bed, surface = held.columns()
        since = time_s[-1] - (held.reached_s - held.began_s) if held.reached_s is not None else None
        drift = None
        seen = np.isfinite(surface) & (time_s >= time_s[-1] - WINDOW_S)
        if since is not None and since >= NOW_S and np.count_nonzero(seen) > 5:
            drift = drift_of(time_s[seen], surface[seen])
        if sheet is None or room_c is None:
            return Soaking(since, None, drift)
        followed = sheet.follows(time_s, bed, room_c)
        stands = room_c + sheet.fraction * (float(bed[time_s >= time_s[-1] - NOW_S].mean()) - room_c)
        left = still_after(stands - float(followed[-1]), sheet.lag_s, drift_c_min)
        return Soaking(since, left, drift)

    def held_s(self) -> dict[str, float]:
        """How long each heater has been at its target, by the board's clock, s; only those that are."""
        return {
            name: held.rows[-1][0] - held.reached_s
            for name, held in self.held.items()
            if held.rows and held.reached_s is not None
        }

    def _take(self, samples: Iterable[Sample]) -> None:
        about, machine = self._connection.about, self._machine()
        if about is None:
            return
        for name, heater in machine.heaters.items():
            if heater.part == "hotend":
                continue
            wanted = (f"heaters.{name}.target_c", f"sensors.{heater.sensor}")
            if any(channel not in about.channels for channel in wanted):
                continue
            target_at, bed_at = (2 + about.channels.index(channel) for channel in wanted)
            surface = f"sensors.{surface_sensor(machine, name)}"
            surface_at = 2 + about.channels.index(surface) if surface in about.channels else None
            for sample in samples:
                seen = sample[surface_at] if surface_at is not None else None
                self._follow(name, sample, sample[target_at], sample[bed_at], seen)

    def _follow(
        self, name: str, sample: Sample, target: float | None, celsius: float | None, surface: float | None
    ) -> None:
        now, held = float(sample[1] or 0.0), self.held.get(name)
        if target is None:
            self.held.pop(name, None)
            return
        if held is None or held.target_c != target or now < held.began_s:
            held = self.held[name] = HeldHeater(target, now)
        if celsius is None or (held.rows and now - held.rows[-1][0] < ROW_S):
            return
        held.rows.append((now, celsius, surface))
        del held.rows[:-LONGEST]
        away = abs(celsius - target)
        if held.reached_s is None and away <= REACHED_C:
            held.reached_s = now
        elif away > LEFT_C:
            held.reached_s = None
