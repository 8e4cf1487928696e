"""The first controller: a board that speaks the line protocol of docs/protocol.md."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from typing import TypeVar

from ublet.core.capabilities import ALL, OF_PROGRAMS, STREAMED
from ublet.core.motion.program import Park, Segment
from ublet.core.settings import Value
from ublet.core.streams import StreamKind
from ublet.link.client import Client
from ublet.link.controller import Controller, UploadProgress
from ublet.link.end import LinkEnd, LinkListeners
from ublet.link.errors import LinkLost
from ublet.link.replies import (
    AxisStatus,
    BlocksGone,
    LayersPage,
    MotionReply,
    MoveReply,
    ProgramReply,
    RunningImage,
    SettingLayers,
    StreamOpened,
    reply_as,
)
from ublet.link.segments import park_fields, segment_fields
from ublet.link.transport import Transport
from ublet.link.upload import upload

T = TypeVar("T")

SETTINGS_AT_ONCE = 40
OFF = ("motion.stop", "heat.off")


def speak_protocol(transport: Transport, listeners: LinkListeners) -> tuple[LinkEnd, Controller]:
    """The protocol's end of a link."""
    client = Client(
        transport,
        on_state=listeners.on_state,
        on_samples=listeners.on_samples,
        on_event=listeners.on_event,
        on_block=listeners.on_block,
        on_lost=listeners.on_lost,
        on_talk=listeners.on_talk,
    )
    return client, RpcController(client)


