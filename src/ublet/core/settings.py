"""Settings declared once: unit, range, help line, default; everything else derives from it."""

from __future__ import annotations

import math
import types
import typing
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, StringConstraints
from pydantic.fields import FieldInfo

from ublet.core.written import written

NumberRow = tuple[float, ...]
Array = NumberRow | tuple[NumberRow, ...]
"""Numbers of a declared shape: a row (n), or rows of equal length (n x m)."""

Value = float | int | str | bool | Array | None
"""What a setting can hold."""

Acts = Literal["", "plug", "way", "length", "end", "switch", "reading", "plant", "holding", "air"]
"""What a setting of the board acts in: which motor turns, which way an axis goes, how far, where it ends when it homes,
how an input reads, how a sensor reads, what a heater does with power, how it is held, which fan blows. Whoever has the
board do one of these rests on the settings that act in it.
"""

REMEMBERED_PATHS = 20_000
"""Paths whose declaration is remembered; a hostile file cannot make it more."""


Name = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9_-]{0,31}$")]
"""What the builder may call a part: letters, digits, dashes; no dots, which separate the parts of a path."""


class Part(BaseModel):
    """A table of the machine file. Unknown keys are errors; numbers must be finite."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, strict=True, defer_build=True)


def setting(
    help: str,
    *,
    unit: str = "",
    low: float | None = None,
    high: float | None = None,
    default: Any = ...,
    board: bool = False,
    socket: str = "",
    part: str = "",
    acts: Acts = "",
    tolerance: float = 0.0,
    shape: tuple[str, ...] = (),
    bench: str = "",
    zero: str = "",
) -> Any:
    """Declare one setting of a part.

    Args:
        help: one line for editor, docs and help.
        unit: unit of the value in the file and on the board.
        low, high: allowed range, both ends allowed.
        default: value when absent; without it the setting must be given.
        board: the board holds it too (it has stored and live layers).
        socket: kind of board socket that the value names ("heater", "sensor", "motor", ...).
        part: table of named parts that the value names one of ("sensors", "endstops", ...).
        acts: what it acts in on the board.
        tolerance: by how much it may change before what rests on it counts as stale, in its unit.
        shape: an array of numbers; what each of its dimensions counts, e.g. ("rows", "columns"). Its range is that of
            every number in it.
        bench: an array is not typed: station whose bench makes it.
        zero: what 0, or an empty word, stands for ("as declared").
    """
    extra: dict[str, Any] = {"unit": unit, "board": board, "socket": socket, "part": part}
    extra |= {"acts": acts, "tolerance": tolerance, "shape": list(shape), "bench": bench, "zero": zero}
    if shape:
        return Field(default=default, description=help, json_schema_extra={**extra, "low": low, "high": high})
    return Field(default=default, description=help, ge=low, le=high, json_schema_extra=extra)


def _as_row(value: Any) -> Any:
    """A list of whole or broken numbers as a row of numbers; anything else as it is, for pydantic to refuse."""
    return tuple(float(v) if type(v) is int else v for v in value) if isinstance(value, (list, tuple)) else value


def _as_rows(value: Any) -> Any:
    return tuple(_as_row(row) for row in value) if isinstance(value, (list, tuple)) else value


Numbers = Annotated[NumberRow, BeforeValidator(_as_row)]
"""An array of one dimension in a part."""

Grid = Annotated[tuple[NumberRow, ...], BeforeValidator(_as_rows)]
"""An array of two dimensions in a part."""


def number_or(value: Value, otherwise: float) -> float:
    """A value as a number; another one where it is none, or 0."""
    return float(value) if isinstance(value, (int, float)) and value else otherwise


def frozen(value: Any) -> Any:
    """A value as it came from TOML or JSON, with tuples for its lists."""
    return tuple(frozen(element) for element in value) if isinstance(value, list) else value


def thawed(value: Any) -> Any:
    """A value as TOML and JSON have it, with lists for its tuples."""
    return [thawed(element) for element in value] if isinstance(value, tuple) else value


def numbers_in(value: Value) -> tuple[float, ...]:
    """All numbers of an array, row by row."""
    if not isinstance(value, tuple):
        return ()
    return tuple(number for element in value for number in (element if isinstance(element, tuple) else (element,)))


def shape_of(value: Array) -> tuple[int, ...]:
    """The shape of an array.

    Raises:
        ValueError: its rows are not equally long, or it mixes rows and numbers.
    """
    rows = [element for element in value if isinstance(element, tuple)]
    if not rows:
        return (len(value),)
    if len(rows) != len(value) or len({len(row) for row in rows}) != 1:
        raise ValueError("its rows are not equally long")
    return (len(value), len(rows[0]))


def finite(value: Value) -> bool:
    """Whether every number in a value is finite."""
    numbers = numbers_in(value) if isinstance(value, tuple) else (value,)
    return all(math.isfinite(number) for number in numbers if isinstance(number, float))


class ValueKind(StrEnum):
    """What a setting's value is; its text is how that is said."""

    NUMBER = "number"
    WHOLE = "whole number"
    TEXT = "text"
    FLAG = "yes or no"
    ARRAY = "array"

    @property
    def numeric(self) -> bool:
        """Whether it is one number."""
        return self in (ValueKind.NUMBER, ValueKind.WHOLE)


