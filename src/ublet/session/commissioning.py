"""The whole route without anybody at the screen: follows "next" as a builder does, answered by a scenario's scripted
builder, until everything is proven and saved or nothing more helps.
"""

from __future__ import annotations

import asyncio
import contextlib
import shutil
import tempfile
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ublet.core.catalogue import TRIALS
from ublet.core.dialect.language import Language
from ublet.core.machine.compare import same
from ublet.core.remedy import GoTo
from ublet.core.route import ROUTE, StationState, station_named
from ublet.core.run import Progress
from ublet.core.settings import thawed
from ublet.core.trial import TrialSpec
from ublet.firmware.clock import run_virtually
from ublet.session.document import Document
from ublet.session.headless import Looking, on_scenario, with_truth
from ublet.session.next_step import NO_STEP, NextStep, next_step
from ublet.session.report import trial_json
from ublet.session.session import Session
from ublet.session.standings import standing, standings
from ublet.session.unattended import cooled, until_fit, until_proven, usual_parameters, write_and_settle
from ublet.world.quality import Warmth, quality_of
from ublet.world.scenario import load_scenario

PROOF = "first-layer"
"""What is printed once more at the end, with everything that was kept: a machine is as good as that."""

MOST_VISITS = 16
"""A trial is begun as often as this, rounds of mending counted once; then it is left open."""

MOST_PROOFS = 3
"""It is printed as often as this until nothing is to be changed any more."""

LOOKS_S = 1.0
"""The warmth of blocks is looked at so often, s."""

Say = Callable[[Progress], None]
AtEnd = Callable[[Session], None]
"""Is given the machine that was commissioned, while it is still open."""


@dataclass
class TrialDone:
    """What became of one trial, for one heater where it is done for several. report: the last run as JSON."""

    station: str
    trial: str
    rounds: int = 0
    machine_s: float = 0.0
    visits: int = 0
    outcome: str = "open"
    report: dict[str, Any] = field(default_factory=dict)

    def as_json(self) -> dict[str, Any]:
        """The contract's row: with the truth behind every finding and the finding's error."""
        truths = self.report.get("truth", {})
        findings = []
        for finding in self.report.get("findings", ()):
            kept = {key: finding[key] for key in ("id", "subject", "value", "uncertainty", "unit")}
            truth = truths.get(finding["id"])
            error = finding["value"] - truth if truth is not None else None
            findings.append({**kept, "truth": truth, "error": error})
        return {
            "station": self.station,
            "trial": self.trial,
            "outcome": self.outcome,
            "why": self.report.get("why", ""),
            "rounds": self.rounds,
            "machine_s": round(self.machine_s, 2),
            "findings": findings,
        }


