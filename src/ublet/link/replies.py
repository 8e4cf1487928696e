"""What a board says, checked: replies and samples that have another shape than the protocol's end the link."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import cache
from typing import Annotated, Any, Literal, Self, TypeVar, cast

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    TypeAdapter,
    ValidationError,
    field_validator,
    model_validator,
)

from ublet.core.printable import is_printable
from ublet.core.settings import Value, frozen
from ublet.core.streams import StreamKind
from ublet.link.errors import Malformed

T = TypeVar("T")
Sample = list[float | None]
"""Index, board time in s, then one value a channel (None: the sensor does not read)."""


LONGEST_NAME = 120


class Reply(BaseModel):
    """A reply or a part of one. Keys that we do not know are left alone: a newer board may say more."""

    model_config = ConfigDict(strict=True, allow_inf_nan=False, extra="ignore", frozen=True, defer_build=True)


class On(Reply):
    """What was on when a host said hello, and was switched off: ``heaters.NAME`` with its target (relay: held by
    switching between two duties), ``fans.NAME`` with its duty, or ``motion``.
    """

    what: str
    target_c: float | None = None
    relay: bool = False
    duty: float | None = None


class StreamKindReply(Reply):
    """A sensor of the board that streams."""

    name: str
    columns: list[str] = Field(min_length=1)
    units: list[str] = Field(min_length=1)
    scales: list[float] = Field(min_length=1)
    rates_hz: list[float] = Field(min_length=1)
    memory_bytes: int = 0
    socket: str = ""

    @model_validator(mode="after")
    def _of_every_column(self) -> Self:
        if not len(self.columns) == len(self.units) == len(self.scales):
            raise ValueError("as many units and scales as columns")
        return self

    def kind(self) -> StreamKind:
        """What it is."""
        columns, rates = tuple(self.columns), tuple(self.rates_hz)
        return StreamKind(
            self.name, columns, tuple(self.units), tuple(self.scales), rates, self.memory_bytes, self.socket
        )


FrozenValue = Annotated[Value, BeforeValidator(frozen)]
"""A value as JSON has it: lists are arrays."""


class Hello(Reply):
    """What a board says of itself; was_on: what it switched off because we are another session than the last.
    returned: settings that the last session had borrowed, with the live values that they returned to. switches_off:
    whether it switches off by itself after the heartbeat's window; language: the dialect that it speaks (empty: the
    protocol); host_guards: guards that the host keeps, since the board has none of its own;
    stores: whether it has a store.
    """

    board: str
    boot: int
    firmware: str
    clock: float = Field(gt=0)
    channels: list[str]
    sample_period_s: float = Field(gt=0)
    heartbeat_window_s: float = Field(gt=0)
    simulated: bool = False
    events: int = 0
    was_on: list[On] = Field(default_factory=list)
    returned: dict[str, FrozenValue] = Field(default_factory=dict)
    streams: list[StreamKindReply] = Field(default_factory=list)
    can: list[str] | None = None
    switches_off: bool = True
    language: str = ""
    host_guards: list[str] = Field(default_factory=list)
    stores: bool = True

    @field_validator("board", "firmware")
    @classmethod
    def _can_be_shown(cls, name: str) -> str:
        if not is_printable(name) or len(name) > LONGEST_NAME:
            raise ValueError(f"no name that can be shown in a line of {LONGEST_NAME} characters")
        return name

    @field_validator("channels")
    @classmethod
    def _each_once(cls, channels: list[str]) -> list[str]:
        if not all(is_printable(name) and len(name) <= LONGEST_NAME for name in channels):
            raise ValueError("a channel's name cannot be shown in a line")
        if len(set(channels)) != len(channels):
            raise ValueError("a channel's name stands twice")
        return channels


class SettingLayers(Reply):
    """One setting on the board: what the image says, what is stored (None: nothing), what is live."""

    image: FrozenValue
    stored: FrozenValue
    live: FrozenValue

    @property
    def saved(self) -> Value:
        """What will be live after the next power-on."""
        return self.image if self.stored is None else self.stored


class LayersPage(Reply):
    """Layers of some settings, as many as one reply takes, and how many there are in all."""

    values: dict[str, SettingLayers]
    total: int


class StreamOpened(Reply):
    """A stream that was opened: its number, readings in a block, and how many blocks the board keeps."""

    number: int
    in_block: int = Field(ge=1)
    kept_blocks: int = Field(ge=1)


class BlocksGone(Reply):
    """Which of the blocks that were asked for again are no longer kept; how many were made so far."""

    gone: list[int]
    blocks: int


class RunningImage(Reply):
    """The image that a board runs: its slot, the room of a slot, its size, digest, version and content."""

    slot: str
    slot_bytes: int
    bytes: int
    digest: str
    firmware: str
    machine: str
    modules: list[str]


class AxisStatus(Reply):
    """Where an axis stands (None: not homed), why its last homing failed (empty: it did not), how far off it was."""

    mm: float | None
    why: str
    shift_mm: float | None


class MotionReply(Reply):
    """What a board says of a motion that it began: the number by which it will report its end."""

    motion: int


class MoveReply(MotionReply):
    """The same of a move, with how long it takes, the speed it uses and what capped that."""

    seconds: float
    speed_mm_s: float
    capped_by: str = ""


class CappedSegment(Reply):
    """A segment that is slower than asked for: the speed that it may have, and the setting that caps it."""

    segment: int
    mm_s: float
    capped_by: str


class ProgramReply(MotionReply):
    """What a board says when it took segments: how many of this program so far, and how many more it takes now."""

    taken: int
    room: int
    capped: list[CappedSegment] = Field(default_factory=list)


class EventReport(Reply):
    """Something that happened on the board; which of the others it has goes by ``what``."""

    boot: int
    number: int = Field(ge=1)
    time_s: float
    what: str
    motion: int = 0
    how: str = ""
    program: str = ""
    segment: int = 0
    place: str = ""
    why: str = ""
    position: dict[str, float | None] = Field(default_factory=dict)
    height_mm: float = 0.0
    stream: int = 0
    blocks: int = 0
    readings: int = 0


class EventsPage(Reply):
    """Events that the board still keeps; their boot is the one that it runs in."""

    events: list[dict[str, Any]]


class UploadBegun(Reply):
    """The slot that takes an image, and the ranges [start, end) of it that are there already."""

    slot: str
    have: list[list[int]]

    @field_validator("have")
    @classmethod
    def _ranges(cls, have: list[list[int]]) -> list[list[int]]:
        if any(len(piece) != 2 or not 0 <= piece[0] <= piece[1] for piece in have):
            raise ValueError("a range is not [start, end)")
        return have


class StateReport(Reply):
    """A state notification without its samples."""

    boot: int
    mode: Literal["ready", "halted", "tripped"]
    why: str = ""
    guard: str = ""
    events: int = 0


def reply_as(shape: type[T], answer: object, method: str) -> T:
    """A reply as the protocol shapes it.

    Raises:
        Malformed: it has another shape; the message names the place.
    """
    try:
        read: T = _reader(cast(Any, shape))(answer)
        return read
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise Malformed(
            f"the board's answer to {method} is malformed{f' at {where}' if where else ''} ({first['msg']}): "
            "is its firmware current?"
        ) from error


@cache
def _reader(shape: Any) -> Callable[[object], Any]:
    return TypeAdapter(shape).validate_python


def checked_samples(rows: object, channels: int | None) -> list[Sample]:
    """Rows of a state: a whole number from 0, a time, then a number or null for each channel (None: not known yet).

    Raises:
        Malformed: they are none; the message says what is wrong with the first that is not.
    """
    if not isinstance(rows, list):
        raise Malformed("the board's samples are malformed: they are no list")
    for row in rows:
        if (wrong := _wrong(row, channels)) is not None:
            raise Malformed(f"the board's samples are malformed: {wrong}")
    return rows


def _wrong(row: Any, channels: int | None) -> str | None:
    if not isinstance(row, list) or len(row) < 2:
        return "a row is too short"
    if channels is not None and len(row) != 2 + channels:
        return f"a row has {len(row)} values, {2 + channels} are announced"
    number, time_s = row[:2]
    if not _is_number(number) or number < 0 or number != int(number):
        return f"a row's number is {str(number)[:20]}"
    if not _is_number(time_s):
        return f"the time of row {number:g} is no number"
    values = row[2:]
    # whatever is not finite makes the sum so; a sum that overflows though all are finite is no reading of a machine
    if not set(map(type, values)) <= NUMBER_OR_NULL or not math.isfinite(sum(v for v in values if v is not None)):
        return f"a value of row {number:g} is neither a number nor null"
    return None


NUMBER_OR_NULL = {int, float, type(None)}


def _is_number(value: Any) -> bool:
    return type(value) in (int, float) and math.isfinite(value)
