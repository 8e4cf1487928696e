"""Levelling, extruding and shaking on machines as builders own them: is every finding as sure as it claims, is a sound
machine accused, is what is wrong named, and is a second run after keeping a no-change?
"""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.extruders import NAMED
from ublet.benchmark.layers import TrialSequence, on_made_up
from ublet.benchmark.owned import Owned
from ublet.core.catalogue import TRIALS
from ublet.core.run import Finding, TrialResult
from ublet.session.headless import Looking
from ublet.session.session import Session

WARM = {"nozzle_c": 205.0, "bed_c": 60.0}

PROBED: TrialSequence = (
    ("lead-screws", {}),
    ("bed-corners", {}),
    ("probe-height", {}),
    ("probe-place", {}),
    ("probe-spread", {}),
    ("probe-speed", {}),
    ("z-offset", WARM),
    ("bed-mesh", WARM),
    ("mesh-check", WARM),
    ("first-layer", {"material": "pla"}),
)
BY_HAND: TrialSequence = (
    ("bed-corners-by-hand", {}),
    ("z-offset", {"material": "pla"}),
    ("bed-mesh-by-hand", {"material": "pla"}),
    ("first-layer", {"material": "pla"}),
)
EXTRUDED: TrialSequence = (("extruder-steps", {}), ("extruder-steps", {"instrument": "callipers"}))
SHAKEN: TrialSequence = (
    ("accelerometer-turned", {}),
    ("accelerometer-at-rest", {}),
    ("ringing-tower", {"material": "pla"}),
    ("belts", {"seconds": 40.0}),
    ("resonance", {"seconds": 40.0}),
    ("input-shaper", {}),
    ("shaper-verify", {}),
)
LEAST_COVERED, ENOUGH = 0.9, 10
"""At least this fraction of the claims of a finding hold, where there are so many."""

BY_HAND_FIRST = {"lead-screws": "lead-screws-by-hand"}
"""What a trial names first when its machine is too far out for it."""

AGAIN = ("z-offset", "bed-mesh", "first-layer", "extruder-steps", "bed-corners", "lead-screws", "input-shaper")
"""These are run once more after what they proposed was kept."""


@dataclass(frozen=True)
class OwnerRun:
    """A trial that has ended: its truth when it had, and whether it was a second run of what had been kept."""

    name: str
    result: TrialResult
    truth: dict[str, float]
    again: bool = False


def _steps(owned: Owned, leg: str) -> TrialSequence:
    if leg == "level":
        return PROBED if owned.probed else BY_HAND
    if leg == "extrude":
        return EXTRUDED
    return [step for step in SHAKEN if owned.probed or step[0] != "belts"]  # the other machine is no CoreXY


def owners(machines: int, dear: int) -> dict[str, Any]:
    """Each leg on so many machines; dear: how many of them are shaken."""
    counts = {"level": machines, "extrude": machines, "shake": dear}
    return {leg: _leg(leg, count) for leg, count in counts.items()}


def _leg(leg: str, machines: int) -> dict[str, Any]:
    claims: dict[str, list[bool]] = {}
    sound, planted, kept = 0, 0, 0
    accused, unnamed, changed = [], [], []
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
        for number in range(machines):
            owned = Owned(Path(folder), number, leg)
            ran = walked(owned, leg, number)
            fault = owned.lifts or owned.hob or owned.mount
            for trial_run in ran:
                for name, holds in _claims(trial_run):
                    claims.setdefault(name, []).append(holds)
            if fault:
                planted += 1
                if not _named(owned, ran):
                    unnamed.append(f"{number} {fault}: {ran[0].result.why}")
            else:
                sound += 1
                accused += [
                    f"{number} {trial_run.name}: {trial_run.result.why}" for trial_run in ran if ACCUSES[leg](trial_run)
                ]
            for before, again in pairwise(ran):
                if again.again and (before.result.outcome == "proven" or not fault):
                    kept += 1
                    if not _no_change(before.result, again.result):
                        changed.append(f"{number} {again.name}: {again.result.why}")
    within = {name: [round(float(np.mean(holds)), 3), len(holds)] for name, holds in sorted(claims.items())}
    return {
        "machines": machines,
        "within_2u": within,
        "claims_within_2u": round(float(np.mean([hold for holds in claims.values() for hold in holds])), 3),
        **{"sound": sound, "accused": accused, "planted": planted, "unnamed": unnamed},
        **{"second_runs": kept, "second_runs_that_change": changed},
        "limits": {"within_2u": LEAST_COVERED, "accused": 0.02, "named": 0.95, "no_change": 0.95},
        "fell_short": [
            *(
                f"{leg}: {name}: {fraction} of {count} claims within 2u"
                for name, (fraction, count) in within.items()
                if fraction < LEAST_COVERED and count >= ENOUGH
            ),
            *([f"{leg}: sound machines accused: {len(accused)} of {sound}"] if len(accused) > 0.02 * sound else []),
            *([f"{leg}: faults not named: {len(unnamed)} of {planted}"] if len(unnamed) > 0.05 * planted else []),
            *([f"{leg}: second runs that change: {len(changed)} of {kept}"] if len(changed) > 0.05 * kept else []),
        ],
    }