class Commissioning:
    """Follows "next" on an open machine. done: every trial that was begun, by its name and heater."""

    def __init__(self, session: Session, watcher: Looking, say: Say) -> None:
        self._session, self._watcher, self._say = session, watcher, say
        self.done: dict[tuple[str, str], TrialDone] = {}
        self._given_up: dict[str, str] = {}
        self._refused_to_write = ""
        self._began_s, self._furthest = time.monotonic(), 0.0

    async def follow(self, until: str = "") -> None:
        """Until "next" leads nowhere, or only to what was given up; or to a station that is named."""
        while (step := next_step(self._session, self._standings())) is not None:
            if until and step.station is not None and step.station.name == until:
                break
            if step.key == "ctrl+s":
                await self._session.save()
            elif step.station is None:
                self._given_up[step.words] = step.why
                return  # a board that was halted stays so: nothing is released unseen
            else:
                await self._at(step)
        if self._session.unsaved():
            await self._session.save()

    async def prove(self) -> bool:
        """Print the first layer again, from a machine that is cold; whether it ended proven."""
        await cooled(self._session)
        for _ in range(MOST_PROOFS):
            printed = await self._try(TRIALS[PROOF], "", 1)
            if printed.outcome == "proven" and not printed.report["proposals"]:
                return True
        return False

    def open_words(self) -> list[str]:
        """Stations that are not proven although this machine needs them, each with why."""
        now = standings(self._session)
        names = [station.name for station in ROUTE if station.bench not in NO_STEP]
        left = [name for name in names if now[name].state != "proven" and not now[name].idle]
        return [f"{name}: {self._given_up.get(name) or now[name].reason or 'not done'}" for name in left]

    def _standings(self) -> dict[str, StationState]:
        """Where the stations stand; what was given up does not come next any more."""
        now = dict(standings(self._session))
        for name in self._given_up:
            if name in now:
                now[name] = StationState("waiting", "open", self._given_up[name])
        return now

    async def _at(self, step: NextStep) -> None:
        assert step.station is not None
        self._show(step.station.name)
        if step.station.bench == "write" and not self._refused_to_write:
            self._refused_to_write = await write_and_settle(self._session)
            if not self._refused_to_write:
                return
        spec = TRIALS.get(step.trial)
        if spec is None:
            self._given_up[step.station.name] = self._refused_to_write or step.why
            return
        if standing(self._session, step.station).figure == "unverified" and spec.verify is not None:
            spec = TRIALS[spec.verify]
        ended = await self._try(spec, step.heater)
        if ended.outcome == "proven" and ended.visits < MOST_VISITS:
            return
        if ended.visits >= MOST_VISITS or not await self._elsewhere(spec, step.heater):
            self._given_up[step.station.name] = str(ended.report["why"])

    async def _elsewhere(self, spec: TrialSpec, heater: str) -> bool:
        """Go where the trial's failure leads first; whether there is such a way out, or it is worth another start."""
        ended = self.done[spec.name, heater]
        entry = self._session.ledger.concluded(spec.name, spec.subject(usual_parameters(spec, heater).model_dump()))
        ways = entry.result.remedies if entry is not None else ()
        for way in ways:
            if isinstance(way, GoTo) and (name := way.trial or self._trial_of(way.station)):
                return (await self._try(TRIALS[name], way.heater)).visits < MOST_VISITS
        return ended.visits < 2

    def _trial_of(self, station: str) -> str:
        """Which of a station's trials is to be done; empty: it has none."""
        named = station_named(station)
        return standing(self._session, named).trial if named.trials else ""

    async def _try(self, spec: TrialSpec, heater: str, most: int | None = None) -> TrialDone:
        session = self._session
        await until_fit(session, spec, heater)
        rounds = await until_proven(session, spec, self._watcher, heater, most)
        ended = self.done.setdefault((spec.name, heater), TrialDone(spec.station, spec.name))
        ended.rounds += rounds.count
        ended.visits += 1
        ended.machine_s += rounds.machine_s
        ended.outcome = rounds.result.outcome
        number = rounds.last.number
        entry = session.ledger.run(number) if number is not None else None
        report = trial_json(spec.name, rounds.result, rounds.machine_s, entry.rests if entry else (), number)
        ended.report = with_truth(report, rounds.truth)
        return ended

    def _show(self, station: str) -> None:
        """Say where it is: by the place in the route, and the time left as it went so far."""
        names = [one.name for one in ROUTE]
        fraction = self._furthest = max(self._furthest, names.index(station) / len(names))
        took_s = time.monotonic() - self._began_s
        left_s = took_s * (1 - fraction) / fraction if fraction > 0.1 else None
        words = f"about {left_s:.0f} s left" if left_s is not None else ""
        self._say(Progress(station, fraction, left_s, words))

    def mended(self, by_hand_before: Mapping[str, float]) -> list[dict[str, Any]]:
        """What was changed: settings by what was kept, and what hands moved at the machine."""
        first: dict[str, Any] = {}
        last: dict[str, Any] = {}
        for change in reversed(self._session.ledger.changes("keep")):
            first.setdefault(change.setting, change.before)
            last[change.setting] = change.after
        rows: list[dict[str, Any]] = [
            {"setting": path, "before": thawed(first[path]), "after": thawed(after)}
            for path, after in last.items()
            if not same(first[path], after)
        ]
        assert self._watcher.simulated is not None
        now = self._watcher.simulated.world.by_hand()
        rows += [
            {"hand": what, "before": round(before, 4), "after": round(now[what], 4)}
            for what, before in by_hand_before.items()
            if abs(now[what] - before) > 1e-9
        ]
        return rows


