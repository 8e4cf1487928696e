"""Proposals held against our own checks before anybody sees them: none may contradict the machine file."""

from __future__ import annotations

from dataclasses import replace

from ublet.core.machine.check import check_text
from ublet.core.machine.edit import EditError, edited
from ublet.core.trial import Option, TrialResult
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
    """The first error or warning that a machine file would get by keeping and saving an option; empty: none."""
    wanted = {p.setting: p.after for p in option.proposals if p.after is not None}
    values = {path: after for path, after in wanted.items() if document.value(path) != after}
    if not values:
        return ""
    try:
        after = check_text(edited(document.text, values), document.boards)
    except EditError as error:
        return str(error)
    known = {(problem.key, problem.severity) for problem in check_text(document.text, document.boards).problems}
    new = [problem for problem in after.problems if (problem.key, problem.severity) not in known]
    return new[0].sentence(document.path.name) if new else ""
