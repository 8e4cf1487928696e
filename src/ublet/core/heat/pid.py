"""The control law that the board runs: PID with anti-windup and a filtered derivative.

The same code predicts a step in the core and runs on the simulated board, and ``docs/protocol.md``
writes it down for firmware authors, so that a prediction is made with the law that will run.
"""

from __future__ import annotations

from dataclasses import dataclass

DERIVATIVE_FILTER_S = 0.8
"""Time constant of the low-pass on the derivative, s."""

TICK_S = 0.1
"""Control period of the board, s."""


@dataclass(frozen=True)
class PidGains:
    """PID gains in parallel form: duty per °C, per °C·s, and s per °C."""

    kp: float
    ki: float
    kd: float

    @classmethod
    def standard(cls, kp: float, ti: float, td: float) -> PidGains:
        """From proportional gain, integral time and derivative time (s)."""
        return cls(kp, kp / ti, kp * td)

    def rounded(self, digits: int = 4) -> PidGains:
        """The same gains to so many significant digits: what a setting carries."""
        return PidGains(*(float(f"{value:.{digits}g}") for value in (self.kp, self.ki, self.kd)))


class Pid:
    """One controller's state; call :meth:`duty` once a tick.

    The derivative acts on the measurement (no kick when the target changes) behind a first-order
    filter. Anti-windup is by conditional integration: the integral moves only while the output is
    within 0..limit, or when it moves the output back inside (Åström & Hägglund 2006, section 3.5).
    """

    def __init__(self, gains: PidGains, tick_s: float = TICK_S) -> None:
        self.gains = gains
        self.tick_s = tick_s
        self.integral = 0.0
        self._slope = 0.0
        self._last: float | None = None
        self._filter = tick_s / (DERIVATIVE_FILTER_S + tick_s)

    def duty(self, target_c: float, measured_c: float, limit: float = 1.0) -> float:
        """Duty 0..limit for this tick; limit is what really clamps it (``power_limit``): anti-windup must know."""
        gains = self.gains
        if self._last is not None:
            raw = (measured_c - self._last) / self.tick_s
            self._slope += self._filter * (raw - self._slope)
        self._last = measured_c
        error = target_c - measured_c
        demand = gains.kp * error + self.integral - gains.kd * self._slope
        pushes_out = (demand >= limit and error > 0) or (demand <= 0 and error < 0)
        if not pushes_out:
            integral = self.integral + gains.ki * error * self.tick_s
            self.integral = limit if integral > limit else integral if integral > 0.0 else 0.0
        return limit if demand > limit else demand if demand > 0.0 else 0.0
