"""Running a program of motion on the linked board: given as there is room, changed on the way, followed to its end."""

from __future__ import annotations

import asyncio
import itertools

from ublet.core.motion.caps import Caps
from ublet.core.motion.program import Going, Park, Program, Timetable, timetable
from ublet.core.settings import number_or
from ublet.link.errors import NOT_ALLOWED, BoardRefused, LinkLost
from ublet.link.replies import EventReport
from ublet.session.connection import Connection
from ublet.session.jogging import must_go_on

AT_ONCE = 20
"""Segments in one request."""

FULL_S = 0.05
"""While the board has no room it is asked again so often, s."""

PARK_LIFT_MM, PARK_MM_S = 10.0, 80.0

_runs = itertools.count(1)


def start_of(connection: Connection) -> dict[str, float]:
    """Where the axes stand that are homed, mm."""
    places = {axis: connection.channel(f"axes.{axis}.mm") for axis in ("x", "y", "z")}
    return {axis: mm for axis, mm in places.items() if mm is not None}


def planned(connection: Connection, program: Program, steps_per_s: float) -> Timetable:
    """The program as the board will run it from where it stands, by the live settings.

    Raises:
        KeyError: it moves an axis that is not homed.
    """
    live = {path: layers.live for path, layers in connection.layers.items()}
    advance_s = None if "advance" in connection.can else 0.0
    return timetable(program, start_of(connection), Caps(live, steps_per_s, advance_s))


def park_of(connection: Connection) -> Park:
    """Where a print that ends early leaves the nozzle: above, beside the ends to which X and Y home."""
    live = {path: layer.live for path, layer in connection.layers.items()}
    at = {}
    for axis in ("x", "y"):
        root = f"axes.{axis}"
        away = number_or(live.get(f"{root}.homing.back_off_mm"), 0.0)
        high = live.get(f"{root}.homing.end") == "high"
        end = number_or(live.get(f"{root}.{'maximum_mm' if high else 'minimum_mm'}"), 0.0)
        at[axis] = end - away if high else end + away
    return Park(PARK_LIFT_MM, at, PARK_MM_S)


class ProgramRun:
    """One run of a program: a :class:`ublet.core.bench.Running`. park: what the board does when it ends early."""

    def __init__(self, connection: Connection, table: Timetable, park: Park | None = None) -> None:
        self.going = Going(table)
        self._park = park
        self._parking = False
        self.begun_s: float | None = None
        self._connection = connection
        self._motion = 0
        self._broken = False

    @property
    def ended(self) -> tuple[str, float] | None:
        """How it ended, and when by the board's clock; None: it runs."""
        if self._broken:
            return "broken off", self._connection.board_time
        report = self._connection.ended.get(self._motion)
        return (report.why or report.how, report.time_s) if report is not None else None

    async def run(self) -> EventReport:
        """Give it all, and wait for its end; returns how it ended.

        Raises:
            LinkLost: the link went, or the board restarted. BoardRefused: a segment was not taken; it is stopped then.
        """
        program, connection = self.going.table.program, self._connection
        about, name = connection.about, f"{program.name} {next(_runs)}"
        boot = about.boot if about is not None else None
        whole = program.segments
        connection.on_event.append(self._on_event)
        try:
            room = AT_ONCE
            while self.going.given < len(whole) and self._motion not in connection.ended:
                if not room:
                    await asyncio.sleep(FULL_S / (about.clock if about else 1.0))
                given = self.going.given
                piece = whole[given : given + min(AT_ONCE, room)]
                last = self.going.given + len(piece) == len(whole)
                try:
                    answer = await connection.controller.add(name, self.going.given, piece, last, self._park)
                except BoardRefused:
                    await connection.next_samples()
                    must_go_on(connection, boot, "program")
                    if self._motion in connection.ended or self._parking:
                        break  # it ended while these were on their way
                    await self.stop()
                    raise
                self._motion, self.going.given, room = answer.motion, answer.taken, answer.room
            return await self._to_its_end(boot)
        except (BoardRefused, LinkLost):
            self._broken = True
            raise
        finally:
            connection.on_event.remove(self._on_event)

    async def _to_its_end(self, boot: int | None) -> EventReport:
        connection = self._connection
        while self._motion not in connection.ended:
            must_go_on(connection, boot, "program")
            await connection.next_samples()
        return connection.ended[self._motion]

    async def nudge(self, by_mm: float) -> str:
        """Nearer to the bed (negative) or further from it, on top of what was nudged before; returns why the board
        refused it (empty: it did not). The program goes on either way.

        Raises:
            LinkLost: the link went.
        """
        height = round(self.going.height_mm + by_mm, 4)
        try:
            await self._connection.controller.adjust(height_mm=height)
        except BoardRefused as error:
            return str(error)
        self.going.height_mm = height
        return ""

    async def set_feed(self, fraction: float) -> None:
        """Follow it at another speed."""
        await self._connection.controller.adjust(feed=fraction)
        self.going.feed = fraction

    async def set_flow(self, fraction: float) -> None:
        """Push more or less filament."""
        await self._connection.controller.adjust(flow=fraction)
        self.going.flow = fraction

    async def hold(self, held: bool) -> str:
        """Stand still on the path, or go on from there; returns why the board refused it (empty: it did not)."""
        try:
            await self._connection.controller.hold(held)
        except BoardRefused as error:
            if error.code != NOT_ALLOWED or self.ended is not None:
                raise
            return str(error)
        return ""

    async def stop(self) -> None:
        """End it at once."""
        await self._connection.controller.stop()

    def _on_event(self, event: EventReport) -> None:
        if not event.program:
            return
        if self.begun_s is None and event.what == "place":
            self.begun_s = event.time_s
        match event.what:
            case "place":
                self.going.place, self.going.segment = event.place, event.segment
            case "parking":
                self._parking = True
            case "held" | "going on":
                self.going.held = event.what == "held"
                self.going.held_why = event.why if self.going.held else ""
            case "starved":
                self.going.starved += 1
            case "touched" | "missed":
                self.going.touched.append({axis: mm for axis, mm in event.position.items() if mm is not None})
