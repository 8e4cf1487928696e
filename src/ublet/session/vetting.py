"""Proposals held against our own checks before anybody sees them: none may contradict the machine file."""

from __future__ import annotations

from dataclasses import replace

from ublet.core.trial import Option, TrialResult
from ublet.session.document import Document, DocumentError


def vetted(result: TrialResult, document: Document) -> TrialResult:
    """The same result without the options that the machine file could not take; what was taken out is said."""
    reasons = {option.name: reason for option in result.options if (reason := _contradiction(option, document))}
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


def _contradiction(option: Option, document: Document) -> str:
    """What is wrong with a machine file in which an option was kept and saved; empty: nothing."""
    wanted = {p.setting: p.after for p in option.proposals if p.after is not None}
    values = {path: after for path, after in wanted.items() if document.value(path) != after}
    if not values:
        return ""
    try:
        document.with_values(values)
    except DocumentError as error:
        return str(error).split("\n")[0]
    return ""
