"""What a host may ask of fast readings."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ublet.core.streams import StreamKind
from ublet.firmware.board import Board
from ublet.firmware.requests import Params, number, text, whole


class StreamRequests:
    """Does what is asked; raises Refused, or what wrong parameters make of Python."""

    def __init__(self, board: Board) -> None:
        self._streams = board.streams
        self.methods: dict[str, Callable[[Params], Any]] = {
            "stream.open": self._open,
            "stream.credit": self._credit,
            "stream.again": self._again,
            "stream.close": self._close,
        }

    def _open(self, params: Params) -> Any:
        capture_s = number(params, "capture_s") if "capture_s" in params else None
        return self._streams.open(text(params, "stream"), number(params, "rate_hz"), capture_s)

    def _credit(self, params: Params) -> Any:
        self._streams.credit(whole(params, "number"), whole(params, "upto"))
        return {}

    def _again(self, params: Params) -> Any:
        told = params["blocks"]
        if not isinstance(told, list):
            raise TypeError("blocks must be a list of whole numbers")
        blocks = [whole({"blocks": each}, "blocks") for each in told]
        return self._streams.again(whole(params, "number"), blocks)

    def _close(self, params: Params) -> Any:
        return self._streams.close(whole(params, "number"))


def told_kind(kind: StreamKind) -> dict[str, Any]:
    """A sensor that streams, as hello tells it."""
    return {
        "name": kind.name,
        "columns": list(kind.columns),
        "units": list(kind.units),
        "scales": list(kind.scales),
        "rates_hz": list(kind.rates_hz),
        "memory_bytes": kind.memory_bytes,
    }
