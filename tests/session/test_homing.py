"""Homing on the simulated board: ends are found, spreads measured, faults named, and nothing runs on for ever."""

from __future__ import annotations

import asyncio
import math
from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from tests.session.test_wire_trials import RIGHT, run
from ublet.core.catalogue import TRIALS
from ublet.core.motion.homing_trials import HomingParameters
from ublet.link.client import BoardRefused
from ublet.session.library import scenario_path
from ublet.world.scenario import parse_scenario

ENDS = 16


def test_every_axis_is_homed_and_its_spread_is_the_truths(folder: Path) -> None:
    from scipy.stats import chi2, norm  # a second, for whoever gets this test

    code, report = run("homing", folder, RIGHT, f"repeats={ENDS}")
    found = {f["id"]: (f["value"], f["uncertainty"]) for f in report["findings"]}
    assert (code, report["outcome"]) == (0, "proven")
    for axis in "xyz":
        value, uncertainty = found[f"spread.{axis}"]
        true = report["truth"][f"spread.{axis}"]
        assert abs(value - true) < 3 * true / math.sqrt(2 * (ENDS - 1))
        highest = value * math.sqrt((ENDS - 1) / chi2.ppf(norm.cdf(-2), ENDS - 1))
        assert 2 * uncertainty == pytest.approx(highest - value, rel=0.02)


@pytest.mark.parametrize(
    ("before", "after", "words"),
    [
        ('axis = "x"\nside = "low"', 'axis = "x"\nside = "low"\nfault = "stuck"', "X did not find its end: no switch"),
        ('axis = "x"\nside = "low"', 'axis = "x"\nside = "low"\nfault = "broken-wire"', "reads triggered and stays so"),
        ("turn_mm = 40\n", "turn_mm = 40\nreversed = true\n", "did not find its end"),
        ("spread_mm = 0.012", "spread_mm = 0.2", "Y repeats only to"),
        ("at_mm = 1.6", 'at_mm = 1.6\nfault = "pin-stuck"', "Z did not find its end"),
    ],
)
def test_what_keeps_an_axis_from_its_end_is_named(before: str, after: str, words: str, folder: Path) -> None:
    assert before in RIGHT
    code, report = run("homing", folder, RIGHT.replace(before, after, 1))
    assert (code, report["outcome"]) == (1, "failed") and words in str(report["why"])


def test_a_seek_ends_within_the_axis_and_its_margin_and_a_halt_forgets_the_position(folder: Path) -> None:
    async def work() -> None:
        scenario = parse_scenario(
            RIGHT.replace('axis = "x"\nside = "low"', 'axis = "x"\nside = "low"\nfault = "stuck"')
        )
        async with Rig(folder, scenario) as rig:
            connection = rig.session.connection
            with pytest.raises(BoardRefused, match="X and Y must be homed first"):
                await connection.call("axis.home", axis="z")
            await connection.call("axis.home", axis="x")
            await asyncio.sleep(20)
            status = (await connection.call("axis.status"))["x"]
            assert "290 mm" in status["why"] and status["mm"] is None and connection.channel("motion.moving") == 0
            await connection.call("axis.home", axis="y")
            await asyncio.sleep(15)
            assert connection.channel("axes.y.mm") == 262
            with pytest.raises(BoardRefused, match="allowed -12 to 262"):
                await connection.call("axis.move", axis="y", mm=5, speed_mm_s=100)
            await connection.call("axis.move", axis="y", mm=-200, speed_mm_s=100)
            await asyncio.sleep(1)
            connection.halt()
            await asyncio.sleep(1)
            assert connection.channel("axes.y.mm") is None, "stopped in the middle: nobody knows where it stands"

    virtually(work)


def test_a_cancelled_homing_stops_at_once(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            running = asyncio.ensure_future(rig.session.run(TRIALS["homing"], HomingParameters(), Onlooker()))
            await asyncio.sleep(4)
            assert rig.board.mover.moving
            rig.session.runner.cancel()
            assert (await running).ran.result.outcome == "halted"
            await asyncio.sleep(0.5)
            assert not rig.board.mover.moving

    virtually(work)


def test_tern_as_it_arrives_cannot_home(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            entered = await rig.session.run(TRIALS["homing"], HomingParameters(), Onlooker())
            assert entered.ran.result.outcome == "failed" and "X did not find its end" in entered.ran.result.why

    virtually(work)


LATE = "late_s = 0.002\nlate_spread_s = 0.0022"


def test_each_end_is_found_as_well_at_the_speeds_that_are_proposed(folder: Path) -> None:
    assert LATE in RIGHT
    code, report = run("homing-speed", folder, RIGHT)
    found = {f["id"]: (f["value"], f["uncertainty"]) for f in report["findings"]}
    now = {p["setting"]: p["after"] for p in report["proposals"]}
    assert code == 0
    assert now["axes.x.homing.fast_mm_s"] > 40 and now["axes.x.homing.slow_mm_s"] > 5
    assert now.get("axes.y.homing.slow_mm_s", 5.0) < 20, "Y's switch answers late, and not alike"
    slow = now.get("axes.y.homing.slow_mm_s", 5.0)
    true = math.hypot(0.012, 0.0022 * slow)
    assert abs(found["deviation.y"][0] - true) < 2 * found["deviation.y"][1]
    assert found["time.x"][0] < found["time_before.x"][0] / 2


def test_a_switch_that_answers_much_too_late_keeps_its_slow_approach(folder: Path) -> None:
    code, report = run("homing-speed", folder, RIGHT.replace(LATE, "late_s = 0.02\nlate_spread_s = 0.006"), "axes=y")
    now = {p["setting"]: p["after"] for p in report["proposals"]}
    assert code == 0 and now.get("axes.y.homing.slow_mm_s", 5.0) <= 5.0


def test_a_motor_that_loses_steps_on_a_fast_approach_is_not_made_faster(folder: Path) -> None:
    weak = RIGHT.replace('role = "x.a"\nknee_turns_s = 13', 'role = "x.a"\nknee_turns_s = 2.2')
    weak = weak.replace("mass_kg = 0.42", "mass_kg = 4")
    assert "knee_turns_s = 2.2" in weak and "mass_kg = 4\n" in weak
    code, report = run("homing-speed", folder, weak, "axes=x")
    assert code == 0 and "Too fast: fast at" in report["why"]
    assert all(p["after"] < 120 for p in report["proposals"] if p["setting"].endswith("fast_mm_s"))


def test_z_that_homes_with_the_probe_is_sent_to_the_probes_own_station(folder: Path) -> None:
    code, report = run("homing-speed", folder, RIGHT, "axes=z")
    assert code == 1 and "probe spread" in report["why"] and "trial probe-speed" in report["ways_out"][0]


def test_a_speed_beyond_the_axis_limit_is_named_and_not_tried(folder: Path) -> None:
    wren = scenario_path("wren-180").read_text(encoding="utf-8")
    code, report = run("homing-speed", folder, wren, "axes=z")
    assert code == 0 and "axes.z.maximum_feed_mm_s = 8" in report["why"]
