"""Editing a machine file's text: values set and unset, parts added, removed and taken over; comments and order stay."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from enum import Enum
from typing import Any

from ublet.core.settings import Value, thawed


class Gone(Enum):
    """Stands for a key that is to be removed."""

    GONE = "gone"


GONE = Gone.GONE
Edit = Value | Gone
"""A value to set, or GONE to remove the key. None counts as GONE: TOML has no null."""


class EditError(ValueError):
    """An edit cannot be made; the message says why."""


def edited(text: str, edits: Mapping[str, Edit]) -> str:
    """The text with some keys set or removed, by dotted path. Tables are made where they are missing.

    Raises:
        EditError: the text is no TOML, or a path leads through something that is no table.
    """
    import tomlkit

    tree = _parsed(text)
    for path, value in edits.items():
        *parts, key = path.split(".")
        if value is None or value is GONE:
            _unset(tree, parts, key)
            continue
        table: Any = tree
        for part in parts:
            if part not in table:
                table[part] = tomlkit.table(is_super_table=part != parts[-1])
            table = table[part]
            if not isinstance(table, Mapping):
                raise EditError(f"{path}: “{part}” is a value in this file, not a table")
        if isinstance(value, float) and value.is_integer() and _is_int(table.get(key)):
            value = int(value)  # 300 becomes 250, not 250.0
        table[key] = _item(value)  # tomlkit keeps the comment that stands behind the old value
    return _dumped(tree)


def _item(value: Value) -> Any:
    """A value as it goes into the text: the rows of an array each on a line of its own."""
    import tomlkit

    if not isinstance(value, tuple):
        return value
    rows = thawed(value)
    if not any(isinstance(row, list) for row in rows):
        return rows
    array = tomlkit.array()
    for row in rows:
        array.append(row)
    return array.multiline(True)


def with_part(text: str, path: str, values: Mapping[str, Value]) -> str:
    """The text with a new part at its end, or behind its siblings.

    Raises:
        EditError: there is such a part already.
    """
    parts = path.split(".")
    if _lookup(_parsed(text), parts) is not None:
        raise EditError(f"there is a part {path} already")
    return edited(text, {f"{path}.{key}": value for key, value in values.items()}) if values else _empty(text, parts)


def without_part(text: str, path: str) -> str:
    """The text without a part and everything in it.

    Raises:
        EditError: there is no such part.
    """
    tree = _parsed(text)
    *parts, key = path.split(".")
    table = _lookup(tree, parts)
    if not isinstance(table, Mapping) or key not in table:
        raise EditError(f"there is no part {path} in this file")
    del table[key]  # type: ignore[attr-defined]
    return _dumped(tree)


def take_part(text: str, other: str, path: str) -> str:
    """The text with a part as another machine file has it, comments and all; what was there before goes.

    Raises:
        EditError: the other file has no such part, or one of the two is no TOML.
    """
    tree = _parsed(text)
    *parts, key = path.split(".")
    taken = _lookup(_parsed(other), [*parts, key])
    if not isinstance(taken, Mapping):
        raise EditError(f"the other file has no part {path}")
    import tomlkit
    import tomlkit.items

    table: Any = tree
    for part in parts:
        if part not in table:
            table[part] = tomlkit.table(is_super_table=True)
        table = table[part]
    if key in table:
        del table[key]
    table[key] = copy.deepcopy(taken)
    if isinstance(table[key], tomlkit.items.Table):
        table[key].add(tomlkit.nl())
    return _dumped(tree)


def _is_int(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _parsed(text: str) -> Any:
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        return tomlkit.parse(text)
    except (TOMLKitError, ValueError, RecursionError) as error:
        raise EditError(f"the file cannot be read as TOML ({error})") from error


def _dumped(tree: Any) -> str:
    import tomlkit

    return tomlkit.dumps(tree)


def _lookup(tree: Any, parts: list[str]) -> Any:
    for part in parts:
        if not isinstance(tree, Mapping) or part not in tree:
            return None
        tree = tree[part]
    return tree


def _unset(tree: Any, parts: list[str], key: str) -> None:
    """Remove a key, and named tables that it leaves empty."""
    table = _lookup(tree, parts)
    if isinstance(table, Mapping) and key in table:
        del table[key]  # type: ignore[attr-defined]
    while parts and isinstance(table := _lookup(tree, parts), Mapping) and not table:
        *parts, last = parts
        del _lookup(tree, parts)[last]


def _empty(text: str, parts: list[str]) -> str:
    import tomlkit

    tree = _parsed(text)
    table: Any = tree
    for part in parts:
        if part not in table:
            table[part] = tomlkit.table(is_super_table=part != parts[-1])
        table = table[part]
    return _dumped(tree)