def commission(
    scenario_file: Path,
    seed: int,
    say: Say,
    machine: Path | None = None,
    at_end: AtEnd = lambda session: None,
    until: str = "",
    language: Language | None = None,
) -> dict[str, Any]:
    """The whole route on a simulated board, on a virtual clock: the contract's JSON. machine: where its file and
    its ledger are left; without one a copy of the scenario's own is used. until:
    a station before which it stops; nothing is printed as a proof then. language: the dialect that the board speaks.

    Raises:
        ScenarioError, DocumentError, LedgerError.
    """
    scenario = load_scenario(scenario_file)
    source = scenario_file.parent / scenario.scenario.machine_file
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="ublet-") as folder:
        file = machine or Path(folder) / source.name
        if not file.exists():
            shutil.copyfile(Document(source).path, file)
        report = run_virtually(_commissioned(scenario_file, file, seed, say, at_end, until, language))
    return {"scenario": scenario.scenario.name, "seed": seed, **report, "wall_s": round(time.monotonic() - began, 2)}


async def _commissioned(
    scenario_file: Path,
    machine: Path,
    seed: int,
    say: Say,
    at_end: AtEnd,
    until: str,
    language: Language | None,
) -> dict[str, Any]:
    scenario = load_scenario(scenario_file)
    async with on_scenario(scenario_file, machine, seed, lambda progress: None, None, language) as (session, watcher):
        simulated = watcher.simulated
        assert simulated is not None
        work, world = Commissioning(session, watcher, say), simulated.world
        hands_before = world.by_hand()
        await session.connection.first_readings()
        began_s = session.connection.board_time
        await work.follow(until)
        warmth = Warmth(world, _plants(session, scenario.heaters))
        looking = asyncio.get_running_loop().create_task(_look(session, warmth))
        try:
            prints = "programs" in session.connection.can
            if not until and prints and not await work.prove():
                await work.follow()
        finally:
            looking.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await looking
        left = work.open_words()
        declared = session.machine_now
        live = {path: layer.live for path, layer in session.connection.layers.items()}
        impulses = {axis: simulated.board.mover.queue.shaping.impulses(axis) for axis in ("x", "y")}
        layer_mm = usual_parameters(TRIALS[PROOF]).model_dump()["layer_mm"]
        figures = quality_of(world, scenario, declared, live, impulses, warmth, layer_mm)
        at_end(session)
        why = f"not proven: {'; '.join(left)}" if left else "Every station that this machine needs is proven and saved."
        return {
            "outcome": "failed" if left else "commissioned",
            "why": why,
            "machine_s": round(session.connection.board_time - began_s, 1),
            "stations": [done.as_json() for done in work.done.values()],
            "mended": work.mended(hands_before),
            "open": left,
            "quality": figures,
        }


def _plants(session: Session, heated: Mapping[str, str]) -> dict[str, str]:
    """What each heater really heats, as it is plugged now."""
    heaters = session.document.machine.heaters
    return {name: heated[part.socket] for name, part in heaters.items() if part.socket in heated}


async def _look(session: Session, warmth: Warmth) -> None:
    """Look at the blocks, again and again."""
    while True:
        targets = {
            name: session.connection.channel(f"heaters.{name}.target_c") for name in session.document.machine.heaters
        }
        warmth.look({name: celsius for name, celsius in targets.items() if celsius is not None})
        await asyncio.sleep(LOOKS_S)
