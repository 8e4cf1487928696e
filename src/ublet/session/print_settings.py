"""What the program that makes prints must know of a machine, with what is not proven yet marked: as a text or JSON."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from ublet.core.machine.effective import effective
from ublet.core.machine.layouts import AXES
from ublet.core.machine.schema import MachineFile
from ublet.core.route import station_named
from ublet.core.settings import Value
from ublet.core.typed import shown_value
from ublet.session.document import Document
from ublet.session.print_order import END, START, steps_of, written
from ublet.session.session import Session
from ublet.session.standings import standing


@dataclass(frozen=True)
class PrintSetting:
    """One thing to enter there: its group, words, value, unit, and the station that proves it (empty: none does).

    proven: whether that station holds; None where nothing is to be proven.
    """

    group: str
    words: str
    value: Value
    unit: str = ""
    station: str = ""
    proven: bool | None = None


def print_settings(document: Document, session: Session | None) -> tuple[PrintSetting, ...]:
    """All of them. session: of the machine, where it has a ledger; without one nothing is proven."""
    known: dict[str, bool] = {}

    def proven(station: str) -> bool | None:
        if not station:
            return None
        if station not in known:
            known[station] = session is not None and standing(session, station_named(station)).state == "proven"
        return known[station]

    return tuple(
        PrintSetting(group, words, value, unit, station, proven(station))
        for group, words, value, unit, station in _rows(document.machine)
        if value is not None
    )


def _rows(machine: MachineFile) -> Iterator[tuple[str, str, Value, str, str]]:
    values, extruder = effective(machine), machine.extruder
    bed = machine.bed
    yield "machine", "name", machine.machine.name, "", ""
    yield "bed", "width (X)", bed.width_mm, "mm", "travel limits"
    yield "bed", "depth (Y)", bed.depth_mm, "mm", "travel limits"
    yield "bed", "height (Z)", machine.axes.z.maximum_mm, "mm", "travel limits"
    yield "bed", "origin", "front left corner", "", ""
    if extruder is not None:
        yield "nozzle and filament", "nozzle", extruder.nozzle_mm, "mm", ""
        yield "nozzle and filament", "filament", extruder.filament_mm, "mm", ""
        yield "nozzle and filament", "extruder steps measured", bool(extruder.steps_per_mm), "", "extruder steps"
        yield "retraction", "length", extruder.retract_mm, "mm", "retraction"
        yield "retraction", "speed", extruder.retract_mm_s, "mm/s", ""
        yield "retraction", "pressure advance", extruder.advance_s, "s", "advance"
    for axis in AXES:
        root = f"axes.{axis}"
        yield "limits", f"{axis.upper()} speed", values.get(f"{root}.maximum_feed_mm_s"), "mm/s", "speed limits"
        yield (
            "limits",
            f"{axis.upper()} acceleration",
            values.get(f"{root}.acceleration_mm_s2"),
            "mm/s²",
            "speed limits",
        )
    gentle = values.get("motion.print_acceleration_mm_s2")
    yield "limits", "acceleration while printing", gentle or None, "mm/s²", "acceleration"
    for axis in ("x", "y"):
        shaper = values.get(f"axes.{axis}.shaper.kind")
        yield "limits", f"{axis.upper()} input shaper", shaper, "", "input shaper"
    for name, material in machine.materials.items():
        group = f"material {name}"
        yield group, "nozzle", material.nozzle_c, "°C", "hotend control"
        yield group, "bed", material.bed_c, "°C", "bed control"
        yield group, "part fan", material.fan, "of 1", ""
        for words, measured, unit, station in (
            ("largest flow", material.largest_flow_mm3_s, "mm³/s", "flow limit"),
            ("pressure advance", material.advance_s, "s", "advance"),
            ("retraction", material.retract_mm, "mm", "retraction"),
            ("shrinkage", material.shrinks_percent, "%", ""),
        ):
            known = measured is not None
            yield group, words, measured if known else "not measured", unit if known else "", station
    yield "first layer", "height over the bed", "by the Z offset", "", "first layer"


def settings_text(document: Document, session: Session | None) -> str:
    """As one text: groups, a line each; ○ stands before what is not proven yet. Then how a print begins and ends."""
    lines: list[str] = [f"What the program that makes prints must know of {document.machine.machine.name}", ""]
    group = ""
    for item in print_settings(document, session):
        if item.group != group:
            lines += ([""] if group else []) + [item.group]
            group = item.group
        mark = {True: "●", False: "○", None: " "}[item.proven]
        missing = f"   not proven yet: station {item.station}" if item.proven is False else ""
        lines.append(f"  {mark} {item.words:<30}{f'{shown_value(item.value)} {item.unit}'.rstrip():>18}{missing}")
    for which in (START, END):
        lines += ["", which, *written(document, which, steps_of(document, which, session)).rstrip().split("\n")]
    return "\n".join(lines) + "\n"


def settings_json(document: Document, session: Session | None) -> dict[str, Any]:
    """The same for a program."""
    return {
        "machine": document.machine.machine.name,
        "settings": [
            {
                "group": item.group,
                "name": item.words,
                "value": item.value,
                "unit": item.unit,
                "station": item.station or None,
                "proven": item.proven,
            }
            for item in print_settings(document, session)
        ],
        "start": written(document, START, steps_of(document, START, session)),
        "end": written(document, END, steps_of(document, END, session)),
    }
