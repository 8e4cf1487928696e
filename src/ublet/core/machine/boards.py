"""What a controller board has: sockets on its edges, memory, step rate. Boards are data files; this is their shape."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from ublet.core.settings import Known, Name, Part, declarations, setting

SocketKind = Literal["motor", "heater", "sensor", "fan", "input", "servo", "bus", "display", "card"]
KINDS: tuple[SocketKind, ...] = ("motor", "heater", "sensor", "fan", "input", "servo", "bus", "display", "card")
"""Kinds of socket, in the order in which they are listed."""


class Socket(Part):
    """A socket, where it stands, and what it stands."""

    kind: SocketKind = setting("What can be plugged in.")
    edge: Literal["top", "right", "bottom", "left"] = setting("Edge of the board that it stands at.")
    at: float = setting("Place along that edge: 0 is the left or upper end, 1 the other.", low=0, high=1)
    largest_a: float | None = setting("Largest current.", unit="A", low=0.01, high=100, default=None)
    pullup_ohm: float | None = setting(
        "Sensor socket: its pull-up resistor.", unit="Ω", low=100, high=1e6, default=None
    )


class ModuleSize(Part):
    """A module of the firmware on this board."""

    bytes: int = setting("Room that it takes in the image.", low=1, high=64_000_000)


class BoardKind(Part):
    """A kind of board. Modules are named as in ``core.machine.modules``; a module without a size is not made for it."""

    name: str = setting("Name, as a machine file writes it.")
    note: str = setting("Anything worth knowing.", default="")
    width_mm: float = setting("Along the top edge.", unit="mm", low=10, high=1000)
    height_mm: float = setting("Along the left edge.", unit="mm", low=10, high=1000)
    adc_bits: int = setting("Resolution of the sensor inputs.", unit="bit", low=8, high=24)
    slot_bytes: int = setting("Room for an image; the board has two such slots.", unit="bytes", low=1024, high=1 << 26)
    steps_per_s: float = setting(
        "Most steps a second that it can make on one motor.", unit="steps/s", low=1000, high=1e8
    )
    sockets: dict[Name, Socket]
    modules: dict[Name, ModuleSize]

    @classmethod
    def declared(cls) -> Known:
        """Every key of a board file."""
        return BOARD_KEYS

    def of_kind(self, kind: str) -> tuple[str, ...]:
        """Names of the sockets of a kind, in the file's order."""
        return tuple(name for name, socket in self.sockets.items() if socket.kind == kind)


BOARD_KEYS = Known(declarations(BoardKind))
"""Every key of a board file."""

Boards = Mapping[str, BoardKind]
"""Known boards by name."""
