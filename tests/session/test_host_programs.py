"""Programs of motion over a dialect: lines given ahead of the board, single moves, touches that are watched."""

from __future__ import annotations

import asyncio
import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.conftest import virtually
from tests.session.spoken import BOTH, client_of, spoken
from ublet.benchmark.beds import made_up
from ublet.core.motion.program import ADVANCE, Dwell, Park, ProbeMove, Program, Push, SetAdvance, To
from ublet.link.errors import BoardRefused, LinkLost
from ublet.link.host_programs import watched_s
from ublet.link.replies import EventReport
from ublet.session.connection import Connection
from ublet.session.dialects import dialect_named
from ublet.session.headless import execute, on_scenario
from ublet.session.jogging import go, to_the_end, touch
from ublet.session.loans import Loans
from ublet.session.orders import order_for
from ublet.session.programs import ProgramRun, planned
from ublet.session.session import Session
from ublet.world.scenario import load_scenario

STEPS_PER_S = 400_000.0
PARK = Park(10.0, {"x": 20.0, "y": 20.0}, 60.0)


async def homed(session: Session) -> Connection:
    connection = session.connection
    for axis in "xyz":
        await to_the_end(connection, await connection.controller.home(axis))
    await go(connection, {"z": 12.0}, 8.0)
    await go(connection, {"x": 60.0, "y": 60.0}, 60.0)
    return connection


def zigzag(places: int = 30) -> Program:
    return Program(
        "zigzag", [To({"x": 60.0 + 10 * (at % 2), "y": 60.0 + at / 2}, 50.0, place=f"p{at}") for at in range(places)]
    )


def noted(connection: Connection) -> list[EventReport]:
    events: list[EventReport] = []
    connection.on_event.append(events.append)
    return events


def standing(connection: Connection) -> dict[str, float | None]:
    return {axis: connection.channel(f"axes.{axis}.mm") for axis in "xyz"}


def turned(simulated: Any, before: Mapping[str, float]) -> dict[str, float]:
    """How far motors have really turned since then, mm."""
    spun = simulated.world.mechanics.spun
    return {
        role: round(mm - before.get(role, 0.0), 3)
        for role, mm in spun.items()
        if abs(mm - before.get(role, 0.0)) > 1e-6
    }


@pytest.mark.parametrize("link", ["", "drop_rate = 0.03\nflip_rate = 0.03\nhost_drop_rate = 0.03"])
def test_a_path_keeps_its_pace_and_ends_exactly_also_over_a_bad_line(tmp_path: Path, link: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "slate", link=link) as (session, simulated, _):
            connection = await homed(session)
            events, before = noted(connection), dict(simulated.world.mechanics.spun)
            table = planned(connection, zigzag(), STEPS_PER_S)
            began = connection.board_time
            ended = await ProgramRun(connection, table).run()
            assert ended.how == "done" and standing(connection) == {"x": 70.0, "y": 74.5, "z": 12.0}
            assert list(turned(simulated, before).values()) == [pytest.approx(10.0), pytest.approx(14.5)]
            places = [event.place for event in events if event.what == "place"]
            assert places == [f"p{at}" for at in range(30)]
            if not link:
                assert connection.board_time - began == pytest.approx(table.seconds, abs=0.8)

    virtually(work)


def test_without_such_lines_it_is_made_of_single_moves(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, simulated, watcher):
            connection = await homed(session)
            before = dict(simulated.world.mechanics.spun)
            program = Program("way", [*zigzag(6).segments, Dwell(1.0), To({"x": 80.0, "z": 20.0}, 40.0)])
            table = planned(connection, program, STEPS_PER_S)
            began = connection.board_time
            assert (await ProgramRun(connection, table).run()).how == "done"
            assert standing(connection) == {"x": 80.0, "y": 62.5, "z": 20.0}
            assert list(turned(simulated, before).values()) == [
                pytest.approx(20.0),
                pytest.approx(2.5),
                pytest.approx(8.0),
            ]
            assert connection.board_time - began > table.seconds + 2, "each is waited for"
            printing = await execute(order_for("test-piece", [], False, False), session, watcher)
            assert "follows no straight lines of several axes and filament" in printing.report["why"]
            with pytest.raises(BoardRefused, match=r"no line that pushes filament on its way \(\[requests.line\]\)"):
                await connection.controller.add("line", 0, [To({"x": 82.0}, 20.0, 0.1)], last=True)

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_what_a_program_may_not_do_is_refused_before_anything_is_said(tmp_path: Path, dialect: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, dialect) as (session, _, _):
            connection = session.connection
            controller = connection.controller
            with pytest.raises(BoardRefused, match="X is not homed"):
                await controller.add("a", 0, [To({"x": 10.0}, 20.0)], last=True)
            await homed(session)
            said = client_of(session).language.requests["move"].lines[-1]
            before = [message for _, message in connection.talk]
            for segments, why in (
                ([To({"x": 1000.0}, 20.0)], "would end at X 1000.00 mm: allowed"),
                ([To({"x": 50.0}, 20.0)] * 65, "65 segments: room for 64 now"),
                ([ProbeMove({"x": 5.0}, 2.0)], "touches along Z only"),
            ):
                with pytest.raises(BoardRefused, match=why):
                    await controller.add("a", 0, segments, last=True)
            with pytest.raises(BoardRefused, match="is not the next one"):
                await controller.add("a", 3, [To({"x": 50.0}, 20.0)], last=True)
            with pytest.raises(BoardRefused, match="nothing to change"):
                await controller.adjust(height_mm=0.1)
            new = [message for _, message in connection.talk if message not in before]
            assert not any(said.read(str(message["line"])) for message in new)

    virtually(work)


