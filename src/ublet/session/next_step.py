"""The most useful thing to do next, and why: from where the stations stand, in the order of the route."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.route import ROUTE, Station, StationState, stands_on
from ublet.session.session import Session

NO_STEP = ("control", "ledger", "compare", "restore", "report")
"""Benches that are there for whoever wants them, and no step of the work."""


@dataclass(frozen=True)
class NextStep:
    """What to do next. key: what does it, when it is no station; station: where it is done, else; trial and heater:
    which of its trials, where that decides.
    """

    words: str
    why: str
    station: Station | None = None
    key: str = ""
    trial: str = ""
    heater: str = ""


def next_step(session: Session, standings: Mapping[str, StationState]) -> NextStep | None:
    """The next step; None while a trial runs, and when everything that is built is proven and saved."""
    if session.runner.running is not None:
        return None
    connection = session.connection
    if connection.linked and connection.state.mode != "ready":
        return NextStep("release the board", f"it is {connection.state.mode}, and does nothing until then", key="r")
    wanted = _wanted(standings)
    unsaved = len(session.unsaved()) if connection.linked else 0
    if unsaved and not _unverified(standings, wanted):
        them = "1 kept value is" if unsaved == 1 else f"{unsaved} kept values are"
        return NextStep("save", f"{them} lost at power-off", key="ctrl+s")
    if wanted is None:
        return None
    standing = standings[wanted.name]
    return NextStep(wanted.name, _why(wanted, standing), wanted, trial=standing.trial, heater=standing.heater)


def _wanted(standings: Mapping[str, StationState]) -> Station | None:
    """The earliest station that is not proven; one that is stale, and on which none of those stands that come next,
    waits until they are done: what they find may make it stale again.
    """
    left = [step for step in _steps() if standings[step.name].state not in ("proven", "waiting")]
    stale = [step for step in left if standings[step.name].state == "stale" and step.trials]
    undone = next((step for step in left if step not in stale), None)
    if undone is None:
        return next(iter(left), None)
    before = stands_on(undone.name, ("hotend", "bed"))
    return next((step for step in stale if step in before), undone)


def _steps() -> list[Station]:
    return [station for station in ROUTE if station.bench not in NO_STEP]


def _unverified(standings: Mapping[str, StationState], wanted: Station | None) -> bool:
    """Whether something was kept that is not checked yet: that comes before it is saved. A stale station that waits for
    later keeps nothing from being saved.
    """
    if wanted is not None and standings[wanted.name].state == "stale":
        return True
    return any(standing.state == "failed" or standing.figure == "unverified" for standing in standings.values())


def _why(station: Station, standing: StationState) -> str:
    """Why this one: the reason of its standing, or what is not known before it was done."""
    if standing.state == "open" and not standing.reason:
        own = standing.trial.replace("-", " ")
        if standing.figure and own and own != station.name:
            return f"{own} is not done yet"
        return f"it is not done yet: {station.purpose}"
    reason = standing.reason.split(". ")[0].rstrip(".")
    return {"failed": f"it failed: {reason}", "stale": reason}.get(standing.state, reason)
