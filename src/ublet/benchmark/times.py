"""How well the time left is known after a quarter of each trial, over the whole route on both demonstrations."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ublet.core.catalogue import TRIALS
from ublet.core.run import Progress
from ublet.core.trial import TrialSpec
from ublet.firmware.clock import run_virtually
from ublet.session.headless import Looking, on_scenario
from ublet.session.session import Session
from ublet.session.timing import TimeLeft, expected
from ublet.session.unattended import MOST_ROUNDS, until_fit, usual_parameters

WITHIN, SHORT_S = 0.2, 5.0
"""The time left is good within this fraction of what was really left; shorter trials are not judged."""


def times_left() -> dict[str, Any]:
    """For each machine: trials that were judged, how many were good, and the others with what was said and was so."""
    from ublet.session.library import DEMOS

    figures = {kind: _of(stem) for kind, stem in DEMOS.items()}
    return {
        **figures,
        "fell_short": [f"{kind}: {words}" for kind, figure in figures.items() for words in figure["others"]],
    }


def _of(stem: str) -> dict[str, Any]:
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
        rows = run_virtually(_walk(stem, list(TRIALS.values()), Path(folder)))
    off = [row for row in rows if abs(row[1] / row[2] - 1) > WITHIN]
    return {
        "trials": len(rows),
        "good": len(rows) - len(off),
        "others": [f"{name}: {said:.0f} s said, {really:.0f} s left" for name, said, really in off],
    }


async def _walk(stem: str, trials: Sequence[TrialSpec], folder: Path) -> list[tuple[str, float, float]]:
    """The name of each run, the time left that was said after a quarter of it, and what was really left, s."""
    from ublet.session.library import machine_path, scenario_path

    machine = folder / f"{stem}.toml"
    machine.write_text(machine_path(stem).read_text(encoding="utf-8"), encoding="utf-8")
    rows: list[tuple[str, float, float]] = []
    said: list[tuple[float, float | None]] = []
    running: list[tuple[Session, TimeLeft]] = []

    def note(progress: Progress) -> None:
        if running:
            session, left = running[0]
            now_s = session.connection.board_time
            said.append((now_s, left.left(now_s, progress)))

    async with on_scenario(scenario_path(stem), machine, 1, note) as (session, watcher):
        for spec in trials:
            await until_fit(session, spec)
            for _ in range(MOST_ROUNDS):
                said.clear()
                running[:] = [(session, TimeLeft(expected(session, spec, usual_parameters(spec))))]
                ended = await _run(session, spec, watcher, said, rows)
                if ended:
                    break
    return rows


async def _run(
    session: Session,
    spec: TrialSpec,
    watcher: Looking,
    said: list[tuple[float, float | None]],
    rows: list[tuple[str, float, float]],
) -> bool:
    """Run it once, and note what was said after a quarter; whether it need not be run again."""
    began_s, planned = session.connection.board_time, expected(session, spec, usual_parameters(spec))
    entered = await session.run(spec, usual_parameters(spec), watcher)
    result, took_s = entered.ran.result, entered.ran.duration_s
    quarter_s = began_s + took_s / 4
    before = [(at, left) for at, left in said if at <= quarter_s and left is not None]
    if took_s > SHORT_S and result.outcome == "proven":
        plan = planned.seconds if planned is not None else 0.0
        at, left = before[-1] if before else (began_s, plan)
        rows.append((spec.name, max(0.0, left - (quarter_s - at)), 0.75 * took_s))
    if result.choice is not None and result.proposals and (result.outcome != "proven" or not spec.mends):
        await session.keep(result.choice, entered.number)
    return result.outcome == "proven" or result.choice is None or not result.proposals
