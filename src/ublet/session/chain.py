"""What a trial stands on: the stations before it and the bed's warmth, each with its state, as one checklist."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from ublet.core.level.warmth import WarmUp, wanted
from ublet.core.machine.schema import MachineFile
from ublet.core.route import Condition, Station, stands_on, station_named
from ublet.core.run import TrialFailed
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.core.words import several
from ublet.session.meshes import at_start, taken
from ublet.session.session import Session
from ublet.session.standings import standing

UNMET: dict[Condition, str] = {
    "open": "not done yet",
    "failed": "failed",
    "stale": "stale",
    "waiting": "not possible yet",
    "running": "running",
}


MESH = station_named("bed mesh")


@runtime_checkable
class Printed(Protocol):
    """Parameters of what is printed of a material, or warmed as for it."""

    material: str


@dataclass(frozen=True)
class ChainLink:
    """One station that a trial stands on, where it stands, and why it does not hold (empty: it does)."""

    station: Station
    state: Condition
    reason: str = ""

    @property
    def met(self) -> bool:
        """Whether it holds."""
        return self.state == "proven"

    @property
    def words(self) -> str:
        """Its name, and what is missing."""
        return self.station.name if self.met else f"{self.station.name}: {UNMET[self.state]}"


def chain(session: Session, spec: TrialSpec, aim: Part) -> tuple[ChainLink, ...]:
    """The stations that a trial stands on with these parameters, in the order of the route; those for which this
    machine has no need are left out, and other trials of its own station.
    """
    links = []
    for station in stands_on(spec.station, heated_parts(session.machine_now, aim), spec.after):
        state = standing(session, station)
        if state.state != "waiting":
            links.append(ChainLink(station, state.state, state.reason))
    if isinstance(aim, Printed):
        links = [_with_its_mesh(session, link, aim.material) if link.station == MESH else link for link in links]
    return tuple(links)


def _with_its_mesh(session: Session, link: ChainLink, material: str) -> ChainLink:
    """The bed mesh, for a print of a material (empty: the first): the live one must be of its sheet and as warm."""
    if not link.met:
        return link
    best, why = at_start(session, taken(session), material)
    if best is None:
        return ChainLink(link.station, "stale", why)
    return link if best.live else ChainLink(link.station, "stale", f"“{best.name}” is for it and not live: load it (m)")


def heated_parts(machine: MachineFile, aim: Part) -> tuple[str, ...]:
    """What a levelling trial heats with these parameters; nothing where it heats by its nature, or cannot."""
    if not isinstance(aim, WarmUp):
        return ()
    try:
        return tuple(machine.heaters[heater].part for heater in wanted(machine, aim))
    except TrialFailed:
        return ()


def unmet_words(links: Sequence[ChainLink]) -> str:
    """What does not hold, as it is noted with a run that was started nevertheless; empty: everything does."""
    return several([link.words for link in links if not link.met])
