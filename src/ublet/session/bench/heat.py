"""Sensors, heaters and fans of the linked board."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping

from ublet.core.bench import HeatSample
from ublet.core.remedies import LINK, WRITE
from ublet.core.remedy import ByHand
from ublet.core.run import TrialFailed
from ublet.link.replies import Sample
from ublet.session.bench.resting import Resting
from ublet.session.connection import Connection

UNREAD_SAMPLES = 30
"""A sensor may miss so many samples in a row; while heating the board's guard is quicker."""


class LinkHeat:
    """A :class:`ublet.core.bench.Heat` over a connection."""

    def __init__(self, connection: Connection, resting: Resting, held: Callable[[], Mapping[str, float]]) -> None:
        self._held = held
        self._connection = connection
        self._resting = resting

    @property
    def first_c(self) -> float | None:
        """The coolest sensor when the link was made."""
        return self._connection.first_c

    @property
    def apart_s(self) -> float:
        """How far apart in time a reading and the duty beside it may be."""
        about = self._connection.about
        return about.sample_period_s if about is not None and about.language else 0.0

    def celsius(self, sensor: str) -> float | None:
        """The latest reading of a sensor."""
        self._resting.reading(sensor)
        return self._connection.channel(f"sensors.{sensor}")

    def rise(self, sensor: str, since_c: float) -> float | None:
        """How far a sensor has risen."""
        self._resting.warming(sensor)
        celsius = self._connection.channel(f"sensors.{sensor}")
        return celsius - since_c if celsius is not None else None

    async def hold(self, heater: str, celsius: float) -> None:
        """Hold a temperature."""
        self._resting.holding(heater, celsius)
        await self._target(heater, celsius)

    def target(self, heater: str) -> float | None:
        """What it is held at."""
        return self._connection.channel(f"heaters.{heater}.target_c")

    def held_s(self, heater: str) -> float:
        """How long it has been at its target."""
        return self._held().get(heater, 0.0)

    async def warm(self, heater: str, celsius: float) -> None:
        """Hold it as a mere means."""
        self._resting.plant(heater)
        await self._target(heater, celsius)

    async def pulse(self, heater: str, duty: float, highest_c: float) -> None:
        """Drive a heater at a duty to see what warms."""
        self._resting.pulse(heater)
        await self._relay(heater, highest_c, 1.0, duty, 0.0)

    async def off(self, heater: str) -> None:
        """Switch it off."""
        await self._target(heater, None)

    async def _target(self, heater: str, celsius: float | None) -> None:
        await self._connection.controller.target(heater, celsius)

    async def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Let the board switch between two duties."""
        self._resting.plant(heater)
        await self._relay(heater, centre_c, hysteresis_c, high, low)

    async def _relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        await self._connection.controller.relay(heater, centre_c, hysteresis_c, high, low)

    async def fan(self, name: str, duty: float) -> None:
        """Run a fan."""
        self._resting.air(name)
        await self._connection.controller.fan(name, duty)

    async def samples(self, heater: str) -> AsyncIterator[HeatSample]:
        """Samples of a heater, each once."""
        about = self._connection.about
        if about is None:
            raise TrialFailed(self._connection.why, LINK)
        self._resting.behaviour(heater)
        sensor = str(self._resting.note(f"heaters.{heater}.sensor"))
        parts = [name.removeprefix("fans.") for name in about.channels if name.startswith("fans.")]
        with self._resting.trace.aside():
            fan = next((name for name in parts if self._resting.machine.fans[name].role == "part"), None)
        names = [f"sensors.{sensor}", f"heaters.{heater}.duty", f"heaters.{heater}.target_c"]
        names += [f"fans.{fan}"] if fan else []
        missing = [name for name in names if name not in about.channels]
        if missing:
            raise TrialFailed(
                f"The board does not report {', '.join(missing)}: its image is of another machine file.", WRITE
            )
        at = [2 + about.channels.index(name) for name in names]
        queue: asyncio.Queue[list[Sample]] = asyncio.Queue()
        unread = 0
        self._connection.sampled.append(queue.put_nowait)
        try:
            while True:
                for sample in await queue.get():
                    celsius = sample[at[0]]
                    unread = unread + 1 if celsius is None else 0
                    if unread > UNREAD_SAMPLES:
                        raise TrialFailed(
                            f"The {sensor} sensor stopped reading: check its plug and cable, then try again.",
                            ByHand(f"check plug and cable of the {sensor} sensor"),
                        )
                    if celsius is None:
                        continue
                    wind = sample[at[3]] if fan else 0.0
                    yield HeatSample(sample[1] or 0.0, celsius, sample[at[1]] or 0.0, wind or 0.0, sample[at[2]])
        finally:
            self._connection.sampled.remove(queue.put_nowait)
