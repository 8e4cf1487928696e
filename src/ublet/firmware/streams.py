"""Fast readings on the board: taken, packed into blocks, kept until they have gone over the line."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ublet.core.settings import Value
from ublet.core.sockets import Sockets
from ublet.core.streams import SOCKET_OF, StreamKind
from ublet.firmware.events import Events
from ublet.firmware.refusal import NOT_ALLOWED, Refused
from ublet.link.frames import Block
from ublet.link.stream_blocks import StreamBlock, line_bytes_s, pack

IN_BLOCK, BLOCK_S = 64, 0.08
"""A block has so many readings, or as many as come in so long, s: a fast sensor's blocks are not more than a host deals
with one by one.
"""

LINE_FRACTION = 0.6
"""A live stream takes no more of the line than this share: states, replies and events need the rest."""


def kinds_on(streams: Sequence[str], memory_bytes: int, found_at: Mapping[str, str]) -> dict[str, StreamKind]:
    """What the sensors that a board has are, by their names. found_at: the bus sockets at which they answer."""
    known = (
        StreamKind(
            "accelerometer",
            ("x", "y", "z"),
            ("m/s²",) * 3,
            (0.0024,) * 3,
            (400.0, 800.0, 1600.0, 3200.0),
            memory_bytes,
        ),
        StreamKind(
            "coil",
            ("frequency", "amplitude", "warmth"),
            ("Hz", "V", "°C"),
            (50.0, 0.001, 0.01),
            (100.0, 400.0),
            memory_bytes,
        ),
    )
    return {kind.name: replace(kind, socket=found_at.get(kind.name, "")) for kind in known if kind.name in streams}


@dataclass
class _Open:
    """A stream that is open. wanted: readings of a capture, 0 for a live one; upto: blocks before this may be sent."""

    number: int
    kind: StreamKind
    rate_hz: float
    wanted: int
    upto: int = 0
    taken: int = 0
    sent: int = 0
    blocks: int = 0
    in_block: int = IN_BLOCK
    newest_s: float = 0.0
    first: NDArray[np.int16] | None = None
    waiting: list[tuple[NDArray[np.int16], NDArray[np.float64]]] = field(default_factory=list)
    kept: OrderedDict[int, Block] = field(default_factory=OrderedDict)
    again: list[int] = field(default_factory=list)

    @property
    def full(self) -> bool:
        """Whether a capture has all that was wanted."""
        return bool(self.wanted) and self.taken >= self.wanted


def _times(newest_s: float, count: int, period_s: float) -> NDArray[np.float64]:
    """When readings were taken, the newest of them last, s."""
    return newest_s - np.arange(count - 1, -1, -1, dtype=np.float64) * period_s


class StreamSender:
    """One stream at a time. line_bytes_s: what the line carries; 0: no limit. declared: live settings by path."""

    def __init__(
        self,
        sockets: Sockets,
        events: Events,
        kinds: Mapping[str, StreamKind],
        clock: Callable[[], float],
        declared: Callable[[str], Value] = lambda path: None,
    ) -> None:
        self.kinds = dict(kinds)
        self.line_bytes_s = 0.0
        self._sockets = sockets
        self._events = events
        self._clock = clock
        self._declared = declared
        self._open: _Open | None = None
        self._numbers = 0

    def open(self, name: str, rate_hz: float, capture_s: float | None) -> dict[str, float]:
        """Begin to take readings: live, or so many seconds of them that are handed over afterwards.

        Raises:
            Refused: no such sensor or rate, another stream is open, the line too slow for it, or the memory too small.
        """
        kind = self.kinds.get(name)
        if kind is None:
            raise Refused(
                NOT_ALLOWED, f"this board has no “{name}”; it has: {', '.join(self.kinds) or 'nothing that streams'}"
            )
        wanted = self._declared(SOCKET_OF[name])
        if wanted and kind.socket and wanted != kind.socket:
            raise Refused(
                NOT_ALLOWED,
                f"nothing answers at {wanted} ({SOCKET_OF[name]}); the {name}'s module answers at {kind.socket}",
            )
        if rate_hz not in kind.rates_hz:
            rates = ", ".join(f"{rate:g}" for rate in kind.rates_hz)
            raise Refused(NOT_ALLOWED, f"the {name} takes {rates} readings a second, not {rate_hz:g}")
        if self._open is not None:
            raise Refused(NOT_ALLOWED, f"stream {self._open.number} is open: close it first")
        in_block = max(IN_BLOCK, round(BLOCK_S * rate_hz))
        if capture_s is None:
            asked, there = line_bytes_s(kind.sample_bytes, rate_hz, in_block), LINE_FRACTION * self.line_bytes_s
            if there and asked > there:
                raise Refused(
                    NOT_ALLOWED,
                    f"{rate_hz:g} readings a second take {asked / 1000:.1f} kB/s of the line, which has "
                    f"{there / 1000:.1f} for them: capture them, or ask for fewer",
                )
        elif not 0 < capture_s <= kind.longest_s(rate_hz):
            raise Refused(
                NOT_ALLOWED, f"at {rate_hz:g} readings a second a capture lasts up to {kind.longest_s(rate_hz):.2f} s"
            )
        self._numbers += 1
        wanted = 0 if capture_s is None else round(capture_s * rate_hz)
        self._open = _Open(self._numbers, kind, rate_hz, wanted, in_block=in_block)
        self._sockets.listen(name, rate_hz)
        self._sockets.readings(name)
        return {"number": self._numbers, "in_block": in_block, "kept_blocks": self._room(self._open)}

    def credit(self, number: int, upto: int) -> None:
        """The host takes blocks before this number."""
        stream = self._known(number)
        stream.upto = max(stream.upto, upto)

    def again(self, number: int, blocks: Sequence[int]) -> dict[str, Any]:
        """Send blocks once more; returns those that are no longer kept, and how many were made so far."""
        stream = self._known(number)
        stream.again += [block for block in blocks if block in stream.kept]
        gone = [block for block in blocks if block < stream.blocks and block not in stream.kept]
        return {"gone": gone, "blocks": stream.blocks}

    def close(self, number: int) -> dict[str, int]:
        """No more of it; returns how many blocks and readings there were."""
        stream = self._known(number)
        self.end()
        return {"blocks": stream.blocks, "readings": stream.taken}

    def end(self) -> None:
        """Whatever is open is closed."""
        if self._open is not None:
            self._sockets.listen(self._open.kind.name, 0.0)
            self._open = None

    def listens_to(self, name: str) -> bool:
        """Whether a stream of this sensor is open."""
        return self._open is not None and self._open.kind.name == name

    def tick(self) -> None:
        """Take what the sensor has; a live stream that nobody takes loses its oldest."""
        stream = self._open
        if stream is None or stream.full:
            return
        readings = self._sockets.readings(stream.kind.name)
        count = len(readings.counts)
        if not count:
            return
        newest_s = self._clock() - readings.newest_ago_s
        if stream.first is None:  # its clock is not known yet: their times are put to them with the next ones
            stream.first, stream.newest_s = readings.counts, newest_s
            return
        period = (newest_s - stream.newest_s) / (count + readings.missed)
        if len(stream.first):
            stream.waiting.append((stream.first, _times(stream.newest_s, len(stream.first), period)))
            stream.first = stream.first[:0]
        if readings.missed:  # what came before them is a block of its own: the numbers show the gap
            self._pack(stream, whole=True)
            stream.taken += readings.missed
        stream.waiting.append((readings.counts, _times(newest_s, count, period)))
        stream.newest_s = newest_s
        self._pack(stream)
        if stream.full:
            self._sockets.listen(stream.kind.name, 0.0)
            self._events.emit("captured", stream=stream.number, blocks=stream.blocks, readings=stream.taken)

    def due(self) -> Block | None:
        """The next block to send; those that are asked for again come first."""
        stream = self._open
        if stream is None:
            return None
        while stream.again:
            if (block := stream.kept.get(stream.again.pop(0))) is not None:
                return block
        if stream.wanted and not stream.full:
            return None
        while stream.sent < min(stream.upto, stream.blocks):
            stream.sent += 1
            if (block := stream.kept.get(stream.sent - 1)) is not None:
                return block
        return None

    def _known(self, number: int) -> _Open:
        if self._open is None or self._open.number != number:
            raise Refused(NOT_ALLOWED, f"no stream {number} is open")
        return self._open

    def _room(self, stream: _Open) -> int:
        """Blocks that are kept."""
        return stream.kind.memory_bytes // (stream.in_block * stream.kind.sample_bytes) + 1

    def _pack(self, stream: _Open, whole: bool = False) -> None:
        """Make blocks of what waits; the rest of a capture is a short one. whole: nothing is left to wait."""
        if not stream.waiting:
            return
        counts = np.concatenate([sent for sent, _ in stream.waiting])
        times = np.concatenate([sent for _, sent in stream.waiting])
        if stream.wanted:
            most = max(0, stream.wanted - stream.taken)
            counts, times = counts[:most], times[:most]
        size = stream.in_block
        while len(counts) >= size or (
            len(counts) and (whole or (stream.wanted and len(counts) == stream.wanted - stream.taken))
        ):
            piece, when = counts[:size], times[:size]
            block = StreamBlock(stream.number, stream.blocks, stream.taken, when[0], when[-1], piece)
            stream.kept[stream.blocks] = pack(block)
            while len(stream.kept) > self._room(stream):
                stream.kept.popitem(last=False)
            stream.blocks, stream.taken = stream.blocks + 1, stream.taken + len(piece)
            counts, times = counts[size:], times[size:]
        stream.waiting = [(counts, times)] if len(counts) else []
