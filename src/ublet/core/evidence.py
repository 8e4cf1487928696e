"""Evidence: whether a finding still holds, and if not, why."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.machine.compare import same
from ublet.core.settings import Value
from ublet.core.typed import shown_value


def stale_reasons(conditions: Mapping[str, Value], now: Mapping[str, Value]) -> tuple[str, ...]:
    """Why findings taken under ``conditions`` no longer hold, one sentence for each reason.

    Only conditions that are settings (they have a dot) are compared; numbers are equal when they agree to 1 in 10^6,
    the resolution of a stored value.
    """
    reasons = []
    for path, then in conditions.items():
        if "." not in path:
            continue
        if path not in now:
            reasons.append(f"{path} was {shown_value(then)}, and the board has it no longer")
        elif not same(then, now[path]):
            before, after = _told_apart(then, now[path])
            reasons.append(f"{path} was {before}, is now {after}")
    return tuple(reasons)


DIGITS = range(4, 18)


def _told_apart(then: Value, current: Value) -> tuple[str, str]:
    """Two values that differ, with as many digits as it takes to see that."""
    for digits in DIGITS:
        before, after = shown_value(then, digits), shown_value(current, digits)
        if before != after:
            break
    return before, after