def test_a_path_is_nudged_held_and_parked(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "slate") as (session, _, _):
            connection = await homed(session)
            events = noted(connection)
            run = ProgramRun(connection, planned(connection, zigzag(120), STEPS_PER_S), PARK)
            going = asyncio.create_task(run.run())
            await asyncio.sleep(4)
            assert await run.nudge(0.25) == "" and "allowed -2 to 2" in await run.nudge(3.0)
            await asyncio.sleep(4)
            assert connection.channel("axes.z.mm") == pytest.approx(12.25)
            assert await run.hold(True) == ""
            await asyncio.sleep(4)
            held = standing(connection)
            await asyncio.sleep(2)
            assert standing(connection) == held and run.going.held
            assert await run.hold(False) == ""
            await asyncio.sleep(2)
            assert standing(connection) != held and not run.going.held
            await run.stop()
            ended = await going
            assert ended.how == "stopped" and "parking" in [event.what for event in events]
            assert standing(connection) == {"x": 20.0, "y": 20.0, "z": pytest.approx(22.25)}
            await go(connection, {"x": 30.0}, 30.0)

    virtually(work)


def test_a_halt_ends_it_where_it_is_and_a_restart_is_noticed(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "slate") as (session, simulated, _):
            connection = await homed(session)
            run = ProgramRun(connection, planned(connection, zigzag(120), STEPS_PER_S), PARK)
            going = asyncio.create_task(run.run())
            await asyncio.sleep(3)
            connection.halt()
            assert (await going).how == "stopped" and connection.state.mode == "halted"
            before = dict(simulated.world.mechanics.spun)
            await asyncio.sleep(3)
            assert not turned(simulated, before), "nothing moves after a halt"
            await connection.controller.release()
            await asyncio.sleep(1)
            await homed(session)
            run = ProgramRun(connection, planned(connection, zigzag(120), STEPS_PER_S), PARK)
            going = asyncio.create_task(run.run())
            await asyncio.sleep(3)
            simulated.board.reset()
            with pytest.raises(LinkLost, match="restarted in the middle of a program"):
                await going

    virtually(work)


@pytest.mark.parametrize("ends", ["done", "stopped", "halted"])
def test_the_programs_own_pressure_advance_is_put_back(tmp_path: Path, ends: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "slate") as (session, simulated, _):
            connection = await homed(session)
            await connection.controller.write({"extruder.advance_s": 0.031})
            program = Program("advance", [SetAdvance(0.08), *zigzag(20).segments])
            run = ProgramRun(connection, planned(connection, program, STEPS_PER_S), PARK)
            going = asyncio.create_task(run.run())
            await asyncio.sleep(3)
            assert simulated.board.layers.live["extruder.advance_s"] == pytest.approx(0.08)
            if ends == "stopped":
                await run.stop()
            elif ends == "halted":
                connection.halt()
            assert (await going).how == ("done" if ends == "done" else "stopped")
            await asyncio.sleep(1)
            assert simulated.board.layers.live["extruder.advance_s"] == pytest.approx(0.031)

    virtually(work)


def test_a_print_that_the_board_refuses_lifts_and_parks(tmp_path: Path) -> None:
    """It gets cold on the way: the board takes no line with filament any more."""

    async def work() -> None:
        async with spoken(tmp_path, "slate") as (session, _, _):
            connection = await homed(session)
            pushes = [To({"x": 60.0 + at, "y": 60.0}, 20.0) for at in range(5)]
            program = Program("cold", [*pushes, To({"x": 80.0}, 20.0, 0.5), *pushes])
            ended = await ProgramRun(connection, planned(connection, program, STEPS_PER_S), PARK).run()
            assert ended.how == "refused" and "°C" in ended.why
            assert standing(connection) == {"x": 20.0, "y": 20.0, "z": pytest.approx(22.0)}

    virtually(work)


