"""Programs over a link: given as there is room, changed on the way, and what goes wrong in their middle."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from tests.conftest import Rig, tern, tern_scenario, virtually
from ublet.core.motion.patterns import square
from ublet.core.motion.program import Dwell, Program, Push, To
from ublet.link.client import BoardRefused
from ublet.link.errors import LinkLost
from ublet.session.programs import ProgramRun, planned

START = {"x": 100.0, "y": 100.0, "z": 10.0}
LONG = Program(
    "long", tuple(To({"x": 100.0 + 20 * (n % 2), "y": 60.0 + n * 0.2}, 60, place=f"{n}") for n in range(400))
)


async def homed(rig: Rig) -> None:
    """As if it were homed, and hot."""
    rig.board.mover.position = dict(START)
    rig.world.plants["hotend"].put_at(215.0)
    await rig.session.connection.call("heat.target", heater="hotend", celsius=215)
    await asyncio.sleep(1)


def test_the_square_is_run_and_takes_what_was_told_beforehand(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await homed(rig)
            table = planned(rig.session.connection, square(tern()), 400_000)
            run = ProgramRun(rig.session.connection, table)
            ended = await run.run()
            assert (ended.how, run.going.place, run.going.given) == ("done", "end", len(table.program.segments))
            begun = next(e for e in rig.board.events.since(1) if e["what"] == "place")
            assert ended.time_s - begun["time_s"] == pytest.approx(table.seconds, rel=0.03, abs=0.2)
            live = rig.board.layers.live
            commanded_mm, microsteps = live["extruder.steps_per_mm"], live["extruder.motor.microsteps"]
            assert isinstance(commanded_mm, float) and isinstance(microsteps, int)
            motor = next(each for each in rig.world.mechanics.motors.values() if each.role == "extruder")
            true_mm = motor.full_steps * (motor.microsteps or microsteps) / motor.turn_mm
            pushed = abs(rig.world.mechanics.spun["extruder"])
            assert pushed == pytest.approx(table.program.filament_mm * commanded_mm / true_mm, rel=1e-6)

    virtually(work)


def test_more_segments_than_the_board_holds_are_given_as_there_is_room(folder: Path) -> None:
    async def work() -> None:
        async with Rig(
            folder, tern_scenario("[link]\nbaud = 250000\ndrop_rate = 0.02\nhost_drop_rate = 0.02\n")
        ) as rig:
            await homed(rig)
            connection, places = rig.session.connection, []
            run = ProgramRun(connection, planned(connection, LONG, 400_000))
            connection.on_event.append(lambda event: places.append(event.place) if event.what == "place" else None)
            assert (await run.run()).how == "done"
            assert places == list(LONG.places), "every place is told once and in order, though lines were lost"
            assert rig.board.mover.position == pytest.approx(LONG.end(START)) and run.going.starved == 0

    virtually(work)


def test_it_is_nudged_held_and_goes_on(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await homed(rig)
            connection = rig.session.connection
            run = ProgramRun(connection, planned(connection, LONG, 400_000))
            going = asyncio.ensure_future(run.run())
            await asyncio.sleep(5)
            await run.nudge(-0.05)
            await run.nudge(0.01)
            await run.set_feed(2.0)
            await run.hold(True)
            await asyncio.sleep(2)
            stood = dict(rig.world.mechanics.where)
            await asyncio.sleep(5)
            assert run.going.held and rig.world.mechanics.where == stood and connection.channel("motion.moving") == 1
            assert rig.board.mover.position["z"] == pytest.approx(START["z"] - 0.04)
            await run.hold(False)
            ended = await going
            assert (ended.how, ended.height_mm, run.going.held) == ("done", -0.04, False)

    virtually(work)


@pytest.mark.parametrize("how", ["halt", "stop", "cut the link", "reboot"])
def test_what_ends_it_in_its_middle_is_told_and_its_place_is_forgotten(how: str, folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await homed(rig)
            connection = rig.session.connection
            run = ProgramRun(connection, planned(connection, LONG, 400_000))
            going = asyncio.ensure_future(run.run())
            await asyncio.sleep(5)
            if how == "halt":
                connection.halt()
            elif how == "stop":
                await run.stop()
            elif how == "reboot":
                rig.board.reset()
            else:
                assert rig.host is not None and rig.host.other is not None
                rig.host.other.close()
            if how in ("halt", "stop"):
                assert (await going).how == "stopped"
            else:
                with pytest.raises(LinkLost):
                    await going
            await asyncio.sleep(6)
            assert not rig.board.mover.moving and rig.board.mover.position == dict.fromkeys("xyz")

    virtually(work)


def test_a_segment_that_is_refused_in_its_middle_stops_it_and_is_named(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await homed(rig)
            connection = rig.session.connection
            far = Program("far", (*LONG.segments[:150], To({"x": 900.0}, 50)))
            with pytest.raises(BoardRefused, match=r"would end at X 900.00 mm: allowed"):
                await ProgramRun(connection, planned(connection, far, 400_000)).run()
            assert not rig.board.mover.moving
            rig.board.mover.position = dict(START)
            await connection.call("heat.off")
            rig.world.plants["hotend"].put_at(60.0)
            await asyncio.sleep(5)
            cold = Program("cold", (Dwell(0.1), Push(5.0, 2.0)))
            with pytest.raises(BoardRefused, match="filament is pushed from"):
                await ProgramRun(connection, planned(connection, cold, 400_000)).run()

    virtually(work)
