"""The parts of a machine file as a tree to walk, and the settings of each part, whether the file gives them or not."""

from __future__ import annotations

import types
import typing
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

from pydantic import BaseModel

from ublet.core.heat.curves import GENERIC
from ublet.core.machine.boards import BoardKind
from ublet.core.machine.schema import SETTINGS, MachineFile
from ublet.core.settings import Declaration, Value, flatten, frozen

Sort = Literal["part", "optional", "group", "named"]
"""part: always there; optional: may be added and removed; group: holds named parts; named: one of them."""

TEMPLATES: Mapping[str, Mapping[str, Value]] = {
    "sensors.*": {"kind": "curve", "curve": next(iter(GENERIC))},
    "heaters.*": {"part": "chamber", "maximum_c": 60},
    "heaters.*.gains.*": {"at_c": 200, "kp": 0.02, "ki": 0.001, "kd": 0.0},
    "heaters.*.limits.*": {"celsius": 300},
    "materials.*": {"nozzle_c": 210, "bed_c": 60},
    "display": {"kind": "text"},
    "filament": {"kind": "switch"},
    "probe": {"kind": "inductive"},
    "sensors.*.points.*": {"celsius": 25, "ohm": 100_000},
}
"""Values that a new part begins with, where the least allowed would be no help."""

REMEMBERED_PARTS = 512


@dataclass(frozen=True)
class PartNode:
    """A part in the outline: its path, how deep it lies, its sort, and whether the file has it."""

    path: str
    depth: int
    sort: Sort
    present: bool
    about: str

    @property
    def name(self) -> str:
        """The last word of its path."""
        return self.path.rpartition(".")[2]


@dataclass(frozen=True)
class Property:
    """One setting of a part: how it is declared, its path, and what the file gives (None: left out)."""

    declared: Declaration
    path: str
    given: Value

    @property
    def key(self) -> str:
        """The last word of its path."""
        return self.path.rpartition(".")[2]


def outline(tree: Mapping[str, Any]) -> tuple[PartNode, ...]:
    """Every part that a machine file has or may have, in the schema's order. tree: the parsed file, valid or not."""
    return tuple(_walk(MachineFile, tree, "", 0))


def properties(tree: Mapping[str, Any], part: str) -> tuple[Property, ...]:
    """The settings of a part itself (not of the parts in it), in the order of the schema."""
    given = part_at(tree, part)
    items = []
    for declared in _declared_in(part):
        key = declared.path.rpartition(".")[2]
        value = frozen(given.get(key)) if isinstance(given, Mapping) else None
        items.append(Property(declared, f"{part}.{key}", value if not isinstance(value, Mapping) else None))
    return tuple(items)


@lru_cache(maxsize=REMEMBERED_PARTS)
def _declared_in(part: str) -> tuple[Declaration, ...]:
    """What is declared for a part itself. Remembered: a search asks for every part at every key."""
    depth = part.count(".") + 2
    same = [declared for declared in SETTINGS if declared.path.count(".") + 1 == depth]
    return tuple(node for node in same if replace(node, path=node.path.rpartition(".")[0]).matches(part))


def part_at(tree: Mapping[str, Any], path: str) -> Any:
    """What stands at a path in a parsed file, or None."""
    current: Any = tree
    for word in path.split("."):
        if not isinstance(current, Mapping):
            return None
        current = current.get(word)
    return current


def search(words: str, tree: Mapping[str, Any]) -> tuple[Property, ...]:
    """Settings whose path or help holds every one of the words, those with a matching path first."""
    wanted = words.lower().split()
    matches: list[tuple[int, Property]] = []
    for node in outline(tree):
        if node.sort == "group" or not node.present:
            continue
        for item in properties(tree, node.path):
            if all(word in item.path.lower() for word in wanted):
                matches.append((0, item))
            elif all(word in f"{item.path} {item.declared.help}".lower() for word in wanted):
                matches.append((1, item))
    return tuple(item for _, item in sorted(matches, key=lambda pair: pair[0]))


def start_values(tree: Mapping[str, Any], part: str, board: BoardKind | None) -> dict[str, Value]:
    """Values for the settings that a new part must give: the first free socket, the first part not yet used, or the
    least that is allowed; what cannot be found is left for the builder."""
    flat = flatten(tree)
    taken = {value for path, value in flat.items() if (d := SETTINGS.find(path)) is not None and d.socket}
    pattern = next((key for key in TEMPLATES if _fits(key, part)), "")
    values: dict[str, Value] = dict(TEMPLATES.get(pattern, {}))
    for item in properties(tree, part):
        declared = item.declared
        if item.key in values or not (declared.required or (declared.socket and part == "probe")):
            continue
        if declared.socket:
            free = [name for name in board.of_kind(declared.socket) if name not in taken] if board else []
            if free:
                values[item.key] = free[0]
                taken.add(free[0])
        elif declared.part:
            used = {v for path, v in flat.items() if (d := SETTINGS.find(path)) is not None and d.part == declared.part}
            names = [name for name in part_at(tree, declared.part) or {} if name not in used]
            if names:
                values[item.key] = names[0]
        elif declared.choices:
            values[item.key] = declared.choices[0]
        elif declared.kind.numeric:
            values[item.key] = max(declared.low or 0, 0)
    return values


def _fits(pattern: str, path: str) -> bool:
    words, other = pattern.split("."), path.split(".")
    return len(words) == len(other) and all(a in ("*", b) for a, b in zip(words, other, strict=True))


def _walk(schema: type[BaseModel], tree: Any, prefix: str, depth: int) -> Iterator[PartNode]:
    for name, info in schema.model_fields.items():
        inner, named, optional = _part_of(info.annotation)
        if inner is None:
            continue
        path = f"{prefix}{name}"
        here = tree.get(name) if isinstance(tree, Mapping) else None
        about = (inner.__doc__ or "").split("\n")[0]
        if named:
            yield PartNode(path, depth, "group", True, about)
            inside: Mapping[str, Any] = here if isinstance(here, Mapping) else {}
            for claims in inside:
                yield PartNode(f"{path}.{claims}", depth + 1, "named", True, about)
                yield from _walk(inner, inside[claims], f"{path}.{claims}.", depth + 2)
        elif path == "axes":
            yield from _walk(inner, here, f"{path}.", depth)
        else:
            yield PartNode(path, depth, "optional" if optional else "part", not optional or here is not None, about)
            if not optional or here is not None:
                yield from _walk(inner, here, f"{path}.", depth + 1)


def _part_of(annotation: Any) -> tuple[type[BaseModel] | None, bool, bool]:
    """The part behind a field's type; whether it is a table of named parts; whether it may be absent."""
    origin = typing.get_origin(annotation)
    if origin is dict:
        return typing.get_args(annotation)[1], True, False
    if origin in (typing.Union, types.UnionType):
        inner = next(arg for arg in typing.get_args(annotation) if arg is not type(None))
        return (
            (inner, False, True) if isinstance(inner, type) and issubclass(inner, BaseModel) else (None, False, False)
        )
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation, False, False
    return None, False, False
