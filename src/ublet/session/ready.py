"""A demonstration that is wired, declared and heated well already: its board's store, machine file and ledger are what
the first legs of the route leave behind, walked once on a virtual clock.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path

from ublet.core.catalogue import TRIALS
from ublet.core.run import Progress
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.firmware.clock import run_virtually
from ublet.session.headless import Looking, on_scenario
from ublet.session.session import Session, ledger_path

WALKED = (
    "inputs-by-hand",
    "heaters-paired",
    "fans-one-by-one",
    "motors-one-by-one",
    "directions",
    "homing",
    "travel-limits",
    "sensors-at-rest",
    "hotend-control",
    "hotend-verify",
    "bed-control",
    "bed-verify",
)
"""What levelling and shaking stand on."""

RESTARTED_S = 10.0
"""After an image was written the board restarts, and is linked and reads again within this, s."""

ROUNDS = 3
"""A trial is run again as often as this after what it proposed was kept."""


def make_ready(machine: Path, scenario: Path, store: Path, say: Callable[[str], None]) -> None:
    """Walk the first legs of a demonstration that has no ledger yet; say: what is done now.

    Raises:
        ScenarioError, DocumentError, LedgerError.
    """
    if not ledger_path(machine).exists():
        run_virtually(_walk(machine, scenario, store, say))


async def _walk(machine: Path, scenario: Path, store: Path, say: Callable[[str], None]) -> None:
    async with on_scenario(scenario, machine, 1, _quietly, store) as (session, watcher):
        planned = session.plan_write()
        if not planned.refused and not planned.same_as_running:
            say("writing the image")
            await session.write_image(planned, lambda upload: None, lambda words: None)
            await asyncio.sleep(RESTARTED_S)
            await session.connection.first_readings()
        for number, name in enumerate(WALKED, start=1):
            say(f"{number} of {len(WALKED)}: {name.replace('-', ' ')}")
            await _until_proven(session, TRIALS[name], watcher)
        if session.unsaved():
            await session.save()
        if shadows := session.shadowed():  # what was kept and saved is in both and shadows nothing
            await session.settle_shadows({row.path: "file" for row in shadows})


async def _until_proven(session: Session, spec: TrialSpec, watcher: Looking) -> None:
    """Run it, keep what it proposes, and again where that has to be confirmed."""
    heaters = spec.heaters(session.document.machine) or (None,)
    for heater in heaters:
        for _ in range(ROUNDS):
            entered = await session.run(spec, _parameters(spec, heater), watcher)
            result = entered.ran.result
            if result.choice is not None and result.proposals:
                await session.keep(result.choice, entered.number, spec.station)
            if result.outcome == "proven":
                break


def _parameters(spec: TrialSpec, heater: str | None) -> Part:
    """The usual parameters; whoever is not there waits for the room without being asked."""
    given: dict[str, object] = {"wait": True} if "wait" in spec.parameters.model_fields else {}
    return spec.parameters(**(given | ({"heater": heater} if heater is not None else {})))


def _quietly(progress: Progress) -> None:
    """Nobody looks on."""
