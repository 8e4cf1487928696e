"""What a controller board can be asked for, whatever language its line speaks; which requests are which capability."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from ublet.core.capabilities import Capability
from ublet.core.motion.program import Park, Segment
from ublet.core.settings import Value
from ublet.core.streams import StreamKind
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

_BY_GROUP: dict[str, Capability] = {
    "heat": "heat",
    "fan": "heat",
    "motor": "motion",
    "axis": "motion",
    "motion": "programs",
    "probe": "probe",
    "image": "image",
}
_BY_NAME: dict[str, Capability] = {"settings.lend": "loans", "settings.give_back": "loans"}
ALWAYS = frozenset({"heat.off", "motion.stop"})
"""Switching off is no capability: every board does it."""


def capability_of(method: str) -> Capability | None:
    """The capability that a request belongs to; None: every board answers it, or says by its streams that it can."""
    return None if method in ALWAYS else _BY_NAME.get(method) or _BY_GROUP.get(method.partition(".")[0])


@dataclass(frozen=True)
class UploadProgress:
    """Where an upload is: bytes that the board has, of how many, s since its start, bytes a second of this try."""

    done: int
    total: int
    elapsed_s: float
    rate: float

    @property
    def left_s(self) -> float | None:
        """Time left at this rate, s; None before there is one."""
        return (self.total - self.done) / self.rate if self.rate > 0 else None


class Controller(Protocol):
    """A linked board. Every request raises LinkLost when the link goes, and BoardRefused with the board's own words.

    Names are those of the machine file: heaters, fans and axes by their names, motors by their roots without ``axes.``.
    Samples, states and events come by themselves, through the client.
    """

    def can(self) -> frozenset[str]:
        """What this board is able to do: words of ``core/capabilities.py``."""

    # settings in layers

    async def read(self, paths: Sequence[str] | None = None) -> dict[str, SettingLayers]:
        """The layers of some settings, or of all."""

    async def write(self, values: Mapping[str, Value]) -> None:
        """Change live settings, all or none."""

    async def save(self, values: Mapping[str, Value]) -> None:
        """Change stored and live settings in one transaction; None removes a stored value."""

    async def lend(self, values: Mapping[str, Value]) -> None:
        """Change live settings until they are given back; a board that lends takes them back with the session."""

    async def give_back(self, former: Mapping[str, Value]) -> None:
        """What was lent is live again as it was before."""

    # heat

    async def target(self, heater: str, celsius: float | None) -> None:
        """Hold a temperature; None switches off."""

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Let the board switch between two duties around a temperature."""

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan at a duty 0..1."""

    # motion and probing

    async def turn(self, motor: str, mm: float, speed_mm_s: float) -> MoveReply:
        """Turn one motor by itself; its end comes as an event."""

    async def let_go(self) -> None:
        """No motor holds: carriages can be moved by hand, and no axis knows where it stands any more."""

    async def move(self, axis: str, mm: float, speed_mm_s: float) -> MoveReply:
        """Move an axis by so much."""

    async def home(self, axis: str) -> MotionReply:
        """Seek an axis's end."""

    async def axes(self) -> dict[str, AxisStatus]:
        """Where the axes stand, and how they homed last."""

    async def add(
        self, program: str, at: int, segments: Sequence[Segment], last: bool, park: Park | None = None
    ) -> ProgramReply:
        """Give segments of a program, the first of which is number ``at``; with the first of all, how it parks when it
        ends early.
        """

    async def adjust(
        self, feed: float | None = None, flow: float | None = None, height_mm: float | None = None
    ) -> None:
        """Change the program that is under way; what is None stays."""

    async def hold(self, held: bool) -> None:
        """Brake the program along its path, or let it go on."""

    async def stop(self) -> None:
        """Stop at once whatever moves."""

    async def pin(self, deployed: bool) -> None:
        """The probe's pin down or up."""

    # fast readings; their blocks come by themselves, through the client

    def streams(self) -> Mapping[str, StreamKind]:
        """The sensors that stream, by name; none on a board that has none."""

    async def open_stream(self, name: str, rate_hz: float, capture_s: float | None) -> StreamOpened:
        """Begin to take readings: live, or so many seconds that are handed over afterwards."""

    async def credit(self, stream: int, upto: int) -> None:
        """Blocks before this number are taken."""

    async def again(self, stream: int, blocks: Sequence[int]) -> BlocksGone:
        """Send blocks once more; returns those that are gone, and how many were made so far."""

    async def close_stream(self, stream: int) -> None:
        """No more of it."""

    # image and power

    async def image(self) -> RunningImage:
        """What runs."""

    async def upload(
        self, head: dict[str, object], data: bytes, baud: int, on_progress: Callable[[UploadProgress], None]
    ) -> None:
        """Send an image, whatever of it the board does not have yet, and have it verified."""

    async def switch(self) -> None:
        """Run the image that was uploaded and verified; the board restarts."""

    async def release(self) -> None:
        """Leave halted or tripped; everything stays off."""

    async def all_off(self) -> None:
        """Motion stopped, heaters and fans off; returns when both are confirmed."""
