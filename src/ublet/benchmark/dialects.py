"""Boards that speak another line language: how far the route goes over each dialect, and whether it is as sure."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import Any

from ublet.core.catalogue import TRIALS
from ublet.core.dialect.language import Language
from ublet.core.machine.schema import MachineFile
from ublet.core.route import stands_on, station_named
from ublet.firmware.clock import run_virtually
from ublet.session.headless import on_scenario
from ublet.world.scenario import load_scenario

MOST_OVERSHOOT_C, FIRST_PLANT = 2.0, 3000
MACHINES = ("wren-180", "tern-280")
LEAST = 0.9
"""Fraction of findings whose truth is to lie within two standard uncertainties, at least."""


def host_relays(plants: int) -> dict[str, Any]:
    """Hotends made up at random on a board without a relay: tuned by duties from here, kept, verified."""
    from ublet.benchmark.plants import made_up_scenario
    from ublet.session.dialects import dialect_named

    moss = dialect_named("moss", Path())
    overshoots: list[float] = []
    unproven: list[str] = []
    for number in range(plants):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            scenario, target = made_up_scenario(Path(name), "hotend", FIRST_PLANT + number)
            why, overshoot_c = run_virtually(_tuned(scenario, Path(name), number, moss, target))
        overshoots += [] if overshoot_c is None else [overshoot_c]
        unproven += [f"plant {number}: {why}"] if why else []
    over = sum(overshoot > MOST_OVERSHOOT_C for overshoot in overshoots)
    short = [f"hotends from here: {len(unproven)} of {plants} not proven"] if unproven else []
    return {
        "plants": plants,
        "worst_overshoot_c": round(max(overshoots, default=0.0), 2),
        "within_2_c": len(overshoots) - over,
        "not_proven": unproven,
        "fell_short": [*short, *([f"hotends from here: {over} overshoot by more than 2 °C"] if over else [])],
    }


async def _tuned(
    scenario: Path, folder: Path, seed: int, language: Language, target: float
) -> tuple[str, float | None]:
    """Guards, control and check of a hotend; why it is not proven (empty: it is), and its overshoot, °C."""
    machine = folder / "machine.toml"
    shutil.copyfile(scenario.parent / load_scenario(scenario).scenario.machine_file, machine)
    async with on_scenario(scenario, machine, seed, lambda progress: None, None, language) as (session, watcher):
        await session.connection.first_readings()
        for name, values in (("guards-drill", {}), ("hotend-control", {"target": target}), ("hotend-verify", {})):
            spec = TRIALS[name]
            entered = await session.run(spec, spec.parameters(**values), watcher)
            result = entered.ran.result
            if result.choice is not None and result.proposals:
                await session.keep(result.choice, entered.number)
            elif result.outcome != "proven":
                return f"{name}: {result.why}", None
        seen = result.finding("overshoot")
        return "", seen.value if seen is not None else None


def dialects(seeds: int, plants: int) -> dict[str, Any]:
    """The whole route from the planted faults over each shipped dialect and machine, with a number of seeds; and
    hotends that are switched from here.

    A station counts as short when the language has what its trials need and it is not proven at the end.
    """
    from ublet.session.commissioning import commission
    from ublet.session.dialects import dialects_for
    from ublet.session.document import Document
    from ublet.session.library import DATA, machine_path, scenario_path

    walks: dict[str, Any] = {}
    short: list[str] = []
    covered = claims = 0
    for name, one in dialects_for(DATA).items():
        assert one.language is not None
        for stem in MACHINES:
            machine = Document(machine_path(stem)).machine
            for seed in range(1, seeds + 1):
                report = commission(scenario_path(stem), seed, lambda progress: None, language=one.language)
                open_ = [
                    words for words in report["open"] if _allowed(words.partition(":")[0], machine, one.language.can())
                ]
                inside, said = _covered(report["stations"])
                covered, claims = covered + inside, claims + said
                walks[f"{name}, {stem}, seed {seed}"] = {
                    "proven": sum(row["outcome"] == "proven" for row in report["stations"]),
                    "mended": len(report["mended"]),
                    "within_2u": f"{inside} of {said}",
                    "wall_s": report["wall_s"],
                }
                short += [f"{name}, {stem}, seed {seed}: {words}" for words in open_]
    relays = host_relays(plants)
    lines = {name: len(one.path.read_text(encoding="utf-8").splitlines()) for name, one in dialects_for(DATA).items()}
    return {
        "walks": walks,
        "within_2u": round(covered / claims, 3) if claims else None,
        "claims": claims,
        "lines_of_file": lines,
        "hotends_switched_from_here": relays,
        "fell_short": [
            *short,
            *relays["fell_short"],
            *([f"within 2u: {covered} of {claims}"] if covered < LEAST * claims else []),
        ],
    }


def _allowed(name: str, machine: MachineFile, can: frozenset[str]) -> bool:
    """Whether a language has what the first trial of a station needs, and those of the stations that it stands on."""
    station = station_named(name)
    if station.trials and not can.issuperset(TRIALS[station.trials[0]].uses(machine)):
        return False
    return all(_allowed(before.name, machine, can) for before in stands_on(name))


def _covered(stations: list[dict[str, Any]]) -> tuple[int, int]:
    """Findings whose truth lies within two standard uncertainties, and how many have both."""
    inside = said = 0
    for row in stations:
        for finding in row.get("findings", ()):
            if finding["truth"] is not None and finding["uncertainty"]:
                said += 1
                inside += abs(finding["error"]) <= 2 * finding["uncertainty"]
    return inside, said
