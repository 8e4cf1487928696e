"""Materials as rows: declared values, measured values with their run and its validity, the one that is loaded."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

from ublet.core.facts import fact_from
from ublet.core.settings import Value
from ublet.ledger.entries import RunEntry
from ublet.session.saving import now
from ublet.session.session import Session

FOUND: Mapping[str, str] = {
    "largest_flow_mm3_s": "flow limit",
    "advance_s": "advance",
    "retract_mm": "retraction",
    "shrinks_percent": "test piece",
}
"""Values of a material that a station finds, with the station."""

DECLARED = ("nozzle_c", "bed_c", "fan", "soft", "least_nozzle_c", "on_display")
LOADED = "material"
NAME = re.compile(r"[a-z][a-z0-9_-]*")


class MaterialError(ValueError):
    """A row cannot be copied so; the message says why."""


@dataclass(frozen=True)
class MaterialValue:
    """A value of a material: the station that finds it (empty: it is declared), the run that found it, why it does not
    hold (empty: it holds), and the material that it was copied from (empty: it is its own).
    """

    value: Value
    station: str = ""
    run: int | None = None
    why_not: str = ""
    copied_from: str = ""


@dataclass(frozen=True)
class MaterialRow:
    """A material with its values by their keys. loaded: it is the one in use."""

    name: str
    loaded: bool
    values: Mapping[str, MaterialValue]


def loaded_material(session: Session) -> str:
    """The material that is in use: the one that was reported last, else the first; empty: there is none."""
    names = list(session.machine_now.materials)
    fact = next((of for of in session.ledger.facts_in_force() if of.kind == LOADED), None)
    return fact.value if fact is not None and fact.value in names else next(iter(names), "")


def use_material(session: Session, name: str) -> None:
    """Report that a material is loaded.

    Raises:
        LedgerError: it cannot be entered.
    """
    session.ledger.report_fact(replace(fact_from(session.document.machine, LOADED, name), at=now()))


def material_rows(session: Session) -> list[MaterialRow]:
    """Every material, in the order of the machine file."""
    loaded, rows = loaded_material(session), []
    for name, material in session.machine_now.materials.items():
        values = {key: MaterialValue(getattr(material, key)) for key in DECLARED}
        for key, station in FOUND.items():
            values[key] = _found(session, name, key, getattr(material, key), station, material.copied_from)
        rows.append(MaterialRow(name, name == loaded, values))
    return rows


def _found(session: Session, name: str, key: str, value: Value, station: str, copied_from: str) -> MaterialValue:
    """A value with the run that it comes from: the one that proposed what stands there now."""
    if value is None:
        return MaterialValue(None, station)
    path = f"materials.{name}.{key}"
    change = session.ledger.last_change(path)
    entry = session.ledger.run(change.run) if change is not None and change.run is not None else None
    if entry is None or not _proposed(entry, path, value):
        return MaterialValue(value, station, copied_from=copied_from)
    return MaterialValue(value, station, entry.id, "; ".join(session.presence.reasons(entry.rests)))


def _proposed(entry: RunEntry, path: str, value: Value) -> bool:
    return any(
        proposal.setting == path and proposal.after == value
        for option in entry.result.options
        for proposal in option.proposals
    )


def why_no_name(session: Session, new: str) -> str | None:
    """Why a new spool cannot be called so; None: it can."""
    machine = session.draft.checked.machine or session.document.machine
    if new in machine.materials:
        return f"there is a material “{new}” already: give the new spool another name"
    if not NAME.fullmatch(new):
        return f"“{new}” is no name: small letters, digits, - and _, and a letter first"
    return None


def copy_material(session: Session, name: str, new: str) -> None:
    """A row for a new spool, in the draft of the machine file: what was found of the other is marked as that one's.

    Raises:
        MaterialError: the new spool cannot be called so, or the material is not there.
    """
    if name not in session.machine_now.materials:
        raise MaterialError(f"there is no material “{name}”")
    if (why := why_no_name(session, new)) is not None:
        raise MaterialError(why)
    own = session.machine_now.materials[name]
    values: dict[str, Value] = {
        f"materials.{new}.{key}": getattr(own, key) for key in (*DECLARED, *FOUND) if getattr(own, key) is not None
    }
    values[f"materials.{new}.copied_from"] = own.copied_from or name
    session.draft.set_all(values)
