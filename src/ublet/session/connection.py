"""The board at the end of the link: connected again whenever it is lost, its latest values at hand."""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Mapping
from enum import StrEnum
from typing import TypeVar

from ublet.core.machine.effective import held_by_board
from ublet.core.settings import Value
from ublet.link.baud import PortOpener
from ublet.link.controller import Controller
from ublet.link.end import LinkEnd, LinkListeners, Speaker, State
from ublet.link.errors import BoardRefused, Garbled, LinkLost, Malformed
from ublet.link.frames import Block, Message
from ublet.link.replies import EventReport, Hello, On, RunningImage, Sample, SettingLayers
from ublet.link.rpc import speak_protocol
from ublet.link.transport import PortError, Transport

T = TypeVar("T")

RETRY_S = 0.5
FIRST_READINGS_S = 3.0
NEXT_SAMPLES_S = 0.5
"""Longest wait for new samples, by our own clock, s."""
KEPT_ENDS = 100
MINUTE = 600
"""Samples kept for the traces: one minute of the board's time."""


class Break(StrEnum):
    """Why what is under way at a board cannot go on; its text is for the log."""

    HALTED = "halted"
    GUARD = "guard"
    RESTARTED = "board restarted"
    LINK_LOST = "link lost"
    NO_READINGS = "no readings"


BreakListener = Callable[[Break, str], None]
"""Told what broke, and why in a sentence."""


MOST_KEPT = 4096
"""Bytes of a greeting that are kept, to see what may have said them."""


