"""A machine file that notes what is read of it: the same parts and values, through a view."""

from __future__ import annotations

import types
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, cast

from pydantic import BaseModel

from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value

ValueRead = Callable[[str, Value], Value]
"""Called for every value that is read, with its path and what the file says; gives what is to be read."""
NamesRead = Callable[[str, tuple[str, ...]], None]
"""Called when the names of the parts in a table are read, with the table's path."""
PresenceRead = Callable[[str, bool], None]
"""Called when it is read whether a part is declared, with its path and the answer."""


@dataclass(frozen=True)
class Readers:
    """What notes each way of reading: a value, the names in a table, whether a part is declared."""

    read: ValueRead
    listed: NamesRead = lambda path, names: None
    asked: PresenceRead = lambda path, declared: None


def traced(machine: MachineFile, readers: Readers) -> MachineFile:
    """A view of a machine through which everything that is read goes past these readers."""
    return cast(MachineFile, _Part(machine, "", readers))


class _Part:
    """A view of one part. Methods and properties of the part work on the view, so that what they read is noted too."""

    def __init__(self, part: BaseModel, root: str, readers: Readers) -> None:
        self._part, self._root, self._readers = part, root, readers

    def __getattr__(self, name: str) -> Any:
        kind = type(self._part)
        if name in kind.model_fields:
            return _seen(getattr(self._part, name), f"{self._root}{name}", self._readers)
        own = kind.__dict__.get(name)
        if isinstance(own, property) and own.fget is not None:
            return own.fget(self)
        if isinstance(own, types.FunctionType):
            return types.MethodType(own, self)
        return getattr(self.model_copy(), name)

    def model_copy(self, *, update: Mapping[str, Any] | None = None) -> Any:
        """The part itself, without a view: everything in it has then been read."""
        values = {name: _whole(getattr(self, name)) for name in type(self._part).model_fields}
        return self._part.model_copy(update={**values, **(update or {})})

    def __eq__(self, other: object) -> bool:
        return self._part == (other._part if isinstance(other, _Part) else other)

    __hash__ = None  # type: ignore[assignment]


class _Table(Mapping[str, Any]):
    """A view of a table of named parts."""

    def __init__(self, table: Mapping[str, Any], path: str, readers: Readers) -> None:
        self._table, self._path, self._readers = table, path, readers

    def __getitem__(self, name: str) -> Any:
        if name not in self._table:
            self._readers.asked(f"{self._path}.{name}", False)
        return _seen(self._table[name], f"{self._path}.{name}", self._readers)

    def __contains__(self, name: object) -> bool:
        declared = name in self._table
        self._readers.asked(f"{self._path}.{name}", declared)
        return declared

    def __iter__(self) -> Iterator[str]:
        self._readers.listed(self._path, tuple(self._table))
        return iter(self._table)

    def __len__(self) -> int:
        self._readers.listed(self._path, tuple(self._table))
        return len(self._table)


def _seen(value: Any, path: str, readers: Readers) -> Any:
    if isinstance(value, BaseModel):
        return _Part(value, f"{path}.", readers)
    if isinstance(value, dict):
        return _Table(value, path, readers)
    return readers.read(path, value)


def _whole(value: Any) -> Any:
    if isinstance(value, _Part):
        return value.model_copy()
    if isinstance(value, _Table):
        return {name: _whole(value[name]) for name in value}
    return value
