"""What would burn a hand now, by the readings of this moment and never by what a trial meant to heat."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.machine.schema import MachineFile
from ublet.core.words import several

BURNS_C = 50.0
"""Hotter than this a part is named before a hand comes near it, °C: metal hurts within seconds from about there on."""


def hot_words(machine: MachineFile, celsius_of: Callable[[str], float | None]) -> str:
    """The heated parts above ``BURNS_C``, by their sensors' readings, °C; empty: none is.

    A sensor that does not read is no sign of a cold part: it is named, too.
    """
    hot, unknown = [], []
    for name, heater in machine.heaters.items():
        celsius = celsius_of(heater.sensor)
        if celsius is None:
            unknown.append(name)
        elif celsius > BURNS_C:
            hot.append(f"{name} {celsius:.0f} °C")
    if not hot and not unknown:
        return ""
    agreement = [f"HOT: {several(hot)}"] if hot else []
    if unknown:
        agreement.append(
            f"{'nobody' if not hot else 'and nobody'} knows how hot the {several(unknown)} "
            f"{'is' if len(unknown) == 1 else 'are'}: no reading"
        )
    return ", ".join(agreement)
