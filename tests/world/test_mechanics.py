"""Motors and carriages: trapezoids by their closed form, kinematics, faults, refusals, and what stops a move."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from tests.conftest import Rig, tern_scenario, virtually
from ublet.core.machine.layouts import LAYOUTS
from ublet.core.motion.kinematics import kinematics_of
from ublet.core.motion.planner import LinearMove, paces
from ublet.core.sockets import Steps
from ublet.link.client import BoardRefused
from ublet.world.mechanics import Carriage, Mechanics, MotorTruth, seen

ROLES = {"x": ["x.a"], "y": ["y.b"], "z": ["z.left", "z.right"]}


def mechanics(kind: str = "corexy", carriage: Carriage | None = None, **motors: MotorTruth) -> Mechanics:
    carriages = dict.fromkeys("xyz", carriage or Carriage(0.0, 200.0))
    return Mechanics(kinematics_of(LAYOUTS[kind], ROLES), motors, carriages, {"x": 100.0, "y": 100.0, "z": 100.0})


def turn(built: Mechanics, mm: float, *sockets: str, microsteps: int = 16, amps: float = 1.0) -> None:
    """Turn motors of 80 steps/mm as far as ``mm``, at 20 mm/s with 500 mm/s²."""
    direction = 80.0 if mm > 0 else -80.0
    follow(built, abs(mm), 20, 500, [Steps(socket, direction, microsteps, amps) for socket in sockets])


def follow(built: Mechanics, length: float, speed: float, acceleration: float, steps: list[Steps]) -> None:
    """Follow a path from standstill to standstill."""
    for pace in paces(LinearMove({"x": 1.0}, length, speed, acceleration), 0.0, 0.0):
        for stretch in built.stretches(steps, pace):
            built.carry(stretch, stretch.end_mm - stretch.start_mm)


def test_belts_of_a_corexy() -> None:
    built = mechanics(A=MotorTruth("x.a"), B=MotorTruth("y.b"))
    turn(built, 10, "A", "B")
    assert built.where == pytest.approx({"x": 110, "y": 100, "z": 100}) and seen(built.travelled) == "right"
    built.begin()
    turn(built, 10, "A")
    assert built.where == pytest.approx({"x": 115, "y": 105, "z": 100}) and seen(built.travelled) == "diagonal"


@pytest.mark.parametrize(
    ("motor", "amps", "moved"),
    [
        (MotorTruth("x.a", reversed=True), 1.0, -5.0),
        (MotorTruth("x.a", open=True), 1.0, 0.0),
        (MotorTruth("x.a", least_a=0.5), 0.4, 0.0),
        (MotorTruth("x.a", microsteps=32), 1.0, 2.5),
        (MotorTruth("x.a", turn_mm=32), 1.0, 4.0),
    ],
)
def test_faults_show_in_the_travel(motor: MotorTruth, amps: float, moved: float) -> None:
    built = mechanics(A=motor)
    turn(built, 10, "A", amps=amps)
    assert built.travelled["x"] == pytest.approx(moved, abs=1e-9)


def test_a_carriage_stays_at_its_hard_stop_and_one_lift_carries_its_share() -> None:
    built = mechanics(A=MotorTruth("x.a"), B=MotorTruth("y.b"), L=MotorTruth("z.left"), R=MotorTruth("z.right"))
    turn(built, 150, "A", "B")
    assert built.where["x"] == 200
    turn(built, 10, "L")
    assert built.where["z"] == pytest.approx(105)


def test_the_board_moves_refuses_and_stops(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection, mechanics = rig.session.connection, rig.world.mechanics
            start = dict(mechanics.where)
            answer = await connection.call("axis.move", axis="z", mm=5, speed_mm_s=20)
            assert answer["speed_mm_s"] == 6, "a stored feed rate caps what was asked for, and the reply says so"
            with pytest.raises(BoardRefused, match="another move runs"):
                await connection.call("motor.turn", motor="x.motors.a", mm=1, speed_mm_s=5)
            await asyncio.sleep(2)
            assert connection.channel("motion.moving") == 0 and connection.ended[answer["motion"]].how == "done"
            assert mechanics.where["z"] == pytest.approx(start["z"] + 10, abs=1e-6), "screws of twice the lead"
            for params, words in (
                ({"axis": "x", "mm": 30, "speed_mm_s": 10}, "before homing at most 20 mm"),
                ({"axis": "x", "mm": 0, "speed_mm_s": 10}, "before homing"),
                ({"axis": "q", "mm": 1, "speed_mm_s": 10}, "no axis “q”"),
            ):
                with pytest.raises(BoardRefused, match=words):
                    await connection.call("axis.move", **params)
            with pytest.raises(BoardRefused, match="no motor"):
                await connection.call("motor.turn", motor="x.motors.q", mm=1, speed_mm_s=5)
            await connection.call("axis.move", axis="x", mm=20, speed_mm_s=5)
            await asyncio.sleep(1)
            connection.halt()
            await asyncio.sleep(0.5)
            halted_at = dict(mechanics.where)
            await asyncio.sleep(5)
            assert rig.board.mode == "halted" and mechanics.where == halted_at
            with pytest.raises(BoardRefused, match="Release"):
                await connection.call("axis.move", axis="x", mm=1, speed_mm_s=5)

    virtually(work)


def test_a_lost_link_stops_a_move_by_itself(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.connection.call("axis.move", axis="x", mm=20, speed_mm_s=2)
            assert rig.host is not None and rig.host.other is not None
            rig.host.other.close()
            await asyncio.sleep(6)
            assert rig.board.mode == "tripped" and "while moving" in rig.board.why and not rig.board.mover.moving

    virtually(work)


def test_two_belts_at_once_do_not_run_into_the_stop_of_the_axis_that_stands() -> None:
    built = mechanics(A=MotorTruth("x.a"), B=MotorTruth("y.b"))
    built.where["y"] = built._pulled["y"] = 199.0
    turn(built, 60, "A", "B")
    assert built.where == pytest.approx({"x": 160, "y": 199, "z": 100})


def test_a_quiet_driver_holds_less_unless_it_changes_in_time() -> None:
    motor = MotorTruth("x.a", quiet_fraction=0.6)
    strong, quiet = motor.holds_to_mm_s(1.0, 8.0), motor.holds_to_mm_s(0.6, 8.0)
    assert quiet < strong
    assert motor.holds_quietly_to_mm_s(1.0, 8.0, 0.0) == strong, "always strongly"
    assert motor.holds_quietly_to_mm_s(1.0, 8.0, quiet / 2) == strong, "it changes before it slips"
    assert motor.holds_quietly_to_mm_s(1.0, 8.0, 2 * quiet) == quiet, "it slips before it changes"
