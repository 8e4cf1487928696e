"""The second controller: a board whose lines a dialect file describes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from ublet.core.dialect.language import Language
from ublet.core.dialect.parts import AXES, MachineParts
from ublet.core.motion.program import Park, Segment
from ublet.core.settings import Value
from ublet.core.streams import StreamKind
from ublet.link.controller import Controller, UploadProgress
from ublet.link.dialect_client import DialectClient, HostRelay
from ublet.link.end import LinkEnd, LinkListeners, Speaker
from ublet.link.errors import NOT_ALLOWED, SILENCE_UNTRIED, BoardRefused
from ublet.link.host_programs import HostPrograms
from ublet.link.replies import (
    AxisStatus,
    BlocksGone,
    MotionReply,
    MoveReply,
    ProgramReply,
    RunningImage,
    SettingLayers,
    StreamOpened,
)
from ublet.link.transport import Transport

SLOW_S = 5.0
"""Grace for a move of which the board does not say how long it takes, s."""


def speak_dialect(language: Language, parts: MachineParts) -> Speaker:
    """The end of a link in a dialect, about the parts of one machine."""

    def speak(transport: Transport, listeners: LinkListeners) -> tuple[LinkEnd, Controller]:
        client = DialectClient(transport, language, parts, listeners)
        return client, DialectController(client)

    return speak


class DialectController:
    """A :class:`ublet.link.controller.Controller` over a dialect's client."""

    def __init__(self, client: DialectClient) -> None:
        self._client = client
        self._at_start: tuple[int, dict[str, Value]] = (-1, {})
        self._stored: dict[str, Value] = {}
        self._programs = HostPrograms(client)

    def can(self) -> frozenset[str]:
        """What its language describes."""
        return self._client.language.can()

    # settings

    async def read(self, paths: Sequence[str] | None = None) -> dict[str, SettingLayers]:
        """Layers of settings that the language speaks of. The lowest layer is what was live when the board was linked
        first since its start: no line says what the firmware was built with.
        """
        client = self._client
        if self._at_start[0] != client.state.boot:
            self._at_start, self._stored = (client.state.boot, {}), {}
        layers: dict[str, SettingLayers] = {}
        for path in client.parts.settings if paths is None else paths:
            live = await client.settings.read(path)
            if live is None:
                continue
            stored = await client.settings.read(path, stored=True)
            if stored is not None:
                self._stored[path] = stored
            image = self._at_start[1].setdefault(path, live)
            layers[path] = SettingLayers(image=image, stored=self._stored.get(path), live=live)
        return layers

    async def write(self, values: Mapping[str, Value]) -> None:
        """Change live settings, one line each; when one is refused, those before it are put back."""
        done: dict[str, Value] = {}
        try:
            for path, value in values.items():
                before = await self._client.settings.read(path)
                await self._client.settings.write(path, value)
                done[path] = before
        except BoardRefused:
            for path, before in done.items():
                await self._client.settings.write(path, before)
            raise

    async def save(self, values: Mapping[str, Value]) -> None:
        """Change stored and live settings. A board that stores all that is live at once has the rest put back for that
        moment. One without a store has them until its power goes: the machine file keeps them.
        """
        at_start = self._at_start[1]
        wanted = {path: at_start.get(path) if value is None else value for path, value in values.items()}
        store = self._client.language.file.layers.store
        others: dict[str, Value] = {}
        if store:
            for path, layer in (await self.read()).items():
                if path not in wanted and layer.live != layer.saved:
                    others[path] = layer.live
                    await self._client.settings.write(path, layer.saved)
        try:
            await self.write(wanted)
            if store:
                await self._client.ask(store)
            else:
                self._stored |= wanted
        finally:
            for path, live in others.items():
                await self._client.settings.write(path, live)

    async def lend(self, values: Mapping[str, Value]) -> None:
        """Change live settings for a while; the ledger holds the loan."""
        await self.write(values)

    async def give_back(self, former: Mapping[str, Value]) -> None:
        """End loans."""
        await self.write(former)

    # heat

    async def target(self, heater: str, celsius: float | None) -> None:
        """Hold a temperature; None switches off. More than the machine file allows is not sent."""
        self._client.relays.pop(heater, None)
        if celsius is None:
            await self._client.request("cool", heater=heater)
            return
        self._must_be_allowed(heater, celsius)
        await self._client.request("hold", heater=heater, celsius=celsius)

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch between two duties: on the board where it can, else from here at every reading."""
        self._must_be_allowed(heater, centre_c)
        client = self._client
        client.relays.pop(heater, None)
        if "relay" in client.language.requests:
            await client.request("relay", heater=heater, celsius=centre_c, hysteresis=hysteresis_c, high=high, low=low)
        elif "drive" in client.language.requests:
            client.relays[heater] = HostRelay(centre_c, hysteresis_c, high, low)
        else:
            raise BoardRefused(
                NOT_ALLOWED,
                f"{client.language.file.name} has neither [requests.relay] nor [requests.drive]: nothing switches "
                f"{heater} between two duties",
            )

    def _must_be_allowed(self, heater: str, celsius: float) -> None:
        known = self._client.parts.heaters.get(heater)
        if known is None or not 0 < celsius <= known[1]:
            limit = f"up to {known[1]:g} °C by the machine file" if known else "no heater of this machine"
            raise BoardRefused(NOT_ALLOWED, f"{heater}: {celsius:g} °C is not sent: {limit}")
        if why := self._client.may_heat(celsius):
            raise BoardRefused(SILENCE_UNTRIED, why)

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan."""
        await self._client.request("fan", fan=name, duty=duty)

    # motion and probing

    async def turn(self, motor: str, mm: float, speed_mm_s: float) -> MoveReply:
        """Turn one motor."""
        return self._moves(await self._client.request("turn", motor=motor, mm=mm, mm_s=speed_mm_s), mm, speed_mm_s)

    async def move(self, axis: str, mm: float, speed_mm_s: float) -> MoveReply:
        """Move an axis."""
        return self._moves(await self._client.request("move", axis=axis, mm=mm, mm_s=speed_mm_s), mm, speed_mm_s)

    def _moves(self, answer: Mapping[str, Value], mm: float, speed_mm_s: float) -> MoveReply:
        seconds, mm_s = answer.get("seconds"), answer.get("mm_s")
        speed = float(mm_s) if isinstance(mm_s, (int, float)) else speed_mm_s
        takes = float(seconds) if isinstance(seconds, (int, float)) else abs(mm) / max(speed, 1e-6) + SLOW_S
        return MoveReply(motion=self._client.begun(), seconds=takes, speed_mm_s=speed)

    async def home(self, axis: str) -> MotionReply:
        """Home an axis."""
        await self._client.request("home", axis=axis)
        return MotionReply(motion=self._client.begun())

    async def axes(self) -> dict[str, AxisStatus]:
        """Where the axes stand, by the latest readings."""
        client = self._client
        status = {}
        for axis in AXES:
            mm = client.values.get(f"axes.{axis}.mm")
            why, shift = client.homed.get(axis, ("", None))
            status[axis] = AxisStatus(
                mm=mm, why=why or ("" if mm is not None else "did not find its end"), shift_mm=shift
            )
        return status

    async def add(
        self, program: str, at: int, segments: Sequence[Segment], last: bool, park: Park | None = None
    ) -> ProgramReply:
        """Give segments: they are followed from here, line by line."""
        return await self._programs.add(program, at, segments, last, park)

    async def adjust(
        self, feed: float | None = None, flow: float | None = None, height_mm: float | None = None
    ) -> None:
        """Change the program that is under way: it acts on the lines that were not given yet."""
        self._programs.adjust(feed, flow, height_mm)

    async def hold(self, held: bool) -> None:
        """Give no more lines of the program, or go on."""
        self._programs.hold(held)

    async def stop(self) -> None:
        """Stop whatever moves; a print ends the line that it is at, and parks."""
        await self._programs.stop()

    async def let_go(self) -> None:
        """No motor holds."""
        await self._client.request("let-go")

    async def pin(self, deployed: bool) -> None:
        """The probe's pin."""
        await self._client.request("pin-down" if deployed else "pin-up")

    # fast readings

    def streams(self) -> Mapping[str, StreamKind]:
        """None: lines of text are too slow for them."""
        return {}

    async def open_stream(self, name: str, rate_hz: float, capture_s: float | None) -> StreamOpened:
        """As streams."""
        raise self._lacks("has no fast readings")

    async def credit(self, stream: int, upto: int) -> None:
        """As streams."""
        raise self._lacks("has no fast readings")

    async def again(self, stream: int, blocks: Sequence[int]) -> BlocksGone:
        """As streams."""
        raise self._lacks("has no fast readings")

    async def close_stream(self, stream: int) -> None:
        """As streams."""
        raise self._lacks("has no fast readings")

    # image and power

    async def image(self) -> RunningImage:
        """Of an image nothing is known but the firmware's version."""
        about = self._client.about
        return RunningImage(
            slot="",
            slot_bytes=0,
            bytes=0,
            digest="",
            firmware=about.firmware if about is not None else "",
            machine="",
            modules=[],
        )

    async def upload(
        self, head: dict[str, object], data: bytes, baud: int, on_progress: Callable[[UploadProgress], None]
    ) -> None:
        """No dialect takes images."""
        raise self._lacks("takes no images over its line")

    async def switch(self) -> None:
        """As images."""
        raise self._lacks("takes no images over its line")

    async def release(self) -> None:
        """Leave halted, or what a guard of ours has tripped."""
        await self._client.request("release")
        self._client.tripped = None

    async def all_off(self) -> None:
        """Motion stopped, heaters and fans off."""
        self._client.relays.clear()
        await self._programs.abandon()
        for name in ("stop", "off"):
            if name in self._client.language.requests:
                await self._client.request(name)

    def _lacks(self, what: str) -> BoardRefused:
        return BoardRefused(NOT_ALLOWED, f"this board {what} in the language {self._client.language.file.name}")
