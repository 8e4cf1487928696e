"""Moving an axis by hand: how fast it will really go and why, and the move itself."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Mapping
from typing import TYPE_CHECKING

from ublet.core.motion.caps import UNHOMED_MM_S, Speed, capped
from ublet.core.motion.program import Lift, ProbeMove, Push, To
from ublet.link.errors import LinkLost
from ublet.link.replies import EventReport, MotionReply, MoveReply

if TYPE_CHECKING:
    from ublet.core.machine.boards import BoardKind
    from ublet.session.connection import Connection

LATE_S, LONGEST_HOMING_S = 20.0, 600.0
"""Grace for the end of a move that is overdue, and longest wait for a homing, s."""

BEHIND_S = 3.0
"""Samples may lie on their way for so long, s of our own clock: where the board's clock runs many times as fast (the
demonstration's does), those that were taken before the move began can still come in after its reply.
"""


_lines = itertools.count(1)


async def to_the_end(connection: Connection, reply: MotionReply) -> None:
    """Wait until the board reports the end of a motion, and samples from then are there.

    Raises:
        LinkLost: the link went, the board restarted or does not report the end.
    """
    motion, about = reply.motion, connection.about
    seconds = reply.seconds if isinstance(reply, MoveReply) else LONGEST_HOMING_S
    late, loop = connection.board_time + seconds + LATE_S, asyncio.get_running_loop()
    asked = loop.time()
    while motion not in connection.ended or connection.board_time < connection.ended[motion].time_s:
        must_go_on(connection, about.boot if about is not None else None, "move")
        if connection.board_time > late and loop.time() - asked > BEHIND_S:
            raise LinkLost(f"the board has not reported the end of a move that takes {seconds:.1f} s")
        await connection.next_samples()


def must_go_on(connection: Connection, boot: int | None, what: str) -> None:
    """Raises LinkLost when the link went, or the board restarted since that boot: a motion then has no end."""
    if not connection.linked:
        raise LinkLost(connection.why)
    if connection.state.boot != boot:
        raise LinkLost(f"the board restarted in the middle of a {what}: it no longer knows where it stands")


async def jog(connection: Connection, axis: str, mm: float, speed_mm_s: float) -> None:
    """Move an axis by so much, and wait for its end.

    Raises:
        LinkLost, BoardRefused: it did not move; the message says why.
    """
    await to_the_end(connection, await connection.controller.move(axis, mm, speed_mm_s))


async def go(connection: Connection, at: Mapping[str, float], mm_s: float) -> float:
    """Move axes together in a straight line to a place, and wait for its end; returns the speed that it may have.

    Raises:
        LinkLost, BoardRefused: it did not move; the message says why.
    """
    return await one_segment(connection, To(at, mm_s))


async def push(connection: Connection, mm: float, mm_s: float) -> float:
    """Push filament, and wait for its end; returns the speed that it may have.

    Raises:
        LinkLost, BoardRefused: it was not pushed; the message says why.
    """
    return await one_segment(connection, Push(mm, mm_s))


async def touch(connection: Connection, floor_mm: float, mm_s: float) -> float | None:
    """Z down until the probe triggers, at most to a position; returns where that was, mm (None: it did not trigger).

    Raises:
        LinkLost, BoardRefused: it did not move; the message says why.
    """
    met: list[float | None] = []
    name = f"line {next(_lines)}"

    def on_touched(event: EventReport) -> None:
        if event.program == name and event.what == "touched":
            met.append(event.position.get("z"))

    connection.on_event.append(on_touched)
    try:
        reply = await connection.controller.add(name, 0, [ProbeMove({"z": floor_mm}, mm_s)], last=True)
        await to_the_end(connection, reply)
    finally:
        connection.on_event.remove(on_touched)
    return met[0] if met else None


async def one_segment(connection: Connection, segment: To | Push | Lift) -> float:
    """Follow one segment, and wait for its end; returns the speed that it may have.

    Raises:
        LinkLost, BoardRefused: it did not move; the message says why.
    """
    reply = await connection.controller.add(f"line {next(_lines)}", 0, [segment], last=True)
    await to_the_end(connection, reply)
    return reply.capped[0].mm_s if reply.capped else segment.mm_s


def jog_speed(connection: Connection, board: BoardKind, axis: str, asked_mm_s: float) -> Speed:
    """The speed at which an axis would move now, and what caps it."""
    if connection.channel(f"axes.{axis}.mm") is None:
        return capped(asked_mm_s, {"the limit before homing": UNHOMED_MM_S})
    feed = _live_number(connection, f"axes.{axis}.maximum_feed_mm_s")
    steps = _live_number(connection, f"axes.{axis}.steps_per_mm")
    caps = {}
    if feed:
        caps[f"maximum feed, {_layer(connection, f'axes.{axis}.maximum_feed_mm_s')}"] = feed
    if steps:
        caps[f"step rate of the {board.name}"] = board.steps_per_s / steps
    return capped(asked_mm_s, caps)


def _layer(connection: Connection, path: str) -> str:
    """Where a live value comes from."""
    layers = connection.layers[path]
    if layers.live != layers.saved:
        return "kept"
    return "stored" if layers.stored is not None else "image"


def _live_number(connection: Connection, path: str) -> float:
    layers = connection.layers.get(path)
    return float(layers.live) if layers is not None and isinstance(layers.live, (int, float)) else 0.0
