"""A run as the JSON object that scripts rely on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ublet.core.evidence import Dependency
from ublet.core.run import TrialResult
from ublet.core.settings import Value, thawed
from ublet.core.trial import TrialSpec
from ublet.ledger.entries import RunEntry

if TYPE_CHECKING:
    from ublet.session.session import Session
    from ublet.session.trials import EnteredRun


def run_json(session: Session, spec: TrialSpec, entered: EnteredRun) -> dict[str, Any]:
    """A run that has just ended."""
    entry = session.ledger.run(entered.number) if entered.number is not None else None
    rests = entry.rests if entry is not None else ()
    return trial_json(spec.name, entered.ran.result, entered.ran.duration_s, rests, entered.number)


def entry_json(entry: RunEntry) -> dict[str, Any]:
    """A run of the ledger."""
    entry_report = trial_json(entry.name, entry.result, entry.duration_s, entry.rests, entry.id)
    return {"id": entry.id, "at": entry.at, "subject": dict(entry.subject), "running": entry.running, **entry_report}


def trial_json(
    trial: str, result: TrialResult, duration_s: float, rests: Sequence[Dependency], run: int | None
) -> dict[str, Any]:
    """The shape of the contract, with the options to choose from besides."""
    return {
        "trial": trial,
        "outcome": result.outcome,
        "why": result.why,
        "conditions": {path: thawed(value) for path, value in conditions(result, rests).items()},
        "findings": [
            {
                "id": finding.id,
                "subject": dict(finding.subject),
                "name": finding.name,
                "value": finding.value,
                "uncertainty": finding.uncertainty,
                "unit": finding.unit,
                "limit": finding.limit,
            }
            for finding in result.findings
        ],
        "proposals": [
            {
                "setting": proposal.setting,
                "before": thawed(proposal.before),
                "after": thawed(proposal.after),
                "unit": proposal.unit,
                "effect": proposal.effect,
            }
            for proposal in result.proposals
        ],
        "ways_out": [remedy.words for remedy in result.remedies],
        "options": {option.name: dict(option.figures) for option in result.options},
        "run": run,
        "duration_s": duration_s,
    }


def conditions(result: TrialResult, rests: Sequence[Dependency]) -> dict[str, Value]:
    """The state that a result holds for, and everything that it rests on, by path."""
    return {**result.conditions, **{rest.path: rest.value for rest in rests}}
