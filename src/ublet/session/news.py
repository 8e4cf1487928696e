"""Whether the readings of every driven heater can be true: one that heats unseen, or whose sensor reads what no block
can be, is switched off, whatever the reason.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile
from ublet.link.client import NO_NEWS_S
from ublet.link.replies import Sample
from ublet.session.connection import Break, Connection

LOWEST_C, HIGHEST_C = -40.0, 550.0
"""No sensor of a printer's heater reads beyond these, °C."""

FASTEST_C_S = 30.0
"""No block or bed changes faster, °C/s: 100 W in 4 J/K make 25."""

NOISE_C = 12.0
"""A reading may scatter by so much besides, °C."""

COLDER_THAN_FIRST_C = 15.0
"""Nothing that is driven gets colder than this below the coolest sensor when the link was made, °C."""


@dataclass(frozen=True)
class DrivenReading:
    """One reading of a heater's sensor, °C, by the board's clock, s."""

    at_s: float
    celsius: float


def impossible(name: str, before: DrivenReading | None, now: DrivenReading, room_c: float | None) -> str:
    """Why a reading of a driven heater cannot be true, as a sentence; empty: it can. room_c: the coolest sensor that
    was ever read on this link.
    """
    if not LOWEST_C < now.celsius < HIGHEST_C:
        return f"The {name} reads {now.celsius:.6g} °C, which no sensor of a heater can"
    if room_c is not None and now.celsius < room_c - COLDER_THAN_FIRST_C:
        return f"The {name} is driven and reads {now.celsius:.0f} °C, far below the room ({room_c:.0f} °C)"
    if before is None or now.at_s <= before.at_s:
        return ""
    if abs(now.celsius - before.celsius) > NOISE_C + FASTEST_C_S * (now.at_s - before.at_s):
        return (
            f"The {name} reads {now.celsius:.0f} °C, and {before.celsius:.0f} °C "
            f"{now.at_s - before.at_s:.1f} s before: no block heats or cools so fast"
        )
    return ""


class HeaterNews:
    """Watches every sample. Samples that stop altogether end the link (:mod:`ublet.link.client`); this sees to a board
    that goes on talking while it has no reading of a heater that it drives, or one that cannot be true. drilling:
    whether a trial makes faults on purpose, which are then the board's to find.
    """

    def __init__(
        self, connection: Connection, machine: Callable[[], MachineFile], drilling: Callable[[], bool]
    ) -> None:
        self._connection, self._machine, self._drilling = connection, machine, drilling
        self._unread_since: dict[str, float] = {}
        self._read: dict[str, DrivenReading] = {}
        self._off: asyncio.Task[str] | None = None
        connection.sampled.append(self._take)

    def _take(self, samples: Iterable[Sample]) -> None:
        connection, now = self._connection, asyncio.get_running_loop().time()
        places = self._places()
        for name, heater in self._machine().heaters.items():
            driven = connection.channel(f"heaters.{name}.target_c") is not None
            if not driven or connection.channel(f"sensors.{heater.sensor}") is not None:
                self._unread_since.pop(name, None)
            elif now - self._unread_since.setdefault(name, now) > NO_NEWS_S:
                self._unread_since.pop(name)
                self._switch_off(
                    f"The {name} is driven, and its sensor has not been read for {NO_NEWS_S:.0f} s: it is being "
                    "switched off. Check the sensor's plug and cable."
                )
            if driven and name in places and not self._drilling():
                self._follow(name, *places[name], samples)
            else:
                self._read.pop(name, None)

    def _places(self) -> Mapping[str, tuple[int, int]]:
        """Where in a sample each heater's sensor and target stand."""
        channels = self._connection.about.channels if self._connection.about is not None else []
        at = {channel: 2 + place for place, channel in enumerate(channels)}
        places = {}
        for name, heater in self._machine().heaters.items():
            sensor, target = at.get(f"sensors.{heater.sensor}"), at.get(f"heaters.{name}.target_c")
            if sensor is not None and target is not None:
                places[name] = (sensor, target)
        return places

    def _follow(self, name: str, sensor: int, target: int, samples: Iterable[Sample]) -> None:
        """Look at every new reading of a driven heater beside the one before it."""
        for row in samples:
            celsius, at_s = row[sensor], row[1]
            if celsius is None or at_s is None or row[target] is None:
                continue
            reading = DrivenReading(at_s, celsius)
            why = impossible(name, self._read.get(name), reading, self._connection.first_c)
            self._read[name] = reading
            if why:
                self._read.pop(name)
                self._switch_off(f"{why}: everything is being switched off. Check that sensor's plug and cable.")
                return

    def _switch_off(self, why: str) -> None:
        self._off = asyncio.get_running_loop().create_task(self._connection.all_off())
        self._connection.announce_break(Break.NO_READINGS, why)