def test_filament_that_is_too_cold_is_the_boards_no(tmp_path: Path) -> None:
    async def work() -> None:
        for dialect in BOTH:
            async with spoken(tmp_path, dialect) as (session, _, _):
                with pytest.raises(BoardRefused, match="°C"):
                    await session.connection.controller.add("push", 0, [Push(5.0, 2.0)], last=True)
                assert not client_of(session).values.get("motion.moving")

    virtually(work)


def test_touches_that_are_watched_agree_with_those_of_the_board(tmp_path: Path) -> None:
    """A bed that is as it is drawn, a pin that scatters by some hundredths: six touches each."""
    found: dict[str, list[float]] = {}

    async def work() -> None:
        scenario, _ = made_up(tmp_path, 3, 3, "pin")
        machine = scenario.parent / load_scenario(scenario).scenario.machine_file
        for dialect in ("", *BOTH):
            file = shutil.copy(machine, tmp_path / f"machine-{dialect}.toml")
            language = dialect_named(dialect, tmp_path) if dialect else None
            async with on_scenario(scenario, file, 1, lambda progress: None, None, language) as (session, _):
                await session.connection.first_readings()
                connection = await homed(session)
                await connection.controller.pin(True)
                for _ in range(6):
                    began, above = asyncio.get_running_loop().time(), connection.channel("axes.z.mm") or 0.0
                    at = await touch(connection, -1.5, 2.0)
                    assert at is not None
                    took_s = asyncio.get_running_loop().time() - began
                    if dialect == "moss":
                        assert took_s == pytest.approx(watched_s(above - at, 2.0) + (above - at) / 2.0, rel=0.35)
                    found.setdefault(dialect, []).append(at)
                    await go(connection, {"z": at + 2.0}, 8.0)

    virtually(work)
    means = {dialect: float(np.mean(values)) for dialect, values in found.items()}
    assert all(np.std(values) < 0.02 for values in found.values())
    # a pin triggers late: a board that goes on at 2 mm/s is lower by then, steps that are waited for are not
    assert means["moss"] == pytest.approx(means["slate"], abs=0.03) and means["slate"] == pytest.approx(
        means[""], abs=0.02
    )


def test_whoever_gives_up_waiting_leaves_the_next_question_its_own_answer(tmp_path: Path) -> None:
    """Moss's lines have no numbers: a reply that nobody waits for any more must not end the next line's."""

    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, _, _):
            client = client_of(session)
            for path, other in (("heaters.hotend.kp", "heaters.bed.kp"), ("heaters.bed.kp", "heaters.hotend.kp")) * 5:
                asked = asyncio.create_task(client.settings.read(path))
                await asyncio.sleep(0.003)
                asked.cancel()
                assert await client.settings.read(other) == session.connection.layers[other].live

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_arrays_go_row_by_row(tmp_path: Path, dialect: str) -> None:
    heights = ((0.1, -0.02, 0.003), (0.0, 0.0125, -0.3), (1.5, 0.25, 0.125), (-0.5, 0.75, 0.0001))

    async def work() -> None:
        async with spoken(tmp_path, dialect) as (session, simulated, _):
            controller, path = session.connection.controller, "mesh.heights_mm"
            for value in (heights, (), heights[:1]):
                await controller.write({path: value})
                assert simulated.board.layers.live[path] == value
                client_of(session).settings._wrote.clear()
                assert (await controller.read([path]))[path].live == value
            with pytest.raises(BoardRefused):
                await controller.write({path: ((0.1, 99.0), (0.0, 0.0))})
            assert simulated.board.layers.live[path] == heights[:1], "what the board refuses changes nothing"

    virtually(work)


def test_after_a_kill_the_pressure_advance_of_a_program_gives_way_to_the_one_that_was_live(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "slate") as (session, simulated, _):
            controller = session.connection.controller
            await controller.write({ADVANCE: 0.04})
            session.ledger.begin_loans({ADVANCE: 0.04}, {ADVANCE: 0.04})  # as a print enters it
            simulated.board.layers.live[ADVANCE] = 0.3  # and its program went so far
            loans = Loans(session.ledger, session.connection)  # of the program that is started next
            session.connection.layers.update(await controller.read([ADVANCE]))
            said = await loans.settle(list(loans))
            assert "had borrowed extruder.advance_s" in said and not session.ledger.loans()
            assert simulated.board.layers.live[ADVANCE] == pytest.approx(0.04, abs=1e-4)

    virtually(work)
