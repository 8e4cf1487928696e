"""Two machine files side by side, and three: what I changed, what another program changed, and where both did."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.machine.edit import GONE, Edit
from ublet.core.settings import Value, numbers_in, shape_of


@dataclass(frozen=True)
class Difference:
    """One setting in two states; None: it is not there."""

    path: str
    before: Value
    after: Value


@dataclass(frozen=True)
class Conflict:
    """A setting that was changed in two ways; None: removed."""

    path: str
    before: Value
    mine: Value
    theirs: Value


def differences(before: Mapping[str, Value], after: Mapping[str, Value]) -> list[Difference]:
    """What differs, in the order of the first and then of the second."""
    paths = dict.fromkeys([*before, *after])
    pairs = ((path, before.get(path), after.get(path)) for path in paths)
    return [Difference(path, old, new) for path, old, new in pairs if not same(old, new)]


def furthest_apart(one: Value, other: Value) -> float | None:
    """By how much two arrays of the same shape differ at the most; None for anything else."""
    if not isinstance(one, tuple) or not isinstance(other, tuple):
        return None
    with contextlib.suppress(ValueError):
        if shape_of(one) == shape_of(other):
            pairs = zip(numbers_in(one), numbers_in(other), strict=True)
            return max((abs(a - b) for a, b in pairs), default=0.0)
    return None


def same(one: Value, other: Value) -> bool:
    """Whether two values mean the same; numbers agree to 1 in 10^6 (those of an array, of its largest), and true is
    not 1.
    """
    if (furthest := furthest_apart(one, other)) is not None:
        return furthest <= 1e-6 * max((abs(number) for number in (*numbers_in(one), *numbers_in(other))), default=0.0)
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, (int, float)) and isinstance(other, (int, float)):
        return abs(one - other) <= 1e-6 * max(abs(one), abs(other))
    return one == other


def merged(
    base: Mapping[str, Value], mine: Mapping[str, Value], theirs: Mapping[str, Value]
) -> tuple[dict[str, Edit], list[Conflict]]:
    """My changes as edits that can be made on theirs, and the settings that both changed differently.

    An edit that they made too is left out; a conflict is in the edits with my value, to be dropped or kept.
    """
    edits: dict[str, Edit] = {}
    conflicts = []
    for change in differences(base, mine):
        path, now = change.path, theirs.get(change.path)
        if same(now, change.after):
            continue
        edits[path] = GONE if change.after is None else change.after
        if not same(now, change.before):
            conflicts.append(Conflict(path, change.before, change.after, now))
    return edits, conflicts
