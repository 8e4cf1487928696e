"""Which gains a heater is held by at a target: its own, or a set that the board uses near the target.

The board runs the same code; ``docs/protocol.md`` writes it down.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from ublet.core.heat.pid import Gains
from ublet.core.settings import Value

Read = Callable[[str], Value]


def gains_root(heater: str, target_c: float, sets: Iterable[str], read: Read) -> str:
    """The settings path that ``kp``, ``ki`` and ``kd`` stand below for a target.

    Of the sets with ``used`` whose ``at_c`` is no further from the target than ``within_c`` the nearest (the first by
    name of two equally near); else the heater's own. read gives the live value of a path, None where there is none.
    """
    near = []
    for name in sorted(sets):
        root = f"heaters.{heater}.gains.{name}"
        at, within = read(f"{root}.at_c"), read(f"{root}.within_c")
        if read(f"{root}.used") is True and isinstance(at, (int, float)) and isinstance(within, (int, float)):
            distance = abs(target_c - at)
            if distance <= within:
                near.append((distance, root))
    return min(near, key=lambda each: each[0])[1] if near else f"heaters.{heater}"


def gains_below(root: str, read: Read) -> Gains:
    """The gains that stand below a path."""
    kp, ki, kd = (read(f"{root}.{key}") for key in ("kp", "ki", "kd"))
    return Gains(*(float(value) if isinstance(value, (int, float)) else 0.0 for value in (kp, ki, kd)))
