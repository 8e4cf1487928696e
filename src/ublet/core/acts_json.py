"""Acts, observations and what is seen as lines of JSON, by pydantic: the demonstration's world is another process."""

from __future__ import annotations

from typing import Any, TypeGuard, get_args

from pydantic import TypeAdapter

from ublet.core.acts import Act, Seen
from ublet.core.observations import Observation

_ADAPTERS: dict[type[Any], TypeAdapter[Any]] = {}  # made when they are needed first
_CLASSES: dict[str, type[Any]] = {get_arg.__name__: get_arg for get_arg in (*get_args(Act), *get_args(Observation))}


def encoded(cue: Act | Observation) -> bytes:
    """The class's name and its values, without the end of the line."""
    return type(cue).__name__.encode() + b" " + _adapter(type(cue)).dump_json(cue)


def decoded(line: bytes) -> Act | Observation:
    """What was encoded.

    Raises:
        ValueError: it names no act or observation, or its values are none of that one's (pydantic's ValidationError).
    """
    name, _, values = line.strip().partition(b" ")
    kind = _CLASSES.get(name.decode(errors="replace"))
    if kind is None:
        raise ValueError(f"{name[:40]!r} is neither an act nor an observation")
    cue: Act | Observation = _adapter(kind).validate_json(values)
    return cue


def is_act(cue: Act | Observation) -> TypeGuard[Act]:
    """Whether something is done, and not only looked at."""
    return isinstance(cue, get_args(Act))


def is_observation(cue: Act | Observation) -> TypeGuard[Observation]:
    """Whether something is only looked at, felt, read or judged."""
    return isinstance(cue, get_args(Observation))


def seen_as_json(seen: Seen) -> bytes:
    """What is seen, without the end of the line."""
    return _adapter(Seen).dump_json(seen)


def seen_of(line: bytes) -> Seen:
    """What was seen.

    Raises:
        ValueError: it is none.
    """
    seen: Seen = _adapter(Seen).validate_json(line)
    return seen


def _adapter(kind: type[Any]) -> TypeAdapter[Any]:
    if kind not in _ADAPTERS:
        _ADAPTERS[kind] = TypeAdapter(kind)
    return _ADAPTERS[kind]
