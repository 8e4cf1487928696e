"""What bounds a heater's temperature: its components, the sheets on a bed, and the range of its sensor."""

from __future__ import annotations

from ublet.core.heat.curves import OPEN_RATIO, SHORT_RATIO, SensorCurve, curve_of
from ublet.core.heat.references import resolution_c
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import flatten

COARSEST_C = 3.0
"""Hotter than where one count of the ADC is so many degrees a sensor is not believed, °C."""

USUAL_BITS = 12
HOTTEST_C, STEP_C = 600, 5
SENSOR = "range of its sensor"


def part_limits(machine: MachineFile, heater: str, adc_bits: int = USUAL_BITS) -> dict[str, float]:
    """The highest temperature that each part of a heater stands, °C: declared parts, a bed's sheets, its sensor."""
    declared = machine.heaters[heater]
    limits = {name: limit.celsius for name, limit in declared.limits.items()}
    if declared.part == "bed" and machine.bed is not None:
        limits |= {f"{name} sheet": sheet.maximum_c for name, sheet in machine.bed.surfaces.items()}
    sensor = machine.sensors.get(declared.sensor)
    if sensor is not None:
        try:
            limits[SENSOR] = sensor_range(curve_of(flatten(sensor.model_dump())), adc_bits)
        except ValueError:
            pass  # a sensor without a curve is named by the check
    return limits


def sensor_range(curve: SensorCurve, adc_bits: int) -> float:
    """The highest temperature that a sensor shows, °C: off the rails, and no coarser than 3 °C a count."""
    for celsius in range(HOTTEST_C, 0, -STEP_C):
        try:
            ratio, coarse = curve.ratio(celsius), resolution_c(curve, celsius, 2**adc_bits - 1)
        except (ValueError, ZeroDivisionError, OverflowError):
            continue
        if 2 * SHORT_RATIO < ratio < OPEN_RATIO and coarse <= COARSEST_C:
            return float(celsius)
    return 0.0


def lowest_limit(maximum_c: float, limits: dict[str, float]) -> tuple[float, str]:
    """The highest temperature that all parts stand, °C, and which part that is (empty: the heater's own maximum)."""
    name = min(limits, key=lambda limit: limits[limit], default="")
    if name and limits[name] < maximum_c:
        return limits[name], name
    return maximum_c, ""
