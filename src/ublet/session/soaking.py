"""How long each slow heater has been at its target, and how its surface follows: from every sample that comes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from ublet.core.heat.soak import Drift, Sheet, drift_of, sheet_of, still_after
from ublet.core.heat.soak_trials import NOW_S, WINDOW_S
from ublet.core.heat.start import surface_sensor
from ublet.core.least_squares import Floats
from ublet.link.client import Sample
from ublet.session.heaters import room_now, tuned_model

if TYPE_CHECKING:
    from ublet.session.session import Session

ROW_S = 1.0
LONGEST = 3 * 3600
"""Rows kept: three hours."""

REACHED_C, LEFT_C = 1.0, 3.0
"""A target is reached within the first, and left beyond the second, °C."""

USUAL_DRIFT_C_MIN = 0.2


@dataclass
class Held:
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
    drift: Drift | None


class SoakWatch:
    """Follows the heaters of slow parts, whoever heats them."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self.held: dict[str, Held] = {}
        session.connection.sampled.append(self._take)

    def state(self, heater: str, sheet: Sheet | None, drift_c_min: float) -> Soaking | None:
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
        room = room_now(self._session, heater)
        if sheet is None or room is None:
            return Soaking(since, None, drift)
        followed = sheet.follows(time_s, bed, room)
        stands = room + sheet.share * (float(bed[time_s >= time_s[-1] - NOW_S].mean()) - room)
        left = still_after(stands - float(followed[-1]), sheet.lag_s, drift_c_min)
        return Soaking(since, left, drift)

    def _take(self, samples: Iterable[Sample]) -> None:
        about, machine = self._session.connection.about, self._session.document.machine
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
            held = self.held[name] = Held(target, now)
        if celsius is None or (held.rows and now - held.rows[-1][0] < ROW_S):
            return
        held.rows.append((now, celsius, surface))
        del held.rows[:-LONGEST]
        away = abs(celsius - target)
        if held.reached_s is None and away <= REACHED_C:
            held.reached_s = now
        elif away > LEFT_C:
            held.reached_s = None


def known_sheet(session: Session, heater: str) -> Sheet | None:
    """What is known of the sheet on a heater's block: by its soak trial, else by its model; None: nothing."""
    soaked = session.proven("bed-soak", heater)
    lag = soaked.finding("sheet_lag") if soaked is not None else None
    if soaked is not None and lag is not None:
        share, lead = soaked.finding("surface_share"), soaked.finding("sensor_lead")
        return Sheet(lag.value, share.value if share else 1.0, 0.0, 0.0, lead.value if lead else 0.0)
    model = tuned_model(session, heater)
    return sheet_of(model) if model is not None else None


def drift_wanted(session: Session) -> float:
    """What counts as standing still: as in the last soak trial, °C/min."""
    soaked = session.proven("bed-soak")
    asked = soaked.conditions.get("drift_c_min") if soaked is not None else None
    return float(asked) if isinstance(asked, (int, float)) else USUAL_DRIFT_C_MIN
