"""Whether there is news of every heater that is driven: one that heats unseen is switched off, whatever the reason."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable

from ublet.core.machine.schema import MachineFile
from ublet.link.client import NO_NEWS_S
from ublet.link.replies import Sample
from ublet.session.connection import Connection


class HeaterNews:
    """Watches every sample. Samples that stop altogether end the link (:mod:`ublet.link.client`); this sees to a board
    that goes on talking while it has no reading of a heater that it drives.
    """

    def __init__(self, connection: Connection, machine: Callable[[], MachineFile]) -> None:
        self._connection, self._machine = connection, machine
        self._unread_since: dict[str, float] = {}
        self._off: asyncio.Task[str] | None = None
        connection.sampled.append(self._take)

    def _take(self, samples: Iterable[Sample]) -> None:
        connection, now = self._connection, asyncio.get_running_loop().time()
        for name, heater in self._machine().heaters.items():
            driven = connection.channel(f"heaters.{name}.target_c") is not None
            if not driven or connection.channel(f"sensors.{heater.sensor}") is not None:
                self._unread_since.pop(name, None)
            elif now - self._unread_since.setdefault(name, now) > NO_NEWS_S:
                self._unread_since.pop(name)
                why = (
                    f"The {name} is driven, and its sensor has not been read for {NO_NEWS_S:.0f} s: it is being "
                    "switched off. Check the sensor's plug and cable."
                )
                self._off = asyncio.get_running_loop().create_task(connection.all_off())
                connection.tell_broken("no news", why)