class Connection:
    """Keeps a board connected. ``changed`` is called when the link, its state or a setting changes.

    ``opener`` opens the transport anew for each try, ``speak`` makes the end of a link over it; ``speaks_of``: whether
    its language has words for a setting; ``samples`` of the last minute are kept. ``note`` is what turned
    out about the line and should be reported. Every link begins with everything off; ``found_on`` is what had been on
    then.
    """

    def __init__(
        self,
        opener: Callable[[], Awaitable[Transport]],
        speak: Speaker = speak_protocol,
        speaks_of: Callable[[str], bool] = lambda path: True,
    ) -> None:
        self.opener = opener
        self._speaks_of = speaks_of
        self.client: LinkEnd | None = None
        self._speak = speak
        self._controller: Controller | None = None
        self.about: Hello | None = None
        self.why = "not connected yet"
        self.note = ""
        self.found_on: tuple[On, ...] = ()
        self.layers: dict[str, SettingLayers] = {}
        self.first_c: float | None = None  # the coolest sensor when the link was made: the room, or above it
        self.image: RunningImage | None = None
        self.samples: deque[Sample] = deque(maxlen=MINUTE)
        self.changed: list[Callable[[], None]] = []
        self.sampled: list[Callable[[list[Sample]], None]] = []
        self.on_event: list[Callable[[EventReport], None]] = []
        self.blocks: list[Callable[[Block], None]] = []
        self.ended: dict[int, EventReport] = {}  # how motions ended, by their numbers
        self.broken: list[BreakListener] = []
        self.talk: deque[tuple[str, Message]] = deque(maxlen=400)
        self.likely: Callable[[bytes], str] = lambda came: ""
        """What speaks like that, as a sentence: asked when something answers in another language."""
        self.may_heat: Callable[[float], str] = lambda celsius: ""  # see LinkListeners; asked where no protocol vouches
        self.attends: Callable[[], bool] = lambda: True  # see LinkListeners
        self._gone = asyncio.Event()
        self._reading = asyncio.Event()
        self._task: asyncio.Task[None] | None = None
        self._boot: int | None = None
        self._window_s = self._sampled_at = 0.0
        self.ever_linked = False
        self._halt_due = False
        self._greeting: asyncio.Task[None] | None = None

    @property
    def linked(self) -> bool:
        """Whether a board answers now."""
        return self.client is not None and self.about is not None

    @property
    def can(self) -> frozenset[str]:
        """What the board is able to do; nothing while there is no link."""
        return self.controller.can() if self.linked else frozenset()

    def holds(self, path: str) -> bool:
        """Whether the board holds a setting that its language speaks of."""
        return held_by_board(path) and self._speaks_of(path)

    def held(self, values: Mapping[str, Value]) -> dict[str, Value]:
        """Those of these values that the board holds."""
        return {path: value for path, value in values.items() if self.holds(path)}

    @property
    def state(self) -> State:
        """The board's latest state."""
        return self.client.state if self.client else State(mode="unlinked", why=self.why)

    @property
    def board_time(self) -> float:
        """Board time of the latest sample, s."""
        return float(self.samples[-1][1] or 0.0) if self.samples else 0.0

    @property
    def board_now(self) -> float:
        """What the board's clock should read now, s: that of the latest sample, and what has passed here since it came.
        A board whose line is busy sends samples late.
        """
        clock = self.about.clock if self.about is not None else 1.0
        return self.board_time + (asyncio.get_running_loop().time() - self._sampled_at) * max(1.0, clock)

    async def connect(self) -> None:
        """Try once.

        Raises:
            PortError, LinkLost, BoardRefused: the reason, as a sentence.
        """
        try:
            client, controller = await self._greet(await self.opener())
        except Garbled as error:
            client, controller = await self._try_rates(error)
        assert client.about is not None
        about = client.about
        try:
            if self._halt_due:
                client.halt()
            await controller.all_off()
            layers, image = await controller.read(), await controller.image()
        except BaseException:
            client.close()
            raise
        self.client, self.about, self.layers, self.image = client, about, layers, image
        self._controller = controller
        self.found_on = tuple(about.was_on)
        self.ever_linked, self._halt_due = True, False
        self.ended.clear()
        self._boot, self._window_s = about.boot, about.heartbeat_window_s if about.switches_off else 0.0
        self._gone.clear()
        self.notify_changed()

    async def _greet(self, transport: Transport) -> tuple[LinkEnd, Controller]:
        listeners = LinkListeners(
            self._state,
            self._samples,
            self._event,
            self._block,
            self._lost,
            lambda way, message: self.talk.append((way, message)),
            lambda celsius: self.may_heat(celsius),
            lambda: self.attends(),
        )
        client, controller = self._speak(transport, listeners)
        take, came = transport.received, bytearray()

        def taken(data: bytes) -> None:
            came.extend(data[: MOST_KEPT - len(came)])
            take(data)

        transport.received = taken
        try:
            await client.hello()
        except (LinkLost, Malformed) as error:
            client.close()
            if not isinstance(error, Garbled) and (words := self.likely(bytes(came))):
                raise type(error)(f"{error}. {words}") from error
            raise
        except BaseException:
            client.close()
            raise
        transport.received = take
        return client, controller

    async def _try_rates(self, garbled: Garbled) -> tuple[LinkEnd, Controller]:
        """Garbage came: try the usual baud rates, one after the other.

        Raises:
            LinkLost: none of them was right.
        """
        opener = self.opener
        if not isinstance(opener, PortOpener) or not opener.has_rate:
            raise garbled
        for rate in opener.others():
            self.why = f"Garbage at {opener.declared} baud: trying {rate} …"
            self.notify_changed()
            with contextlib.suppress(LinkLost, PortError):
                client, controller = await self._greet(await opener.at(rate))
                opener.found = rate
                self.note = (
                    f"The board answers at {rate} baud; at the {opener.declared} of the machine file only garbage "
                    f"came. Set [board] baud = {rate}."
                )
                return client, controller
        tried = ", ".join(str(rate) for rate in opener.others())
        raise LinkLost(
            f"what arrives is garbage at {opener.declared} baud and at {tried}: is this the board's port? Unplug it "
            "and look which port goes."
        )

    def keep(self) -> None:
        """Connect in the background, and again whenever the link is lost."""
        self._task = asyncio.get_running_loop().create_task(self._keep())

    async def _keep(self) -> None:
        while True:
            if not self.linked:
                try:
                    await self.connect()
                except Exception as error:  # whatever it is, the next try may go well; the builder sees why not
                    expected = isinstance(error, (PortError, LinkLost, BoardRefused))
                    why = str(error) if expected else f"The board could not be greeted: {error}"
                    if why != self.why:
                        self.why = why
                        self.notify_changed()
                    await asyncio.sleep(RETRY_S)
                    continue
            await self._gone.wait()
            await asyncio.sleep(RETRY_S)

    async def close(self) -> None:
        """Switch off what we switched on, and let go of the port."""
        if self._task:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task
        if self.client:
            self.client.close()
            self.client = None

    @property
    def controller(self) -> Controller:
        """The linked board, to be asked for something.

        Raises:
            LinkLost: there is none.
        """
        if self.client is None or self._controller is None:
            raise LinkLost(self.why)
        return self._controller

    async def call(self, method: str, **params: object) -> Message:
        """A request by its name on the wire, for whoever looks at that.

        Raises:
            LinkLost: no board. BoardRefused: it said no.
        """
        if self.client is None:
            raise LinkLost(self.why)
        result = await self.client.call(method, params)
        return result if isinstance(result, dict) else {}

    async def all_off(self) -> str:
        """Motion stopped, heaters and fans off; returns why that is not confirmed (empty: the board confirmed it)."""
        try:
            await self.controller.all_off()
        except LinkLost as error:
            return f"the board did not answer ({error})"
        except BoardRefused as error:
            return f"the board refused: {error}"
        return ""

    async def next_samples(self) -> None:
        """Wait until the board has reported new samples; not for long, since a link can go meanwhile."""
        arrived = asyncio.Event()

        def on_samples(samples: Iterable[Sample]) -> None:
            arrived.set()

        self.sampled.append(on_samples)
        try:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(
                    NEXT_SAMPLES_S
                ):  # wait_for would swallow a cancellation that comes with them
                    await arrived.wait()
        finally:
            self.sampled.remove(on_samples)

    async def first_readings(self) -> None:
        """Wait until every sensor has been read once, a moment after linking."""
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(FIRST_READINGS_S):
                await self._reading.wait()

    def fall_silent(self, seconds: float) -> None:
        """Send no heartbeat for so long, by the link's clock; 0 ends it."""
        if self.client is not None:
            self.client.fall_silent(seconds)

    def signal_halt(self) -> None:
        """Halt from another thread than the loop's; nothing without a link."""
        if (client := self.client) is not None:
            client.signal_halt()

    def halt(self) -> bool:
        """Halt the board at once; False when there is no link to send it over: then a board that answers is halted
        first of all.
        """
        if self.client is None:
            self._halt_due = True
            return False
        self.client.halt()
        return True

    async def read_settings(self, paths: Iterable[str] | None = None) -> None:
        """Read the layers of some settings, or of all, from the board."""
        if paths is None:
            self.layers = await self.controller.read()
        else:
            self.layers = {**self.layers, **await self.controller.read(list(paths))}

    async def write_live(self, values: Mapping[str, Value]) -> None:
        """Change live settings and read them back."""
        await self.controller.write(values)
        await self.read_settings(values)
        self.notify_changed()

    async def lend(self, values: Mapping[str, Value]) -> None:
        """Borrow live settings from the board, and read them back."""
        await self.controller.lend(values)
        await self.read_settings(values)
        self.notify_changed()

    async def give_back(self, former: Mapping[str, Value]) -> None:
        """End loans, and read the settings back."""
        await self.controller.give_back(former)
        await self.read_settings(former)
        self.notify_changed()

    def channel(self, name: str) -> float | None:
        """The latest value of a sample's channel; None when unknown or not reading."""
        if not self.samples or self.about is None or name not in self.about.channels:
            return None
        return self.samples[-1][2 + self.about.channels.index(name)]

    def _state(self, state: State) -> None:
        if self._boot is not None and state.boot != self._boot:
            self._boot = state.boot
            self.samples.clear()
            self.ended.clear()
            self.announce_break(Break.RESTARTED, "The board restarted: its heaters are off and its clock began anew.")
            self._greeting = asyncio.get_running_loop().create_task(self._after_boot())
        elif state.mode == "halted":
            self.announce_break(Break.HALTED, state.why)
        elif state.mode == "tripped":
            self.announce_break(Break.GUARD, state.why)
        self.notify_changed()

    async def _after_boot(self) -> None:
        """Greet a board that restarted: it may have another image, with other channels and settings."""
        if (client := self.client) is None:
            return
        with contextlib.suppress(LinkLost, BoardRefused):
            self.about = await client.hello()
            self.samples.clear()
            image = await self.controller.image()
            await self.read_settings()
            self.image = image  # last: whoever waits for the new image finds its settings
            self.notify_changed()

    def _samples(self, samples: list[Sample]) -> None:
        if self._greeting is not None and not self._greeting.done():
            return  # until the greeting is over, nobody knows what the channels are
        if self.first_c is None or not self.samples:
            self._first(samples)
        self.samples.extend(samples)
        self._sampled_at = asyncio.get_running_loop().time()
        self._reading.set()
        for listener in list(self.sampled):
            listener(samples)

    def _event(self, event: EventReport) -> None:
        if event.what == "ended":
            self.ended[event.motion] = event
            while len(self.ended) > KEPT_ENDS:
                self.ended.pop(next(iter(self.ended)))
        for listener in list(self.on_event):
            listener(event)

    def _block(self, block: Block) -> None:
        for listener in list(self.blocks):
            listener(block)

    def _first(self, samples: list[Sample]) -> None:
        """The first readings of a link: nothing can be cooler than the room."""
        names = self.about.channels if self.about is not None else []
        read = [samples[0][2 + at] for at, name in enumerate(names) if name.startswith("sensors.")] if samples else []
        known = [celsius for celsius in (*read, self.first_c) if celsius is not None]
        self.first_c = min(known, default=None)

    def _lost(self, why: str) -> None:
        self._reading.clear()
        self.client = self.about = None
        self.why = f"The link was lost: {why}."
        self.samples.clear()
        self._boot = None
        self._gone.set()
        self.announce_break(Break.LINK_LOST, f"{self.why} {self.by_itself()}")
        self.notify_changed()

    def by_itself(self) -> str:
        """What becomes of heat and motion while there is no link."""
        if self._window_s == 0:
            return (
                "This board does not switch off by itself: switch its power off if anything is hot or moves; the next "
                "link begins with everything off."
            )
        window = f"A board that receives nothing for {self._window_s:g} s switches off by itself"
        return f"{window}; the next link begins with everything off."

    def announce_break(self, what: Break, why: str) -> None:
        """Tell whoever must know that nothing can go on: what happened, and a sentence."""
        for listener in list(self.broken):
            listener(what, why)

    def notify_changed(self) -> None:
        for listener in list(self.changed):
            listener()
