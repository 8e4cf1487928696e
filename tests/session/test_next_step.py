"""What to do next: always true, in the order of the route."""

from __future__ import annotations

import asyncio
from pathlib import Path

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from ublet.core.catalogue import TRIALS
from ublet.core.heat.trials import HotendParameters
from ublet.core.route import ROUTE, StationState
from ublet.core.run import Option, Proposal
from ublet.session.next_step import NextStep, next_step
from ublet.session.standings import standings

PROVEN = {station.name: StationState("proven") for station in ROUTE}


def test_the_earliest_station_that_is_not_proven_comes_next_with_its_reason(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session

            def step(**standing: StationState) -> NextStep | None:
                return next_step(
                    session, {**PROVEN, **{name.replace("_", " "): each for name, each in standing.items()}}
                )

            first = next_step(session, standings(session))
            assert first is not None and (first.words, first.key) == ("write to board", "")
            assert "differs in" in first.why or "hide" in first.why
            assert step() is None
            homing = step(homing=StationState("open"), guards=StationState("open"))
            assert homing is not None and (homing.words, homing.why) == (
                "homing",
                "it is not done yet: every axis finds its end",
            )
            stale = step(homing=StationState("stale", "stale", "nozzle: changed on 2026-11-26"))
            assert stale is not None and stale.why == "nozzle: changed on 2026-11-26"
            failed = step(motors=StationState("failed", "failed", "Nothing turned for X a: no current. Look."))
            assert failed is not None and failed.why == "it failed: Nothing turned for X a: no current"
            assert step(temperatures=StationState("open")) is None, "by hand is no step"
            second = step(speed_limits=StationState("open", "1 of 2", trial="driver-current"))
            assert second is not None and (second.why, second.trial) == (
                "driver current is not done yet",
                "driver-current",
            )

    virtually(work)


def test_a_halted_board_and_what_would_be_lost_come_first(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            option = Option("x", "", (Proposal("heaters.hotend.kp", 0.0, 0.1, "", ""),), {})
            await session.keep(option, None)
            kept = next_step(session, PROVEN)
            assert kept is not None and (kept.key, kept.why) == ("ctrl+s", "1 kept value is lost at power-off")
            waits = next_step(
                session, {**PROVEN, "hotend control": StationState("open", "unverified", "not yet verified")}
            )
            assert waits is not None and waits.words == "hotend control", "checked before it is saved"
            stale = {"first layer": StationState("stale", "stale", "so")}
            before = next_step(session, {**PROVEN, **stale, "retraction": StationState("open")})
            assert before is not None and before.words == "first layer", "retraction stands on it"
            later = next_step(session, {**PROVEN, **stale, "accelerometer": StationState("open")})
            assert later is not None and later.key == "ctrl+s", "it waits for later, and keeps nothing from being saved"
            await session.save()
            aside = next_step(session, {**PROVEN, **stale, "accelerometer": StationState("open")})
            assert aside is not None and aside.words == "accelerometer"
            last = next_step(session, {**PROVEN, **stale})
            assert last is not None and last.words == "first layer"
            session.connection.halt()
            await asyncio.sleep(1)
            halted = next_step(session, PROVEN)
            assert halted is not None and (halted.key, halted.words) == ("r", "release the board")
            await session.connection.call("release")
            await asyncio.sleep(1)
            going = asyncio.ensure_future(session.run(TRIALS["hotend-control"], HotendParameters(), Onlooker()))
            await asyncio.sleep(5)
            assert next_step(session, PROVEN) is None, "nothing else while something runs"
            session.runner.cancel()
            await going

    virtually(work)
