"""What a controller board has: its sockets by kind. Boards are data files; this is their shape."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import BaseModel, ConfigDict


class BoardKind(BaseModel):
    """A kind of board.

    sockets maps a kind of socket ("heater", "sensor", "fan") to the names printed on the board.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str
    sockets: dict[str, list[str]]
    adc_bits: int


Boards = Mapping[str, BoardKind]
"""Known boards by name."""
