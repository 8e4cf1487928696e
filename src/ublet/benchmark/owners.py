"""Levelling, extruding and shaking on machines as builders own them: is every finding as sure as it claims, is a sound
machine accused, is what is wrong named, and is a second run after keeping a no-change?
"""

from __future__ import annotations

import tempfile
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ublet.benchmark.layers import on_made_up
from ublet.benchmark.owned import Owned
from ublet.core.catalogue import TRIALS
from ublet.core.run import TrialResult
from ublet.session.headless import Looking
from ublet.session.session import Session

WARM = {"nozzle_c": 205.0, "bed_c": 60.0}
Steps = Sequence[tuple[str, dict[str, Any]]]

PROBED: Steps = (
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
BY_HAND: Steps = (
    ("bed-corners-by-hand", {}),
    ("z-offset", {"material": "pla"}),
    ("bed-mesh-by-hand", {"material": "pla"}),
    ("first-layer", {"material": "pla"}),
)
EXTRUDED: Steps = (("extruder-steps", {}), ("extruder-steps", {"instrument": "callipers"}))
SHAKEN: Steps = (
    ("accelerometer-at-rest", {}),
    ("accelerometer-turned", {}),
    ("belts", {"seconds": 40.0}),
    ("resonance", {"seconds": 40.0}),
    ("input-shaper", {}),
    ("shaper-verify", {}),
)
BY_HAND_FIRST = {"lead-screws": "lead-screws-by-hand"}
"""What a trial names first when its machine is too far out for it."""

AGAIN = ("z-offset", "bed-mesh", "resonance", "first-layer", "extruder-steps", "bed-corners", "lead-screws")
"""These are run once more after what they proposed was kept."""


@dataclass(frozen=True)
class Ran:
    """A trial that has ended: its truth when it had, and whether it was a second run of what had been kept."""

    name: str
    result: TrialResult
    truth: dict[str, float]
    again: bool = False


@dataclass
class Counted:
    """Of one finding: how many claims there were, how many held within 2u, and errors in u."""

    claims: int = 0
    held: int = 0
    off: list[float] = field(default_factory=list)


def walked(owned: Owned, steps: Steps, seed: int) -> list[Ran]:
    """The trials one after the other in one session, what each proposes kept."""
    done: list[Ran] = []

    async def walk(session: Session, watcher: Looking) -> None:
        async def run(name: str, values: dict[str, Any], again: bool) -> bool:
            """One trial; whether something was kept of it."""
            spec = TRIALS[name]
            aim = spec.parameters(**values)
            entered = await session.run(spec, aim, watcher)
            result = entered.ran.result
            done.append(Ran(name, result, watcher.truth(spec, aim), again))
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
