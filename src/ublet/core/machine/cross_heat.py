"""Contradictions between sensors, heaters and materials."""

from __future__ import annotations

import math
from collections.abc import Iterator

from ublet.core.heat.curves import GENERIC, curve_of
from ublet.core.heat.part_limits import SENSOR, USUAL_BITS, lowest_limit, part_limits
from ublet.core.machine.checked import CheckContext
from ublet.core.machine.problem import Problem, nearest
from ublet.core.settings import flatten

PULLUP_FRACTION = 0.02


def sensors_checked(c: CheckContext) -> Iterator[Problem]:
    """Each sensor has what its kind needs, and the pull-up of its socket."""
    for name, sensor in c.machine.sensors.items():
        root = f"sensors.{name}"
        if sensor.kind == "curve" and sensor.curve not in GENERIC:
            near = nearest(sensor.curve or "", list(GENERIC))
            mend = f"Did you mean “{near[0]}”?" if near else "Name a generic curve, or give another kind."
            yield c.problem(f"{root}.curve", repr(sensor.curve), ", ".join(GENERIC), mend)
        elif sensor.kind != "curve":
            try:
                curve_of(flatten(sensor.model_dump()))
            except ValueError as error:
                needs = {
                    "beta": "r25_ohm and beta_k",
                    "platinum": "r0_ohm",
                    "points": f"three [{root}.points.NAME]",
                    "steinhart": "steinhart_a, steinhart_b, steinhart_c",
                }
                yield c.problem(
                    f"{root}.kind",
                    f"{sensor.kind}, but {error}",
                    f"{needs[sensor.kind]} with this kind",
                    "Add what is missing, or give another kind.",
                )
        socket = c.board.sockets.get(sensor.socket) if c.board else None
        if socket and socket.pullup_ohm and abs(sensor.pullup_ohm / socket.pullup_ohm - 1) > PULLUP_FRACTION:
            yield c.problem(
                f"{root}.pullup_ohm",
                f"{sensor.pullup_ohm:g} Ω",
                f"{socket.pullup_ohm:g} Ω, the pull-up of socket {sensor.socket}",
                "Write the board's own, unless you changed the resistor.",
                "warning",
            )


def heaters_checked(c: CheckContext) -> Iterator[Problem]:
    """No maximum above what a component stands; gain sets and preheats below the maximum."""
    for name, heater in c.machine.heaters.items():
        root = f"heaters.{name}"
        bits = c.board.adc_bits if c.board is not None else USUAL_BITS
        least, weakest = lowest_limit(heater.maximum_c, part_limits(c.machine, name, bits))
        if weakest:
            where = f" (line {c.line(f'{root}.limits.{weakest}')})" if weakest in heater.limits else ""
            yield c.problem(
                f"{root}.maximum_c",
                f"{heater.maximum_c:g} °C",
                f"at most {least:g} °C, the limit of its {weakest}{where}"
                if weakest != SENSOR
                else f"at most {least:g} °C, the {SENSOR}: above that it cannot be measured",
                "Lower the maximum, or correct the component's limit.",
            )
        for label, gains in heater.gains.items():
            if gains.at_c > heater.maximum_c:
                yield c.problem(
                    f"{root}.gains.{label}.at_c",
                    f"{gains.at_c:g} °C",
                    f"at most the heater's maximum, {heater.maximum_c:g} °C (line {c.line(f'{root}.maximum_c')})",
                    "Correct the one or the other.",
                )
    homing = c.machine.axes.z.homing
    for key, part in (("preheat_nozzle_c", "hotend"), ("preheat_bed_c", "bed")):
        wanted = getattr(homing, key)
        limits = [heater.maximum_c for heater in c.machine.heaters.values() if heater.part == part]
        if wanted is not None and (not limits or wanted > max(limits)):
            allowed = (
                f"at most the {part}'s maximum, {max(limits):g} °C" if limits else f"nothing: no {part} is declared"
            )
            yield c.problem(f"axes.z.homing.{key}", f"{wanted:g} °C", allowed, "Lower it or leave it out.")


LEAST_LIMIT = 0.1
"""No lower power limit is proposed."""

FOR_HEATERS = 0.85
"""Fraction of the supply's watts that all heaters together may take; the rest is for motors, fans and the board."""


def supply_checked(c: CheckContext) -> Iterator[Problem]:
    """All heaters at once within what the supply gives."""
    supply = c.machine.supply
    if supply is None:
        return
    takes = {name: heater.watts * heater.power_limit for name, heater in c.machine.heaters.items() if heater.watts}
    whole, allowed = sum(takes.values()), FOR_HEATERS * supply.watts
    if whole <= allowed:
        return
    largest = max(takes, key=lambda name: takes[name])
    left = allowed - (whole - takes[largest])
    limit = math.floor(100 * left / (c.machine.heaters[largest].watts or 1.0)) / 100
    lower = f"lower heaters.{largest}.power_limit to {limit:g}, " if limit >= LEAST_LIMIT else ""
    yield c.problem(
        "supply.watts",
        f"{supply.watts:g} W, and all heaters at once take {whole:.0f}",
        f"heaters that take at most {allowed:.0f} W together, {100 * FOR_HEATERS:.0f} % of it",
        f"Take a supply of {math.ceil(whole / FOR_HEATERS):d} W, {lower}or give one of them a supply of its own "
        "(watts = 0).",
        "error" if whole > supply.watts else "warning",
    )


DISPLAY_ROWS = {"text": 6, "graphic": 12}
"""Number of materials that a display's list has room for."""


def display_checked(c: CheckContext) -> Iterator[Problem]:
    """More materials than the machine's own display has room for."""
    display = c.machine.display
    offered = [name for name, material in c.machine.materials.items() if material.on_display]
    if display is not None and len(offered) > (most := DISPLAY_ROWS[display.kind]):
        yield c.problem(
            f"materials.{offered[most]}.on_display",
            f"{len(offered)} materials on a {display.kind} display",
            f"at most {most}",
            "Set on_display = false for those that are seldom printed.",
            "warning",
        )


def materials_checked(c: CheckContext) -> Iterator[Problem]:
    """Materials that the heaters or surfaces cannot stand."""
    hotends = [heater.maximum_c for heater in c.machine.heaters.values() if heater.part == "hotend"]
    beds = [heater.maximum_c for heater in c.machine.heaters.values() if heater.part == "bed"]
    for name, material in c.machine.materials.items():
        for key, wanted, limits in (("nozzle_c", material.nozzle_c, hotends), ("bed_c", material.bed_c, beds)):
            if limits and wanted > max(limits):
                yield c.problem(
                    f"materials.{name}.{key}",
                    f"{wanted:g} °C",
                    f"at most the heater's maximum, {max(limits):g} °C",
                    "Lower it; the board would refuse this target.",
                    "warning",
                )
