"""Which sensor a heater really warms, and which fan a socket really turns: what was seen, and what would mend it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.run import Proposal
from ublet.core.settings import Value

RISE_C = 1.5
"""A sensor that rose by this much, and by this many times the next one, was warmed."""

TIMES = 2.5

ROOMS_C = (5.0, 40.0)
"""Between these a reading can be a room's, °C."""


@dataclass(frozen=True)
class Warmed:
    """What a short pulse on one heater did: the rise of every sensor, °C.

    surfaces: sensors that lie on what a heater warms, above its own: they warm too, only later.
    """

    heater: str
    rises: Mapping[str, float]
    surfaces: frozenset[str] = frozenset()

    @property
    def sensor(self) -> str | None:
        """The sensor that warmed, or None when none stands out; one on a surface only when it warmed most of all."""
        ranked = sorted(((c, name) for name, c in self.rises.items() if name not in self.surfaces), reverse=True)
        most = max(((c, name) for name, c in self.rises.items()), default=(0.0, ""))
        if not ranked or most[0] < RISE_C:
            return None
        if most[1] in self.surfaces:
            return most[1]
        return most[1] if len(ranked) < 2 or most[0] >= TIMES * max(ranked[1][0], 0.0) else None


def exchange(parts: Mapping[str, str], root: str, sockets: Mapping[str, Value], effect: str) -> tuple[Proposal, ...]:
    """Proposals that give each part the socket at which it was found.

    parts: part → the part whose socket really serves it; sockets: live sockets by part.
    """
    return tuple(
        Proposal(f"{root}.{part}.socket", sockets.get(part), sockets.get(other), "", effect.format(part))
        for part, other in parts.items()
    )


def odd_sensors(readings: Mapping[str, float | None], room_c: float | None, apart_c: float) -> dict[str, str]:
    """Sensors that cannot be believed at rest: a sentence for each. Without a room temperature the median is one."""
    odd = {
        name: f"The {name} sensor is open, shorted or silent: check its plug and cable."
        for name, value in readings.items()
        if value is None
    }
    known = sorted(value for value in readings.values() if value is not None)
    likely = [value for value in known if ROOMS_C[0] <= value <= ROOMS_C[1]] or known
    room = room_c if room_c is not None else likely[len(likely) // 2] if likely else None
    for name, value in readings.items():
        if value is not None and room is not None and abs(value - room) > apart_c:
            odd[name] = (
                f"The {name} sensor reads {value:.0f} °C where the room has about {room:.0f}: wrong curve or pull-up, "
                "or it is still warm."
            )
    return odd
