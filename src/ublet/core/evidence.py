"""Evidence: whether a finding still holds, and if not, why."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.settings import Value
from ublet.core.units import show


def stale_reasons(conditions: Mapping[str, Value], now: Mapping[str, Value]) -> tuple[str, ...]:
    """Why findings taken under ``conditions`` no longer hold, one sentence for each reason.

    Only conditions that are settings (they have a dot) and known now are compared; numbers are equal
    when they agree to 1 in 10^6, the resolution of a stored value.
    """
    reasons = []
    for path, then in conditions.items():
        if "." not in path or path not in now:
            continue
        current = now[path]
        if not _same(then, current):
            reasons.append(f"{path} was {_text(then)}, is now {_text(current)}")
    return tuple(reasons)


def _same(first: Value, second: Value) -> bool:
    if isinstance(first, (int, float)) and isinstance(second, (int, float)):
        return abs(first - second) <= 1e-6 * max(abs(first), abs(second), 1e-9)
    return first == second


def _text(value: Value) -> str:
    return show(value) if isinstance(value, float) else str(value)
