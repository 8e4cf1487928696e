"""Whether filament may be pushed: only where it melts."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.settings import Value
from ublet.firmware.live_values import LiveValues, number_in

HeatOf = Callable[[str], tuple[float | None, float | None]]
"""A heater's temperature and target, °C."""


def why_too_cold(live: LiveValues, heat_of: HeatOf, on_its_way: bool = False) -> str:
    """Why filament cannot be pushed; empty: it can.

    on_its_way: a hotend that heats to where it may be will do, since it is asked again when the pushing begins.
    """
    least = number_in(live, "extruder.least_c")
    heater = next((path.split(".")[1] for path, value in live.items() if _is_hotend(path, value)), "")
    if not heater:
        return ""
    celsius, target = heat_of(heater)
    if (celsius is not None and celsius >= least) or (on_its_way and target is not None and target >= least):
        return ""
    reading = "does not read" if celsius is None else f"is at {celsius:.0f} °C"
    return f"the {heater} {reading}: filament is pushed from {least:g} °C on"


def _is_hotend(path: str, value: Value) -> bool:
    return path.startswith("heaters.") and path.endswith(".part") and value == "hotend"
