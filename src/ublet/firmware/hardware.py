"""What a board is before any setting: its name, firmware, memory and speed; and what its wires do to what it says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Hardware:
    """One board.

    steps_per_s: the most that it makes on one motor; 0: no limit. streams: sensors that it has and that stream, with
    ``memory_bytes`` for what has not gone over the line yet; found_at: the bus sockets at which their modules answer.
    lacks: capabilities that its firmware has not.
    """

    name: str
    firmware: str
    slot_bytes: int
    steps_per_s: float = 0.0
    streams: tuple[str, ...] = ()
    memory_bytes: int = 0
    found_at: Mapping[str, str] = field(default_factory=dict)
    lacks: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Wire:
    """A line between board and host: its speed (0: no limit), delay, and the shares of lines that it spoils."""

    baud: int = 0
    latency_ms: float = 0.0
    flip_rate: float = 0.0
    garbage_rate: float = 0.0
    drop_rate: float = 0.0
    host_drop_rate: float = 0.0
    double_rate: float = 0.0
    host_double_rate: float = 0.0

    @property
    def spoils(self) -> bool:
        """Whether lines to the host may arrive otherwise than they were sent."""
        return bool(self.drop_rate or self.flip_rate or self.garbage_rate or self.double_rate)
