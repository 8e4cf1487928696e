"""How the board drives one heater now."""

from __future__ import annotations

from dataclasses import dataclass

from ublet.core.heat.pid import Pid


@dataclass
class Drive:
    """How one heater is driven: off, by PID to a target, or by relay around one."""

    target_c: float | None = None
    pid: Pid | None = None
    relay: tuple[float, float, float] | None = None
    relay_on: bool = True
    duty: float = 0.0
