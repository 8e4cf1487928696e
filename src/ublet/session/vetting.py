"""Proposals held against our own checks before anybody sees them: none may contradict the machine file."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from ublet.core.machine.check import check_tree, parse_toml
from ublet.core.machine.lines import key_lines
from ublet.core.machine.problem import Lines
from ublet.core.run import Option, TrialResult
from ublet.core.settings import Value, thawed
from ublet.session.document import Document


def vetted(result: TrialResult, document: Document) -> TrialResult:
    """The same result without the options that the machine file could not take; what was taken out is said."""
    reasons = _contradictions(result.options, document)
    if not reasons:
        return result
    told = " ".join(
        f"What it would propose ({name}) contradicts the machine file and is left out: {reason}"
        for name, reason in reasons.items()
    )
    return replace(
        result,
        why=f"{result.why} {told}",
        options=tuple(option for option in result.options if option.name not in reasons),
        recommended="" if result.recommended in reasons else result.recommended,
    )


def _contradictions(options: tuple[Option, ...], document: Document) -> dict[str, str]:
    """The first error that a good machine file would get by keeping and saving an option, for those that have one.

    Warnings may be what a trial found out: steps far from their geometry say that a part is not the declared one.
    """
    found: dict[str, str] = {}
    read: tuple[dict[str, Any], Lines] | None = None
    for option in options:
        wanted = {p.setting: p.after for p in option.proposals if p.after is not None}
        values = {path: after for path, after in wanted.items() if document.value(path) != after}
        if not values:
            continue
        if read is None:
            read = parse_toml(document.text)[0], key_lines(document.text)
        after = check_tree(_with(read[0], values), read[1], document.boards)
        if after.errors:
            found[option.name] = after.errors[0].sentence(document.path.name)
    return found


def _with(tree: dict[str, Any], values: Mapping[str, Value]) -> dict[str, Any]:
    """What a file would say with some settings changed; tables are made where they are missing."""
    changed = copy.deepcopy(tree)
    for path, value in values.items():
        *parts, key = path.split(".")
        table = changed
        for part in parts:
            table = table.setdefault(part, {})
        before = table.get(key)
        whole = isinstance(before, int) and isinstance(value, float) and value.is_integer()
        table[key] = int(value) if whole and isinstance(value, float) else thawed(value)
    return changed
