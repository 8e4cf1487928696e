"""Proposals held against our own checks before anybody sees them: none may contradict the machine file."""

from __future__ import annotations

from dataclasses import replace

from ublet.core.machine.check import check_text
from ublet.core.machine.edit import EditError, edited
from ublet.core.run import Option, TrialResult
from ublet.session.document import Document


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
    """The first error that a good machine file would get by keeping and saving an option; empty: none. Warnings may be
    what a trial found out: steps far from their geometry say that a part is not the declared one.
    """
    wanted = {p.setting: p.after for p in option.proposals if p.after is not None}
    values = {path: after for path, after in wanted.items() if document.value(path) != after}
    if not values:
        return ""
    try:
        after = check_text(edited(document.text, values), document.boards)
    except EditError as error:
        return str(error)
    return after.errors[0].sentence(document.path.name) if after.errors else ""