@dataclass(frozen=True)
class Declaration:
    """One declared setting: ``path`` has ``*`` where the builder chooses a name."""

    path: str
    kind: ValueKind
    unit: str
    low: float | None
    high: float | None
    help: str
    required: bool
    default: Value
    board: bool
    socket: str
    part: str = ""
    choices: tuple[str | int, ...] = ()
    acts: Acts = ""
    tolerance: float = 0.0
    shape: tuple[str, ...] = ()
    bench: str = ""
    zero: str = ""

    def allowed(self) -> str:
        """The allowed values in words, e.g. ``20 to 500 °C``."""
        if self.shape:
            number = self._range()
            return (
                f"{' x '.join(self.shape)} numbers, each {number}" if len(self.shape) > 1 else f"numbers, each {number}"
            )
        if self.choices:
            return "one of " + ", ".join(str(choice) for choice in self.choices)
        if self.kind is ValueKind.TEXT:
            return "text in quotes"
        if self.kind is ValueKind.FLAG:
            return "true or false"
        return self._range()

    def _range(self) -> str:
        unit = f" {self.unit}" if self.unit else ""
        whole = "a whole number " if self.kind is ValueKind.WHOLE else ""
        if self.low is not None and self.high is not None:
            return f"{whole}{self.low:g} to {self.high:g}{unit}"
        if self.low is not None:
            return f"{whole}at least {self.low:g}{unit}"
        return f"{whole or 'a number'}{unit}".strip()

    def matches(self, path: str) -> bool:
        """Whether a concrete dotted path is declared here."""
        mine, other = self.path.split("."), path.split(".")
        return len(mine) == len(other) and all(a in ("*", b) for a, b in zip(mine, other, strict=True))


def declarations(part: type[BaseModel], prefix: str = "") -> Iterator[Declaration]:
    """Every setting declared in a part and the parts inside it, in order of declaration; tables of plain words are left
    out: their keys are the builder's.
    """
    for name, info in part.model_fields.items():
        path = f"{prefix}{name}"
        inner, named = _inner_part(info.annotation)
        if _free_table(inner or info.annotation):
            continue
        if inner is not None:
            yield from declarations(inner, f"{path}.*." if named else f"{path}.")
        else:
            yield _declaration(path, info)


class Known(Sequence[Declaration]):
    """Declarations in order, and found by a concrete path in the time that its length takes."""

    def __init__(self, items: Iterable[Declaration]) -> None:
        self._items = tuple(items)
        self._found: dict[str, Declaration | None] = {}
        self._by_length: dict[tuple[int, str], list[Declaration]] = {}
        for item in self._items:
            parts = item.path.split(".")
            self._by_length.setdefault((len(parts), parts[-1]), []).append(item)

    @typing.overload
    def __getitem__(self, index: int) -> Declaration: ...
    @typing.overload
    def __getitem__(self, index: slice) -> tuple[Declaration, ...]: ...
    def __getitem__(self, index: int | slice) -> Declaration | tuple[Declaration, ...]:
        """By place, as in a tuple."""
        return self._items[index]

    def __len__(self) -> int:
        """How many."""
        return len(self._items)

    def find(self, path: str) -> Declaration | None:
        """The declaration of a concrete path, or None. Answers are remembered."""
        if path not in self._found:
            if len(self._found) > REMEMBERED_PATHS:
                self._found.clear()
            parts = path.split(".")
            near = self._by_length.get((len(parts), parts[-1]), [])
            self._found[path] = next((item for item in near if item.matches(path)), None)
        return self._found[path]


def find(known: Known, path: str) -> Declaration | None:
    """The declaration of a concrete path, or None."""
    return known.find(path)


def _free_table(annotation: Any) -> bool:
    return typing.get_origin(annotation) is dict and typing.get_args(annotation)[1] is str


