"""A demonstration that is wired, declared and heated well already: its board's store, machine file and ledger are what
the first legs of the route leave behind, walked once on a virtual clock.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ublet.core.catalogue import TRIALS
from ublet.core.run import Progress
from ublet.firmware.clock import run_virtually
from ublet.session.headless import on_scenario
from ublet.session.session import ledger_path
from ublet.session.unattended import until_proven, write_and_settle

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
            await write_and_settle(session)
        for number, name in enumerate(WALKED, start=1):
            say(f"{number} of {len(WALKED)}: {name.replace('-', ' ')}")
            spec = TRIALS[name]
            for heater in spec.heaters(session.document.machine) or (None,):
                await until_proven(session, spec, watcher, heater)
        if session.unsaved():
            await session.save()
        if shadows := session.shadowed():  # what was kept and saved is in both and shadows nothing
            await session.settle_shadows({row.path: "file" for row in shadows})


def _quietly(progress: Progress) -> None:
    """Nobody looks on."""
