"""A trial's result as the JSON object that scripts rely on."""

from __future__ import annotations

from typing import Any

from ublet.core.trial import TrialResult, TrialSpec


def trial_json(spec: TrialSpec, result: TrialResult, duration_s: float) -> dict[str, Any]:
    """The shape of the contract, with the options to choose from besides."""
    return {
        "trial": spec.name,
        "outcome": result.outcome,
        "why": result.why,
        "conditions": dict(result.conditions),
        "findings": [
            {
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
                "before": proposal.before,
                "after": proposal.after,
                "unit": proposal.unit,
                "effect": proposal.effect,
            }
            for proposal in result.proposals
        ],
        "options": {option.name: dict(option.figures) for option in result.options},
        "duration_s": duration_s,
    }