def _inner_part(annotation: Any) -> tuple[type[BaseModel] | None, bool]:
    """The part behind a field's type, and whether it is a table of named parts."""
    origin = typing.get_origin(annotation)
    if origin is dict:
        return typing.get_args(annotation)[1], True
    if origin in (typing.Union, types.UnionType):
        annotation = next(arg for arg in typing.get_args(annotation) if arg is not type(None))
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation, False
    return None, False


_KINDS = {float: ValueKind.NUMBER, int: ValueKind.WHOLE, str: ValueKind.TEXT, bool: ValueKind.FLAG}


def _declaration(path: str, info: FieldInfo) -> Declaration:
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    low = next((m.ge for m in info.metadata if hasattr(m, "ge")), extra.get("low"))
    high = next((m.le for m in info.metadata if hasattr(m, "le")), extra.get("high"))
    shape = typing.cast("list[str]", extra.get("shape") or [])
    annotation = info.annotation
    if typing.get_origin(annotation) in (typing.Union, types.UnionType):
        annotation = next(arg for arg in typing.get_args(annotation) if arg is not type(None))
    choices: tuple[str | int, ...] = ()
    if typing.get_origin(annotation) is typing.Literal:
        choices = tuple(typing.get_args(annotation))
        annotation = type(choices[0])
    return Declaration(
        path,
        ValueKind.ARRAY if shape else _KINDS.get(typing.cast(type, annotation), ValueKind.TEXT),
        str(extra.get("unit", "")),
        typing.cast("float | None", low),
        typing.cast("float | None", high),
        info.description or "",
        info.is_required(),
        None if info.is_required() else info.default,
        bool(extra.get("board")),
        str(extra.get("socket", "")),
        str(extra.get("part", "")),
        choices,
        typing.cast("Acts", str(extra.get("acts", ""))),
        typing.cast("float", extra.get("tolerance") or 0.0),
        tuple(shape),
        str(extra.get("bench", "")),
        str(extra.get("zero", "")),
    )


def flatten(tree: Mapping[str, Any], prefix: str = "") -> dict[str, Value]:
    """Nested tables as ``{dotted.path: value}``."""
    flat: dict[str, Value] = {}
    for key, value in tree.items():
        if isinstance(value, Mapping):
            flat.update(flatten(value, f"{prefix}{key}."))
        else:
            flat[f"{prefix}{key}"] = frozen(value)
    return flat


def refusal(known: Known, path: str, value: Value) -> str | None:
    """Why a value may not be written to a path, as a sentence; None when it may."""
    declared = find(known, path)
    return f"{path}: no such setting" if declared is None else refusal_of(declared, path, value)


def refusal_of(declared: Declaration, path: str, value: Value) -> str | None:
    """Why a value is not one that a declaration allows, as a sentence; None when it is."""
    good = {
        ValueKind.NUMBER: isinstance(value, (int, float)) and not isinstance(value, bool),
        ValueKind.WHOLE: isinstance(value, int) and not isinstance(value, bool),
        ValueKind.TEXT: isinstance(value, str),
        ValueKind.FLAG: isinstance(value, bool),
        ValueKind.ARRAY: isinstance(value, tuple) and not array_fault(declared, value),
    }[declared.kind]
    if isinstance(value, tuple) and declared.shape and not good:
        return f"{path}: {array_fault(declared, value)}, allowed: {declared.allowed()}"
    if good and declared.choices:
        good = value in declared.choices
    if good and isinstance(value, (int, float)):
        good = value == value and abs(value) != float("inf")
        good = good and (declared.low is None or value >= declared.low)
        good = good and (declared.high is None or value <= declared.high)
    return None if good else f"{path}: found {written(value)}, allowed: {declared.allowed()}"


LONGEST_ARRAY = 2000
"""An array of more numbers fits in no frame of the link."""


def array_fault(declared: Declaration, value: Array) -> str:
    """What is wrong with an array; empty: nothing."""
    try:
        shape = shape_of(value)
    except ValueError as error:
        return str(error)
    numbers = numbers_in(value)
    if not value and declared.default == ():
        return ""
    if not numbers or len(shape) != len(declared.shape):
        return f"found an array of {' x '.join(str(count) for count in shape)}"
    if len(numbers) > LONGEST_ARRAY:
        return f"found {len(numbers)} numbers, more than {LONGEST_ARRAY}"
    for number in numbers:
        good = isinstance(number, (int, float)) and not isinstance(number, bool) and math.isfinite(number)
        if not good or (declared.low is not None and number < declared.low):
            return f"found {written(number)} in it"
        if declared.high is not None and number > declared.high:
            return f"found {written(number)} in it"
    return ""
