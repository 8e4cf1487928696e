"""Every trial on both shipped machines, in the order of the route: what a trial mends is kept, until all are proven."""

from __future__ import annotations

import asyncio
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ublet.core.catalogue import TRIALS
from ublet.core.trial import Need, TrialSpec
from ublet.firmware.clock import run_virtually
from ublet.session.headless import on_scenario
from ublet.session.session import Session

MOST_ROUNDS = 4
"""So often a trial is run again after what it found was put right."""


def whole_route(seeds: int) -> dict[str, Any]:
    """For each machine the trials that did not end proven, by seed, and how many ran."""
    from ublet.session.library import DEMOS

    trials = list(TRIALS.values())
    return {
        kind: {"trials": len(trials), "not_proven": [not_proven(stem, seed, trials) for seed in range(1, seeds + 1)]}
        for kind, stem in DEMOS.items()
    }


def not_proven(stem: str, seed: int, trials: Sequence[TrialSpec]) -> dict[str, str]:
    """These trials in this order on a shipped machine: those that did not end proven, each with why."""
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
        return run_virtually(_walk(stem, seed, trials, Path(folder)))


async def _walk(stem: str, seed: int, trials: Sequence[TrialSpec], folder: Path) -> dict[str, str]:
    from ublet.session.library import machine_path, scenario_path

    machine = folder / f"{stem}.toml"
    machine.write_text(machine_path(stem).read_text(encoding="utf-8"), encoding="utf-8")
    left: dict[str, str] = {}
    async with on_scenario(scenario_path(stem), machine, seed, lambda progress: None) as (session, watcher):
        for spec in trials:
            if not all(need.met for need in await needs_of(session, spec)):
                await cooled(session)
            if (why := await _until_proven(session, spec, watcher)) is not None:
                left[spec.name] = why
    return left


async def needs_of(session: Session, spec: TrialSpec) -> tuple[Need, ...]:
    """What a trial needs for a start, by the latest readings."""
    readings = await _readings(session)
    return spec.needs(session.document.machine, parameters_of(spec), readings.get)


async def cooled(session: Session) -> None:
    """Wait until nothing cools any more, as a builder does before what wants a cold machine.

    Told by readings that stand still and not by the room: a sensor declared with the wrong curve stands still too.
    """
    before = await _readings(session)
    while True:
        await asyncio.sleep(STANDS_STILL_S)
        now = await _readings(session)
        if all(before[name] - now[name] < STANDS_STILL_C for name in now.keys() & before.keys()):
            return
        before = now


STANDS_STILL_S, STANDS_STILL_C = 300.0, 1.0


async def _readings(session: Session) -> dict[str, float]:
    await session.connection.first_readings()
    channels = {name: session.connection.channel(f"sensors.{name}") for name in session.document.machine.sensors}
    return {name: value for name, value in channels.items() if value is not None}


async def _until_proven(session: Session, spec: TrialSpec, watcher: Any) -> str | None:
    """Run it, keep what it proposes, run it again; None when it ended proven, else why not."""
    why = ""
    for _ in range(MOST_ROUNDS):
        entered = await session.run(spec, parameters_of(spec), watcher)
        result = entered.ran.result
        why = result.why
        if result.outcome == "proven":
            if result.choice is not None and result.proposals and not spec.mends:
                await session.keep(result.choice, entered.number)  # the check that follows is of these
            return None
        if result.choice is None or not result.proposals:
            break
        await session.keep(result.choice, entered.number)
    return why


def parameters_of(spec: TrialSpec) -> Any:
    """The usual parameters; nobody is asked whether to wait for the room."""
    return spec.parameters(**({"wait": True} if "wait" in spec.parameters.model_fields else {}))
