"""Boards that speak another line language: how far the route goes over each dialect, and whether it is as sure."""

from __future__ import annotations

from typing import Any

from ublet.core.catalogue import TRIALS
from ublet.core.machine.schema import MachineFile
from ublet.core.route import stands_on, station_named

MACHINES = ("wren-180", "tern-280")
LEAST = 0.9
"""Fraction of findings whose truth is to lie within two standard uncertainties, at least."""


def dialects(seeds: int) -> dict[str, Any]:
    """The whole route from the planted faults over each shipped dialect and machine, with a number of seeds.

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
    lines = {name: len(one.path.read_text(encoding="utf-8").splitlines()) for name, one in dialects_for(DATA).items()}
    return {
        "walks": walks,
        "within_2u": round(covered / claims, 3) if claims else None,
        "claims": claims,
        "lines_of_file": lines,
        "fell_short": [*short, *([f"within 2u: {covered} of {claims}"] if covered < LEAST * claims else [])],
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
