"""The meshes that were taken, named by sheet and temperature: which is live, and which a print should load and why."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Point
from ublet.core.level.mesh.check_trials import Compared, compare
from ublet.core.level.mesh.live import CORRECTION, HEIGHTS, live_correction, live_mesh, mesh_settings, raised_at
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.run import Option, Proposal
from ublet.core.settings import Value, frozen
from ublet.core.trouble import Trouble
from ublet.ledger.entries import RunEntry
from ublet.session.session import Session

TRIALS = ("bed-mesh", "bed-mesh-by-hand")
NO_SHEET = "the sheet"
ROUND_C, NEAR_C = 5, 8.0
"""A name has its temperature to so many degrees; a mesh is taken for a print whose bed differs by less, °C."""

MOST = 12
OWN_NAME, OFF_LIST = "mesh name", "mesh off the list"
"""What a person notes of a mesh's run: a name of its own; that it is no longer offered."""

LONGEST_NAME = 24
SAME_MM = 1e-6


@dataclass(frozen=True)
class StoredMesh:
    """A mesh that a run found. bed_c: the bed then, None where nobody knows; reasons: why it no longer holds; u_mm: of
    one height.
    """

    run: int
    at: str
    surface: str
    bed_c: float | None
    mesh: Mesh
    u_mm: float
    reasons: tuple[str, ...]
    live: bool
    own_name: str = ""

    @property
    def name(self) -> str:
        """The builder's own, else sheet and temperature: ``smooth, 60 °C``."""
        return self.own_name or self.usual_name

    @property
    def usual_name(self) -> str:
        """Sheet and temperature."""
        warm = "as warm as it was" if self.bed_c is None else f"{ROUND_C * round(self.bed_c / ROUND_C):g} °C"
        return f"{self.surface or NO_SHEET}, {warm}"


def taken(session: Session) -> tuple[StoredMesh, ...]:
    """Meshes of proven runs, the newest first; not those that were taken off the list."""
    off, names = session.ledger.marks(OFF_LIST), session.ledger.marks(OWN_NAME)
    entries = [run for trial in TRIALS for run in session.ledger.runs(trial, "proven", most=MOST)]
    live = live_mesh(session.live)
    newest = sorted((entry for entry in entries if entry.id not in off), key=lambda entry: -entry.id)
    meshes = [_taken(session, entry, live, names.get(entry.id, "")) for entry in newest]
    return tuple(mesh for mesh in meshes if mesh is not None)[:MOST]


class NothingLive(Trouble):
    """There is no mesh that could be changed."""


def rename(session: Session, mesh: StoredMesh, name: str) -> None:
    """Give a mesh a name of one's own; empty: sheet and temperature again.

    Raises:
        LedgerError.
    """
    session.ledger.mark(mesh.run, OWN_NAME, " ".join(name.split())[:LONGEST_NAME])


def take_off(session: Session, mesh: StoredMesh, back: bool = False) -> None:
    """Offer a mesh no longer, or again; its run stays in the ledger.

    Raises:
        LedgerError.
    """
    session.ledger.mark(mesh.run, OFF_LIST, "" if back else "yes")


def none_live(session: Session) -> Option:
    """What makes no mesh the live one, until one is loaded or the board starts anew with what it has stored."""
    effect = "Z follows no mesh: the bed is taken as flat"
    return Option("no mesh", "none", (Proposal(HEIGHTS, session.live(HEIGHTS), (), "mm", effect),), {})


def raising(session: Session, place: Point, by_mm: float) -> Option:
    """What raises the nozzle by a height over the live mesh's point nearest to a place, as a correction.

    Raises:
        NothingLive: no mesh is live.
    """
    mesh = live_mesh(session.live)
    if mesh is None:
        raise NothingLive("No mesh is live: keep the one that was probed, or load one (m), then raise or lower it.")
    heights = raised_at(place, by_mm, mesh, live_correction(session.live, mesh))
    after = tuple(tuple(float(mm) for mm in row) for row in heights)
    effect = f"the nozzle stands {abs(by_mm):g} mm {'higher' if by_mm > 0 else 'lower'} there"
    return Option(
        "by hand", "print again to see it", (Proposal(CORRECTION, session.live(CORRECTION), after, "mm", effect),), {}
    )


def correction_at(session: Session, place: Point) -> float:
    """What the live correction adds at the live mesh's point nearest to a place, mm; 0 where there is none."""
    mesh = live_mesh(session.live)
    laid = live_correction(session.live, mesh) if mesh is not None else None
    if mesh is None or laid is None:
        return 0.0
    row, column = mesh.cell(place)
    return float(laid.over([mesh.x[column]], [mesh.y[row]])[0, 0])


