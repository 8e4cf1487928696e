"""The machines that were opened on this computer: where each stands, what is next, and where one is that was moved."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from ublet.core.route import StationState, station_named
from ublet.core.trouble import Trouble
from ublet.session.next_step import NO_STEP, next_step
from ublet.session.places import Recent, forget, recent_machines, remember
from ublet.session.session import beside_ledger
from ublet.session.standings import standings

SQLITE_HEAD, IDENTITY_AT = b"SQLite format 3\x00", 68
"""How a ledger's file begins, and where the number stands that it bears (SQLite's application id, big-endian)."""

NEAR_LEVELS = 2
"""Levels of folders above and below its former place in which a moved machine is looked for."""


@dataclass(frozen=True)
class KnownMachine:
    """A machine on the list. proven of needed stations; trouble: why nothing more is known of it (empty: it is);
    moved_from: where it was, when it was found elsewhere.
    """

    file: Path
    port: str | None
    at: str
    name: str = ""
    proven: int = 0
    needed: int = 0
    stale: int = 0
    next: str = ""
    trouble: str = ""
    moved_from: str = ""

    def as_json(self) -> dict[str, object]:
        """As `ublet machines --json` prints it."""
        return {**asdict(self), "file": str(self.file)}


def known_machines() -> list[KnownMachine]:
    """All of them, the last one first."""
    return [_looked_at(_found(recent)) for recent in recent_machines()]


def _found(recent: Recent) -> tuple[Recent, str]:
    """Where a machine is now, and where it was before when it was moved: by the number that its ledger bears."""
    if recent.file.exists() or not recent.ledger:
        return recent, ""
    for ledger in _ledgers_near(recent.file.parent):
        file = ledger.with_suffix(".toml")
        if identity_of(ledger) == recent.ledger and file.exists():
            moved = replace(recent, file=file.absolute())
            forget(recent.file)
            remember(moved.file, moved.port, moved.at, moved.ledger)
            return moved, str(recent.file)
    return recent, ""


def _ledgers_near(folder: Path) -> Iterator[Path]:
    top = folder
    for _ in range(NEAR_LEVELS):
        top = top.parent if top.parent != top else top
    while not top.is_dir() and top != top.parent:
        top = top.parent
    for depth in range(NEAR_LEVELS + 2):
        yield from sorted(top.glob("/".join(["*"] * depth + ["*.ledger"])))


def identity_of(ledger: Path) -> int:
    """The number that a ledger bears; 0: it is none, or bears none."""
    try:
        with ledger.open("rb") as file:
            head = file.read(100)
    except OSError:
        return 0
    if len(head) < IDENTITY_AT + 4 or not head.startswith(SQLITE_HEAD):
        return 0
    number: int = struct.unpack_from(">I", head, IDENTITY_AT)[0]
    return number


def _looked_at(where: tuple[Recent, str]) -> KnownMachine:
    recent, moved_from = where
    known = KnownMachine(recent.file, recent.port, recent.at, recent.file.stem, moved_from=moved_from)
    if not recent.file.exists():
        return replace(known, trouble="its file is not there any more")
    try:
        with beside_ledger(recent.file) as session:
            if session is None:
                return replace(known, next="nothing was done on it yet")
            now = standings(session)
            needed = {name: one for name, one in now.items() if not one.idle and _is_step(name)}
            linked = {name: one if _is_step(name) else StationState("proven") for name, one in now.items()}
            step = next_step(session, linked)
            return replace(
                known,
                name=session.document.machine.machine.name,
                proven=sum(1 for one in needed.values() if one.state == "proven"),
                needed=len(needed),
                stale=sum(1 for one in needed.values() if one.state == "stale"),
                next=step.words if step is not None else "nothing is left to do",
            )
    except Trouble as error:
        return replace(known, trouble=str(error).partition("\n")[0])


def _is_step(name: str) -> bool:
    """Whether a station can stand in question while no board is linked."""
    station = station_named(name)
    return station.bench not in NO_STEP and station.bench not in ("write", "port")
