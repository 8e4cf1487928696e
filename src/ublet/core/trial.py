"""A trial that can be run: its recipe, its parameters, what it records, and what it says before it starts."""

from __future__ import annotations

from collections.abc import Callable, Coroutine, Mapping
from dataclasses import dataclass
from typing import Any

from ublet.core.bench import Bench
from ublet.core.capabilities import Uses
from ublet.core.facts import FACTS
from ublet.core.machine.schema import MachineFile
from ublet.core.run import Stream, TrialResult
from ublet.core.settings import Declaration, Part, declarations
from ublet.core.trial_times import Lasts


@dataclass(frozen=True)
class Need:
    """Something that a trial needs, and whether it is there; words say what is, or what is missing.

    blocking: without it the trial cannot start; otherwise the trial sees to it by itself.
    """

    words: str
    met: bool
    blocking: bool = True


FactsOf = Callable[[MachineFile, Any], tuple[tuple[str, str], ...]]
"""The facts that the findings of a trial rest on, by machine and parameters: kind and subject of each."""


def facts(*kinds: str) -> FactsOf:
    """Facts of these kinds: of the machine, or of every part of it that a kind is about (each screw, each lift)."""

    def of_machine(machine: MachineFile, aim: Any) -> tuple[tuple[str, str], ...]:
        return tuple((kind, subject) for kind in kinds for subject in FACTS[kind].subjects(machine))

    return of_machine


@dataclass(frozen=True)
class TrialSpec:
    """A trial that can be run: its name, station, parameters and recipe.

    streams: what it records. announce says before the start what will move or heat. needs says, from the latest
    readings by sensor, what is there and what is missing. figure: the key figure of a proven result, for the route.
    verify names the trial that checks a keep; trips: guards trip in it on purpose, and do not end it.
    heaters: the heaters of a machine that it is done for, one after the other; none where it is for the whole machine.
    mends: it fails with proposals that put right what it found, and is run again after they were kept.
    uses: what the board must be able to do for it, on a machine.
    idle: why the station does not wait for it on a machine: there is nothing to do, or another trial does it (empty: it
    waits for it).
    prepares: it comes before what the station is for: its figure is not the station's.
    asks: whether it puts questions to the builder, for these parameters, whatever it finds.
    by_hand: the builder measures, not the probe.
    lasts: how long it takes at the machine, s; None: only its course shows.
    after: another station that it stands on, besides those of its own, with what that one stands on.
    facts: what happened at the machine that the findings rest on, though nothing that the recipe reads shows it.

    All other dependencies are traced: settings, parts, findings, and the facts about what the recipe drives or reads.
    """

    name: str
    station: str
    summary: str
    parameters: type[Part]
    run: Callable[[Bench, Any], Coroutine[Any, Any, TrialResult]]
    streams: tuple[Stream, ...]
    announce: Callable[[MachineFile, Any], str]
    needs: Callable[[MachineFile, Any, Callable[[str], float | None]], tuple[Need, ...]]
    figure: Callable[[TrialResult], str] = lambda result: "done"
    verify: str | None = None
    mends: bool = False
    trips: bool = False
    prepares: bool = False
    uses: Uses = lambda machine: ()
    idle: Callable[[MachineFile], str] = lambda machine: ""
    asks: Callable[[Any], bool] = lambda aim: False
    by_hand: bool = False
    facts: FactsOf = lambda machine, aim: ()
    lasts: Lasts | None = None
    after: str = ""
    heaters: Callable[[MachineFile], tuple[str, ...]] = lambda machine: ()

    def declared(self) -> tuple[Declaration, ...]:
        """The parameters as declarations."""
        return tuple(declarations(self.parameters))

    def stream(self, name: str) -> Stream:
        """A declared stream.

        Raises:
            KeyError: it is not declared.
        """
        for stream in self.streams:
            if stream.name == name:
                return stream
        raise KeyError(f"{self.name} declares no stream “{name}”")

    def subject(self, parameters: Mapping[str, Any]) -> dict[str, str]:
        """What a run with these parameters is about: its heater, for trials that are done for one."""
        return {"heater": str(parameters["heater"])} if "heater" in parameters else {}