def _claims(ran: OwnerRun) -> list[tuple[str, bool]]:
    """Every finding with an uncertainty and a truth, by its trial and word: whether the truth is within 2u."""
    return [
        (f"{ran.name} {finding.what}", abs(finding.value - ran.truth[finding.id]) <= 2 * finding.uncertainty)
        for finding in ran.result.findings
        if finding.uncertainty and finding.id in ran.truth
    ]


def _named(owned: Owned, ran: Sequence[OwnerRun]) -> bool:
    """Whether the leg named what is planted: its first trial, or that of the sensor's mount."""
    if owned.lifts:
        how = {"backwards": "backwards", "ring": "ring", "exchanged": "on each other's drivers"}[owned.lifts]
        return how in ran[0].result.why and all(name in ran[0].result.why for name in owned.moved)
    if owned.hob:
        return NAMED[owned.hob] in ran[0].result.why
    return any("rattles" in trial_run.result.why for trial_run in ran if trial_run.name == "accelerometer-turned")


ACCUSES: dict[str, Callable[[OwnerRun], bool]] = {
    "level": lambda ran: ran.result.outcome == "failed" and not ran.result.proposals,
    "extrude": lambda ran: any(words in ran.result.why for words in NAMED.values() if words),
    "shake": lambda ran: ran.result.outcome == "failed" and not ran.result.proposals,
}
"""Whether a trial accuses a sound machine: it fails and proposes nothing, or names what is not there."""


def _no_change(before: TrialResult, again: TrialResult) -> bool:
    """Whether a second run after keeping leaves everything as it is: it proposes nothing, or measures the same."""
    if not again.proposals:
        return True
    return all(
        _same(finding, again.finding(finding.what, **finding.subject))
        for finding in before.findings
        if finding.uncertainty
    )


def _same(one: Finding, other: Finding | None) -> bool:
    if other is None or not one.uncertainty or not other.uncertainty:
        return True
    return abs(one.value - other.value) <= 2 * math.hypot(one.uncertainty, other.uncertainty)


def walked(owned: Owned, leg: str, seed: int) -> list[OwnerRun]:
    """The trials of a leg one after the other in one session, what each proposes kept."""
    steps = _steps(owned, leg)
    done: list[OwnerRun] = []

    async def walk(session: Session, watcher: Looking) -> None:
        async def run(name: str, values: dict[str, Any], again: bool) -> bool:
            """One trial; whether something was kept of it."""
            spec = TRIALS[name]
            aim = spec.parameters(**values)
            entered = await session.run(spec, aim, watcher)
            result = entered.ran.result
            done.append(OwnerRun(name, result, watcher.truth(spec, aim), again))
            if result.choice is None or not result.proposals:
                return False
            await session.keep(result.choice, entered.number)
            return True

        for name, values in steps:
            kept = await run(name, values, again=False)
            if kept and name in AGAIN:
                await run(name, values, again=True)
            if BY_HAND_FIRST.get(name, "none") in done[-1].result.why:
                await run(BY_HAND_FIRST[name], {}, again=False)
                await run(name, values, again=True)

    on_made_up(owned.path, seed, walk)
    return done