def _taken(session: Session, entry: RunEntry, live: Mesh | None, own_name: str) -> StoredMesh | None:
    began = session.ledger.opening(entry.id).get("live", {})
    values: dict[str, Value] = {path: frozen(value) for path, value in began.items()}
    values |= {proposal.setting: proposal.after for proposal in entry.result.proposals}
    mesh = live_mesh(values.get)
    if mesh is None:
        return None
    sheet = next((str(rest.value) for rest in entry.rests if (rest.kind, rest.path) == ("fact", "surface")), "")
    rms = entry.result.finding("rms")
    return StoredMesh(
        entry.id,
        entry.at,
        "" if sheet in ("0", "") else sheet,
        _bed_c(session, entry.result.conditions),
        mesh,
        rms.uncertainty if rms is not None and rms.uncertainty else 0.0,
        session.presence.reasons(entry.rests),
        live is not None and _same(mesh, live),
        own_name,
    )


def _bed_c(session: Session, conditions: Mapping[str, Value]) -> float | None:
    """How warm the bed was."""
    for name, heater in session.document.machine.heaters.items():
        celsius = conditions.get(f"{name}_c")
        if heater.part == "bed" and isinstance(celsius, (int, float)):
            return float(celsius)
    return None


def _same(one: Mesh, other: Mesh) -> bool:
    """Whether two meshes are one and the same."""
    return one.heights.shape == other.heights.shape and bool(np.allclose(one.heights, other.heights, atol=SAME_MM))


def at_start(session: Session, known: tuple[StoredMesh, ...], material: str = "") -> tuple[StoredMesh | None, str]:
    """The mesh that a print of a material (the first one where none is named) should load now, and why; None: none
    fits.
    """
    machine = session.document.machine
    name = material or next(iter(machine.materials), "")
    row = machine.materials.get(name)
    wanted = row.bed_c if row is not None else None
    fact = session.ledger.fact("surface")
    sheet = "" if fact.id == 0 else fact.value
    here = [stored for stored in known if stored.surface == sheet]
    where = f"on {sheet or NO_SHEET}"
    if not here:
        return None, f"none was taken {where}: probe one"
    near = [
        stored_mesh
        for stored_mesh in here
        if wanted is None or stored_mesh.bed_c is None or abs(stored_mesh.bed_c - wanted) <= NEAR_C
    ]
    if not near:
        warm = ", ".join(f"{stored_mesh.bed_c:.0f}" for stored_mesh in here if stored_mesh.bed_c is not None)
        return None, f"none was taken {where} near {name}'s {wanted:g} °C (only at {warm}): probe one as warm"
    holds = [neighbour for neighbour in near if not neighbour.reasons]
    if not holds:
        return None, f"“{near[0].name}” no longer holds: {near[0].reasons[0]}"
    best = holds[0]
    warm = f", within {NEAR_C:g} °C of {name}'s bed" if wanted is not None else ""
    return best, f"“{best.name}”: the newest {where}{warm}, and nothing that it rests on has changed"


def loading(session: Session, chosen: StoredMesh) -> Option:
    """What makes a mesh the live one."""
    effect = f"Z follows “{chosen.name}” from now on"
    proposals = tuple(
        Proposal(path, session.live(path), after, unit, effect) for path, after, unit in mesh_settings(chosen.mesh)
    )
    return Option(chosen.name, "loaded", proposals, {})


def compared(one: StoredMesh, other: StoredMesh) -> Compared:
    """One mesh less another, with what is significant of it.

    Raises:
        ValueError: they have too few points in common.
    """
    spread = max(one.u_mm, other.u_mm)
    return compare(one.mesh, other.mesh, spread or None)


def difference_words(one: StoredMesh, other: StoredMesh, comparison: Compared) -> str:
    """What a difference between two meshes may mean."""
    difference = "the same within what they scatter" if comparison.verdict == "same" else comparison.words
    warmer = (one.bed_c or 0.0) - (other.bed_c or 0.0)
    if comparison.verdict == "same":
        return difference
    if one.surface != other.surface:
        return f"{difference}. Another sheet lies there."
    if abs(warmer) > NEAR_C:
        return (
            f"{difference}. One was taken {abs(warmer):.0f} °C {'warmer' if warmer > 0 else 'colder'}: the bed's bow."
        )
    meaning = {
        "shift": "The sheet, the nozzle or the probe's mount",
        "tilt": "A knock, or a screw that moved",
        "shape": "A worn or badly laid sheet, or a knock",
    }
    return f"{difference}. {meaning[comparison.verdict]}, since they were as warm."
