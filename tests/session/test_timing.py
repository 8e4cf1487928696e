"""Time left: from the plan, corrected by the course, without the time that a person takes; and what a plan says."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern, virtually
from tests.session.test_wire_trials import RIGHT
from ublet.core.catalogue import TRIALS
from ublet.core.level.mesh.trials import MeshParameters
from ublet.core.run import Progress
from ublet.core.trial_times import TrialTimes, usual_times
from ublet.link.host_programs import watched_s
from ublet.session.timing import Expected, TimeLeft, expected
from ublet.world.scenario import parse_scenario


def at(fraction: float, left_s: float | None = None, phase_only: bool = False) -> Progress:
    return Progress(phase="it goes on", fraction=fraction, left_s=left_s, phase_only=phase_only)


def test_without_a_plan_the_course_shows_it() -> None:
    left = TimeLeft(None)
    assert left.left(100.0, at(0.0)) is None
    assert left.left(110.0, at(0.05)) is None, "too little is done"
    assert left.left(125.0, at(0.25)) == pytest.approx(75.0)


def test_a_plan_runs_down_and_is_corrected_when_it_is_overdue() -> None:
    left = TimeLeft(Expected(100.0))
    assert left.left(0.0, at(0.0)) == 100.0 and left.left(60.0, at(0.3)) == 40.0
    assert left.left(120.0, at(0.6)) == pytest.approx(80.0), "it takes longer than planned: by what is done"


def test_a_question_is_the_persons_time() -> None:
    left = TimeLeft(Expected(100.0))
    left.left(0.0, at(0.0))
    left.asking(10.0, True)
    assert left.gone(500.0) == 10.0
    left.asking(1000.0, False)
    assert left.gone(1010.0) == 20.0 and left.left(1010.0, at(0.2)) == 80.0


def test_what_the_trial_itself_says_comes_first_and_a_phase_does_not() -> None:
    left = TimeLeft(Expected(100.0))
    left.left(0.0, at(0.0))
    assert left.left(10.0, at(0.5, 33.0)) == 33.0
    assert left.left(10.0, at(0.5, 3.0, phase_only=True)) == 90.0


def test_axes_that_are_homed_and_heaters_that_are_warm_take_less() -> None:
    machine = tern()
    cold = usual_times(machine, lambda sensor: 20.0, ("x", "y", "z"))
    warm = TrialTimes(lambda heater, celsius: 0.0, ())
    assert cold.home_s(machine) > 20 and warm.home_s(machine) == 0
    assert cold.warm_s({"bed": 60.0, "hotend": 60.0}, soak_s=30) == pytest.approx(40 / 0.28 + 30)
    plain, watched = warm.touches_s(machine, 25, 2, 50.0), TrialTimes(lambda heater, celsius: 0.0, (), None, watched_s)
    assert plain > 20 * 2 and watched.touches_s(machine, 25, 2, 50.0) > plain + 50 * 20 * 0.25


def test_a_mesh_says_its_time_before_it_starts_and_takes_it(tmp_path: Path) -> None:
    async def work() -> tuple[float, float, Expected | None]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            homing = TRIALS["homing"]
            await rig.session.run(homing, homing.parameters(), Onlooker())
            mesh, aim = TRIALS["bed-mesh"], MeshParameters()
            planned = expected(rig.session, mesh, aim)
            assert planned is not None
            entered = await rig.session.run(mesh, aim, Onlooker())
            assert entered.ran.result.outcome == "proven", entered.ran.result.why
            entry = rig.session.ledger.latest("bed-mesh")
            assert entry is not None
            unplanned = expected(rig.session, TRIALS["fans-one-by-one"], TRIALS["fans-one-by-one"].parameters())
            return planned.seconds, entry.duration_s, unplanned

    planned, taken, unplanned = virtually(work)
    assert planned == pytest.approx(taken, rel=0.2)
    assert unplanned is None or not unplanned.learned, "never run: nothing was learned"
