"""Settings declared once: unit, range, help line, default; everything else derives from it."""

from __future__ import annotations

import types
import typing
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, StringConstraints
from pydantic.fields import FieldInfo

from ublet.core.written import written

Value = float | int | str | bool | None
"""What a setting can hold."""

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
    """
    extra: dict[str, Any] = {"unit": unit, "board": board, "socket": socket, "part": part}
    return Field(default=default, description=help, ge=low, le=high, json_schema_extra=extra)


@dataclass(frozen=True)
class Declaration:
    """One declared setting: ``path`` has ``*`` where the builder chooses a name."""

    path: str
    kind: str
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

    def allowed(self) -> str:
        """The allowed values in words, e.g. ``20 to 500 °C``."""
        if self.choices:
            return "one of " + ", ".join(str(choice) for choice in self.choices)
        if self.kind == "text":
            return "text in quotes"
        if self.kind == "yes or no":
            return "true or false"
        unit = f" {self.unit}" if self.unit else ""
        whole = "a whole number " if self.kind == "whole number" else ""
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
    """Every setting declared in a part and the parts inside it, in order of declaration."""
    for name, info in part.model_fields.items():
        path = f"{prefix}{name}"
        inner, named = _inner_part(info.annotation)
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


_KINDS = {float: "number", int: "whole number", str: "text", bool: "yes or no"}


def _declaration(path: str, info: FieldInfo) -> Declaration:
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    low = next((m.ge for m in info.metadata if hasattr(m, "ge")), None)
    high = next((m.le for m in info.metadata if hasattr(m, "le")), None)
    annotation = info.annotation
    if typing.get_origin(annotation) in (typing.Union, types.UnionType):
        annotation = next(arg for arg in typing.get_args(annotation) if arg is not type(None))
    choices: tuple[str | int, ...] = ()
    if typing.get_origin(annotation) is typing.Literal:
        choices = tuple(typing.get_args(annotation))
        annotation = type(choices[0])
    return Declaration(
        path,
        _KINDS.get(typing.cast(type, annotation), "text"),
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
    )


def flatten(tree: Mapping[str, Any], prefix: str = "") -> dict[str, Value]:
    """Nested tables as ``{dotted.path: value}``."""
    flat: dict[str, Value] = {}
    for key, value in tree.items():
        if isinstance(value, Mapping):
            flat.update(flatten(value, f"{prefix}{key}."))
        else:
            flat[f"{prefix}{key}"] = value
    return flat


def refusal(known: Known, path: str, value: Value) -> str | None:
    """Why a value may not be written to a path, as a sentence; None when it may."""
    declared = find(known, path)
    return f"{path}: no such setting" if declared is None else refusal_of(declared, path, value)


def refusal_of(declared: Declaration, path: str, value: Value) -> str | None:
    """Why a value is not one that a declaration allows, as a sentence; None when it is."""
    good = {
        "number": isinstance(value, (int, float)) and not isinstance(value, bool),
        "whole number": isinstance(value, int) and not isinstance(value, bool),
        "text": isinstance(value, str),
        "yes or no": isinstance(value, bool),
    }[declared.kind]
    if good and declared.choices:
        good = value in declared.choices
    if good and isinstance(value, (int, float)):
        good = value == value and abs(value) != float("inf")
        good = good and (declared.low is None or value >= declared.low)
        good = good and (declared.high is None or value <= declared.high)
    return None if good else f"{path}: found {written(value)}, allowed: {declared.allowed()}"
