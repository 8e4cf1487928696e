"""Facts: what the builder says happened at the machine, and that no sensor can show."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile
from ublet.core.trouble import Trouble


class FactError(Trouble):
    """A fact cannot be reported; the message says what is allowed."""


@dataclass(frozen=True)
class FactKind:
    """A kind of fact. state: what counts is what it is now (a sheet put back on is the same sheet); otherwise each time
    it is reported something has changed. about: the parts that it can be reported for; none: the machine.
    """

    name: str
    words: str
    said: str
    why: str
    state: bool = False
    about: Callable[[MachineFile], tuple[str, ...]] | None = None

    def subjects(self, machine: MachineFile) -> tuple[str, ...]:
        """The parts it can be reported for; one empty word for the whole machine."""
        return self.about(machine) if self.about is not None else ("",)


def _belts(machine: MachineFile) -> tuple[str, ...]:
    return tuple(name for name in ("x", "y", "z") if getattr(machine.axes, name).drive == "belt")


def _screws(machine: MachineFile) -> tuple[str, ...]:
    return tuple(machine.bed.screws)


def _lifts(machine: MachineFile) -> tuple[str, ...]:
    return tuple(machine.axes.z.motors) if len(machine.axes.z.motors) > 1 else ()


FACTS: dict[str, FactKind] = {
    kind.name: kind
    for kind in (
        FactKind("nozzle", "the nozzle", "changed", "its mass, its hole and its length may differ"),
        FactKind("sock", "the sock of the hotend", "on", "it keeps the block's heat", state=True),
        FactKind("material", "the filament that is loaded", "another", "it melts and follows differently", state=True),
        FactKind("surface", "the sheet on the bed", "another", "it stores heat and has a shape of its own", state=True),
        FactKind("belt", "a belt", "tightened", "it moves its axis differently", about=_belts),
        FactKind("screw", "a screw of the bed", "turned", "the bed stands differently", about=_screws),
        FactKind("lift", "a lead screw", "turned by hand", "the bed or gantry stands differently", about=_lifts),
        FactKind(
            "switch", "a switch", "moved", "the axis ends elsewhere", about=lambda machine: tuple(machine.endstops)
        ),
        FactKind(
            "sensor",
            "a temperature sensor",
            "seated anew",
            "it reads its block differently",
            about=lambda machine: tuple(machine.sensors),
        ),
        FactKind("heater", "a heater", "changed", "it heats differently", about=lambda machine: tuple(machine.heaters)),
        FactKind("probe", "the probe's mount", "moved", "it triggers at another height and place"),
        FactKind("load", "what the head or the bed carries", "changed", "what moves is heavier or lighter"),
        FactKind("motors", "the motors", "without power", "lead screws that do not hold by themselves may have sunk"),
        FactKind("plugs", "plugs at the board", "moved", "any wire may be somewhere else"),
        FactKind("moved", "the machine", "transported", "everything adjusted may have shifted"),
    )
}
"""Every kind, by name."""


@dataclass(frozen=True)
class Fact:
    """A fact that was reported; id: its number in the ledger, 0 for none."""

    kind: str
    subject: str
    value: str
    at: str = ""
    id: int = 0

    @property
    def path(self) -> str:
        """Kind and subject: ``belt.x``, ``nozzle``."""
        return f"{self.kind}.{self.subject}" if self.subject else self.kind

    @property
    def words(self) -> str:
        """What happened: ``belt x: tightened``."""
        return f"{self.path.replace('.', ' ')}: {self.value}"

    @property
    def counts_as(self) -> str | int:
        """What is compared: what it is now, or which report it was; that, too, for a kind that this version lacks."""
        kind = FACTS.get(self.kind)
        return self.value if kind is not None and kind.state else self.id


def fact_from(machine: MachineFile, path: str, value: str | None) -> Fact:
    """A fact as reported: ``nozzle``, ``belt.x``; without a value what usually happens is meant.

    Raises:
        FactError: no such fact on this machine.
    """
    name, _, subject = path.strip().partition(".")
    kind = FACTS.get(name)
    if (
        kind is None
        or (kind.about is not None and subject not in kind.subjects(machine))
        or (not kind.about and subject)
    ):
        known = paths(machine)
        near = difflib.get_close_matches(path, list(known), 1, 0.4)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise FactError(f"no fact “{path}” on this machine; known: {', '.join(known)}.{hint}")
    said = " ".join((kind.said if value is None else value).split())
    if not said or len(said) > LONGEST:
        raise FactError(f"{path}: say what happened in 1 to {LONGEST} characters, for example “{kind.said}”")
    return Fact(name, subject, said)


LONGEST = 120


def paths(machine: MachineFile) -> Mapping[str, FactKind]:
    """Every fact that can be reported for a machine."""
    return {
        f"{name}.{subject}" if subject else name: kind
        for name, kind in FACTS.items()
        for subject in kind.subjects(machine)
    }
