"""Things that were found in each other's place: which belongs where, when they are all each other's."""

from __future__ import annotations

from collections.abc import Mapping


def cycles(cycles_found: Mapping[str, str | None], own: Mapping[str, str]) -> dict[str, str]:
    """For each name that showed another's, whose answer it showed; only when they are all each other's."""
    whose = {answer: name for name, answer in own.items()}
    wrong = {name: whose[answer] for name, answer in cycles_found.items() if answer in whose and answer != own[name]}
    return wrong if set(wrong) == set(wrong.values()) else {}