class RpcController:
    """A :class:`ublet.link.controller.Controller` over a client."""

    def __init__(self, client: Client) -> None:
        self._client = client

    def can(self) -> frozenset[str]:
        """What this board is able to do: what it says (where it says nothing, everything), and what streams."""
        about = self._client.about
        if about is None:
            return frozenset()
        able = ALL - STREAMED if about.can is None else frozenset(about.can)
        return able | self.streams().keys() | (OF_PROGRAMS if "programs" in able else frozenset())

    async def _do(self, method: str, **params: object) -> None:
        await self._client.call(method, params)

    async def _ask(self, shape: type[T], method: str, **params: object) -> T:
        return reply_as(shape, await self._client.call(method, params), method)

    async def read(self, paths: Sequence[str] | None = None) -> dict[str, SettingLayers]:
        """Layers of some settings or of all, as many replies as it takes.

        Raises:
            LinkLost: the board says the same page again and again, or its reply is malformed.
        """
        layers: dict[str, SettingLayers] = {}
        if paths is not None:
            for start in range(0, len(paths), SETTINGS_AT_ONCE):
                wanted = list(paths[start : start + SETTINGS_AT_ONCE])
                layers.update((await self._ask(LayersPage, "settings.read", paths=wanted)).values)
            return layers
        while True:
            page, before = await self._ask(LayersPage, "settings.read", **{"from": len(layers)}), len(layers)
            layers.update(page.values)
            if not page.values or len(layers) >= page.total:
                return layers
            if len(layers) == before:
                raise LinkLost(f"the board gives the same settings twice after {before} of {page.total}")

    async def write(self, values: Mapping[str, Value]) -> None:
        """Change live settings."""
        await self._do("settings.write", values=dict(values))

    async def save(self, values: Mapping[str, Value]) -> None:
        """Change stored and live settings."""
        await self._do("settings.save", values=dict(values))

    async def lend(self, values: Mapping[str, Value]) -> None:
        """Change live settings for a while; a board that lends nothing has them written."""
        await self._do("settings.lend" if "loans" in self.can() else "settings.write", values=dict(values))

    async def give_back(self, former: Mapping[str, Value]) -> None:
        """End loans."""
        if "loans" in self.can():
            await self._do("settings.give_back", paths=list(former))
        else:
            await self._do("settings.write", values=dict(former))

    async def target(self, heater: str, celsius: float | None) -> None:
        """Hold a temperature, or switch off."""
        await self._do("heat.target", heater=heater, celsius=celsius)

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch between two duties."""
        await self._do("heat.relay", heater=heater, centre_c=centre_c, hysteresis_c=hysteresis_c, high=high, low=low)

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan."""
        await self._do("fan.set", fan=name, duty=duty)

    async def turn(self, motor: str, mm: float, speed_mm_s: float) -> MoveReply:
        """Turn one motor."""
        return await self._ask(MoveReply, "motor.turn", motor=motor, mm=mm, speed_mm_s=speed_mm_s)

    async def move(self, axis: str, mm: float, speed_mm_s: float) -> MoveReply:
        """Move an axis."""
        return await self._ask(MoveReply, "axis.move", axis=axis, mm=mm, speed_mm_s=speed_mm_s)

    async def home(self, axis: str) -> MotionReply:
        """Home an axis."""
        return await self._ask(MotionReply, "axis.home", axis=axis)

    async def axes(self) -> dict[str, AxisStatus]:
        """Where the axes stand."""
        return await self._ask(dict[str, AxisStatus], "axis.status")

    async def add(
        self, program: str, at: int, segments: Sequence[Segment], last: bool, park: Park | None = None
    ) -> ProgramReply:
        """Give segments of a program."""
        payload = [segment_fields(segment) for segment in segments]
        parks = {"park": park_fields(park)} if park is not None else {}
        return await self._ask(ProgramReply, "motion.add", program=program, at=at, segments=payload, last=last, **parks)

    async def adjust(
        self, feed: float | None = None, flow: float | None = None, height_mm: float | None = None
    ) -> None:
        """Change the program that is under way."""
        wanted = {"feed": feed, "flow": flow, "height_mm": height_mm}
        await self._do("motion.adjust", **{key: value for key, value in wanted.items() if value is not None})

    async def hold(self, held: bool) -> None:
        """Hold the program, or let it go on."""
        await self._do("motion.hold" if held else "motion.go_on")

    async def stop(self) -> None:
        """Stop whatever moves."""
        await self._do("motion.stop")

    async def let_go(self) -> None:
        """No motor holds."""
        await self._do("motor.off")

    async def pin(self, deployed: bool) -> None:
        """The probe's pin."""
        await self._do("probe.pin", deployed=deployed)

    def streams(self) -> Mapping[str, StreamKind]:
        """The sensors that stream."""
        about = self._client.about
        return {stream.name: stream.kind() for stream in about.streams} if about is not None else {}

    async def open_stream(self, name: str, rate_hz: float, capture_s: float | None) -> StreamOpened:
        """Begin to take readings."""
        capture = {} if capture_s is None else {"capture_s": capture_s}
        return await self._ask(StreamOpened, "stream.open", stream=name, rate_hz=rate_hz, **capture)

    async def credit(self, stream: int, upto: int) -> None:
        """Take blocks before this number."""
        await self._do("stream.credit", number=stream, upto=upto)

    async def again(self, stream: int, blocks: Sequence[int]) -> BlocksGone:
        """Send blocks once more."""
        return await self._ask(BlocksGone, "stream.again", number=stream, blocks=list(blocks))

    async def close_stream(self, stream: int) -> None:
        """No more of it."""
        await self._do("stream.close", number=stream)

    async def image(self) -> RunningImage:
        """What runs."""
        return await self._ask(RunningImage, "image.status")

    async def upload(
        self, head: dict[str, object], data: bytes, baud: int, on_progress: Callable[[UploadProgress], None]
    ) -> None:
        """Send an image, and have it verified."""
        await upload(self._client, head, data, baud, on_progress)

    async def switch(self) -> None:
        """Run the other slot's image."""
        await self._do("image.switch")

    async def release(self) -> None:
        """Leave halted or tripped."""
        await self._do("release")

    async def all_off(self) -> None:
        """Motion stopped, heaters and fans off."""
        await asyncio.gather(*(self._do(method) for method in OFF))
