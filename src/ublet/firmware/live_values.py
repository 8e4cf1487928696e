"""What the board reads from its live settings: numbers, gains, the limits of guards, sensor curves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.heat.curves import SensorCurve, curve_of
from ublet.core.heat.gain_sets import gains_below, gains_root
from ublet.core.heat.pid import PidGains
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.settings import Value, refusal
from ublet.core.sockets import Level
from ublet.firmware.guards import GuardLimits
from ublet.firmware.refusal import NOT_ALLOWED, Refused

LiveValues = Mapping[str, Value]

CELSIUS_LIMITS = (-60.0, 600.0)
"""What lies outside is no reading, °C."""


def number_in(live: LiveValues, path: str) -> float:
    """A setting as a number; 0 where it is none."""
    value = live[path]
    return float(value) if isinstance(value, (int, float)) else 0.0


def gains_from(live: LiveValues, heater: str, target_c: float) -> PidGains:
    """The gains that hold a heater at a target: a set found near it, else the heater's own."""
    root = f"heaters.{heater}.gains."
    sets = {path.split(".")[3] for path in live if path.startswith(root)}
    return gains_below(gains_root(heater, target_c, sets, live.get), live.get)


def guard_limits_from(live: LiveValues, heater: str) -> GuardLimits:
    """What the guard of a heater watches by."""
    root = f"heaters.{heater}"
    guard = [f"{root}.guards.{key}" for key in ("rise_c", "rise_window_s", "drift_c", "drift_window_s")]
    return GuardLimits(*(number_in(live, path) for path in (f"{root}.maximum_c", *guard, f"{root}.power_limit")))


def curve_from(live: LiveValues, sensor: str) -> SensorCurve | None:
    """A sensor's curve; None when its settings make none (it then does not read)."""
    root = f"sensors.{sensor}."
    try:
        return curve_of({path.removeprefix(root): value for path, value in live.items() if path.startswith(root)})
    except ValueError:
        return None


def celsius_from(curve: SensorCurve | None, ratio: float) -> float | None:
    """What a sensor reads at a divider ratio, °C; None where it reads nothing."""
    if curve is None:
        return None
    try:
        celsius = curve.celsius(ratio)
    except (ValueError, ZeroDivisionError, OverflowError):
        return None
    low, high = CELSIUS_LIMITS
    return celsius if low < celsius < high else None


@dataclass(frozen=True)
class FanRule:
    """What a fan does beside what is commanded: nothing, blow always, or with a heater above a temperature."""

    follows: str
    heater: str
    above_c: float
    least: float

    def blows(self, reason: float, heater_c: float | None) -> float:
        """Its duty; too little is raised to its least."""
        hot = self.follows == "heater" and heater_c is not None and heater_c > self.above_c
        duty = 1.0 if hot or self.follows == "always" else reason
        return max(duty, self.least) if duty > 0 else 0.0


def fan_rule_from(live: LiveValues, name: str) -> FanRule:
    """What the live settings say of a fan."""
    above, least = (
        number_in(live, f"fans.{name}.{key}") if f"fans.{name}.{key}" in live else 0.0
        for key in ("above_c", "least_duty")
    )
    return FanRule(str(live.get(f"fans.{name}.follows")), str(live.get(f"fans.{name}.heater")), above, least)


@dataclass(frozen=True)
class InputRule:
    """How a digital input is read: where it is plugged, and what its level means."""

    socket: str
    pull_up: bool
    normally_closed: bool

    def reads(self, level: Level) -> tuple[float, float]:
        """Whether it reads as triggered, and how often its contact changed."""
        high = level.is_open and self.pull_up
        return float(high if self.normally_closed else not high), float(level.edges)


def input_rule_from(live: LiveValues, name: str) -> InputRule:
    """What the live settings say of a digital input, by its name (``endstops.NAME``, ``probe``)."""
    pull_up, closed = live.get(f"{name}.pull_up", True), live[f"{name}.normally_closed"]
    return InputRule(str(live[f"{name}.socket"]), bool(pull_up), bool(closed))


def must_be_allowed(values: Mapping[str, Value], image: Mapping[str, Value]) -> None:
    """Raises Refused when a setting is not one that this image has, or not allowed."""
    for path, value in values.items():
        reason = refusal(BOARD_SETTINGS, path, value)
        if reason is None and path not in image:
            reason = f"{path}: this board's image has no such part"
        if reason:
            raise Refused(NOT_ALLOWED, reason)
