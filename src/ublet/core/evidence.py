"""Evidence: what a run rests on, traced while it reads; and whether that has moved since, and how."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Literal

from ublet.core.machine.compare import furthest_apart, same
from ublet.core.settings import Value
from ublet.core.typed import shown_array, shown_value

DependencyKind = Literal["setting", "parts", "part", "finding", "fact"]


@dataclass(frozen=True)
class Dependency:
    """One dependency of a run, with the value that it had when it was read.

    kind: a setting by its path; the names of the parts in a table (``sensors``); whether one part is declared
    (``sensors.chamber``); a finding of an earlier run (``homing/spread.x``); a fact (``belt.x``).
    tolerance: by how much a number may move before it counts as changed.
    """

    kind: DependencyKind
    path: str
    value: Value
    tolerance: float = 0.0

    def holds(self, now: Value) -> bool:
        """Whether what it is now is the same within its tolerance; numbers agree to 1 in 10^6 at any rate."""
        if same(self.value, now):
            return True
        then = self.value
        if (furthest := furthest_apart(then, now)) is not None:
            return furthest <= self.tolerance
        if isinstance(then, bool) or isinstance(now, bool):
            return False
        if isinstance(then, (int, float)) and isinstance(now, (int, float)):
            return self.kind != "fact" and abs(then - now) <= self.tolerance
        return False


class Trace:
    """Notes what is read, each thing once, with the value that it had then."""

    def __init__(self) -> None:
        self._found: dict[tuple[DependencyKind, str], Dependency] = {}
        self._changed: set[tuple[DependencyKind, str]] = set()
        self._aside = 0

    def note(self, kind: DependencyKind, path: str, value: Value, tolerance: float = 0.0) -> None:
        """Something was read."""
        if self._aside:
            return
        key = (kind, path)
        if key in self._changed or key not in self._found:
            self._changed.discard(key)
            self._found[key] = Dependency(kind, path, value, tolerance)

    def changed(self, kind: DependencyKind, path: str) -> None:
        """The work itself had something changed: read again, it counts as it is then; not read again, as it was."""
        self._changed.add((kind, path))

    def take(self, rests: Iterable[Dependency]) -> None:
        """What an earlier part of the same work rested on."""
        for rest in rests:
            self._found.setdefault((rest.kind, rest.path), rest)

    @contextmanager
    def aside(self) -> Iterator[None]:
        """What is read meanwhile only leads there: the findings do not rest on it."""
        self._aside += 1
        try:
            yield
        finally:
            self._aside -= 1

    @property
    def noting(self) -> bool:
        """Whether what is read now counts."""
        return not self._aside

    @property
    def rests(self) -> tuple[Dependency, ...]:
        """Everything that was noted, in the order in which it was first read."""
        return tuple(self._found.values())


@dataclass(frozen=True)
class Now:
    """What something is now. gone: it is there no longer. unknown: nobody knows what it is. words: how it is said, if
    not by its value.
    """

    value: Value = None
    gone: bool = False
    unknown: bool = False
    words: str = ""


Present = Callable[[Dependency], Now]


def stale_reasons(rests: tuple[Dependency, ...], present: Present) -> tuple[str, ...]:
    """Why findings no longer hold: a sentence for each thing that they rest on and that moved beyond its tolerance.

    A thing that is gone has moved; what nobody knows has not.
    """
    reasons = []
    for rest in rests:
        now = present(rest)
        if now.unknown:
            continue
        if now.gone:
            reasons.append(f"{rest.path} was {shown_value(rest.value)}, and is there no longer")
        elif not rest.holds(now.value):
            reasons.append(now.words or _moved(rest, now.value))
    return tuple(reasons)


def _moved(rest: Dependency, value: Value) -> str:
    furthest = furthest_apart(rest.value, value)
    if furthest is not None and isinstance(rest.value, tuple):
        return f"{rest.path} was {shown_array(rest.value, 3)}, and moved by up to {furthest:.3g}"
    before, after = _distinct_words(rest.value, value)
    if rest.kind == "part":
        return f"{rest.path} is declared now" if value else f"{rest.path} is no longer declared"
    if rest.kind == "parts":
        return f"{rest.path} were {before}, are now {after}"
    return f"{rest.path} was {before}, is now {after}"


DIGITS = range(4, 18)


def _distinct_words(then: Value, current: Value) -> tuple[str, str]:
    """Two values that differ, with as many digits as it takes to see that."""
    for digits in DIGITS:
        before, after = shown_value(then, digits), shown_value(current, digits)
        if before != after:
            break
    return before, after
