"""Trials run one after the other by whoever is not there to decide: it waits for the room, and keeps what is
recommended.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass

from ublet.core.level.warmth import WarmUp, cooling, wanted
from ublet.core.run import TrialResult
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.session.headless import Looking
from ublet.session.session import Session
from ublet.session.trials import EnteredRun

MOST_ROUNDS = 4
"""A trial is run as often as this while what it found is put right."""

STANDS_STILL_S, STANDS_STILL_C = 300.0, 1.0
"""Nothing cools any more when no sensor falls by this much in this time."""

LOOKS_S = 30.0
"""Whether it is cold enough is looked at so often, s."""

RESTARTED_S = 10.0
"""After an image was written the board restarts, and is linked and reads again within this, s."""


@dataclass(frozen=True)
class Rounds:
    """The runs of one trial until it ended proven or nothing more was to be tried. last: the newest; machine_s: all."""

    last: EnteredRun
    count: int
    machine_s: float
    truth: Mapping[str, float]
    """Of the newest run's findings, by their ids: as things were before what it proposes was kept."""

    @property
    def result(self) -> TrialResult:
        """What the newest found."""
        return self.last.ran.result


def usual_parameters(spec: TrialSpec, heater: str | None = None) -> Part:
    """The usual parameters; nobody is asked whether to wait for the room."""
    given: dict[str, object] = {"wait": True} if "wait" in spec.parameters.model_fields else {}
    return spec.parameters(**(given | ({"heater": heater} if heater else {})))


async def until_proven(
    session: Session, spec: TrialSpec, watcher: Looking, heater: str | None = None, most: int | None = None
) -> Rounds:
    """Run a trial, keep what it proposes, and run it again where that has to be confirmed."""
    aim, count, machine_s = usual_parameters(spec, heater), 0, 0.0
    while True:
        entered = await session.run(spec, aim, watcher)
        count += 1
        machine_s += entered.ran.duration_s
        result = entered.ran.result
        proven, choice = result.outcome == "proven", result.choice
        last = proven or choice is None or not choice.proposals or count >= (most or MOST_ROUNDS)
        truth = watcher.truth(spec, aim) if last else {}
        if choice is not None and choice.proposals:
            await session.keep(choice, entered.number, spec.station)
        if last:
            return Rounds(entered, count, machine_s, truth)


async def until_fit(session: Session, spec: TrialSpec, heater: str | None = None) -> None:
    """Wait until a trial has what it needs for a start, or nothing cools any more, as a builder does before what needs
    a cold machine.

    Judged by readings that stand still and not by the room: a sensor declared with the wrong curve stands still too.
    """
    history = [await _readings(session)]
    while not await _fit(session, spec, heater):
        await asyncio.sleep(LOOKS_S)
        history.append(await _readings(session))
        now, before = history[-1], history[-1 - round(STANDS_STILL_S / LOOKS_S) :][0]
        still = all(before[name] - now[name] < STANDS_STILL_C for name in now.keys() & before.keys())
        if len(history) > STANDS_STILL_S / LOOKS_S and still:
            return


async def _fit(session: Session, spec: TrialSpec, heater: str | None) -> bool:
    """Whether all that it cannot see to by itself is there, and no bed cools that it does not heat."""
    aim, readings, connection = usual_parameters(spec, heater), await _readings(session), session.connection
    machine = session.machine_now
    if isinstance(aim, WarmUp) and cooling(
        machine,
        wanted(machine, aim),
        readings.get,
        lambda name: connection.channel(f"heaters.{name}.target_c"),
        connection.first_c,
    ):
        return False
    needs = spec.needs(session.document.machine, aim, readings.get)
    return all(need.met or not need.blocking for need in needs)


async def cooled(session: Session) -> None:
    """Wait until nothing cools any more."""
    before = await _readings(session)
    while True:
        await asyncio.sleep(STANDS_STILL_S)
        now = await _readings(session)
        if all(before[name] - now[name] < STANDS_STILL_C for name in now.keys() & before.keys()):
            return
        before = now


async def write_and_settle(session: Session) -> str:
    """Write the machine file's image, and let the file's value stand wherever another one hides it; returns why not."""
    planned = session.plan_write()
    takes_image = "image" in session.connection.can
    if planned.refused and takes_image:
        return planned.refused
    if takes_image and not planned.same_as_running:
        await session.write_image(planned, lambda upload: None, lambda words: None)
        await asyncio.sleep(RESTARTED_S)
        await session.connection.first_readings()
    if shadows := session.shadowed():
        await session.settle_shadows({row.path: "file" for row in shadows})
    return ""


async def _readings(session: Session) -> dict[str, float]:
    await session.connection.first_readings()
    channels = {name: session.connection.channel(f"sensors.{name}") for name in session.document.machine.sensors}
    return {name: value for name, value in channels.items() if value is not None}
