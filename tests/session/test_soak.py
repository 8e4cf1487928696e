"""The soak trial on the simulated bed, with a sensor on its surface and without; and the clock at the target."""

from __future__ import annotations

import asyncio
import re
from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern_scenario, truths, virtually, word
from tests.session.test_wire_trials import RIGHT, run
from ublet.core.catalogue import TRIALS
from ublet.core.heat.soak_trials import SoakParameters
from ublet.session.headless import run_on_scenario
from ublet.session.heaters import soaking
from ublet.session.library import scenario_path
from ublet.session.orders import order_for
from ublet.session.soaking import Soaking


def test_a_surface_that_is_measured_stands_still_when_the_truth_says(tmp_path: Path) -> None:
    code, report = run("bed-soak", tmp_path, RIGHT, "target=60", "--keep", "--save")
    found = {word(finding["id"]): finding for finding in report["findings"]}
    truth = truths(report)
    assert code == 0 and report["saved"] == 1
    assert found["soak"]["value"] == pytest.approx(truth["soak"], abs=6)
    assert found["sheet_lag"]["value"] == pytest.approx(truth["sheet_lag"], rel=0.02)
    assert abs(found["surface"]["value"] - truth["surface"]) < found["surface"]["uncertainty"]
    proposal = report["proposals"][0]
    assert (proposal["setting"], proposal["before"]) == ("bed.soak_s", 0.0)
    assert 0 <= proposal["after"] - found["soak"]["value"] < 10


def test_without_a_surface_sensor_the_beds_own_record_tells() -> None:
    order = order_for("bed-soak", ["target=60"], False, False)
    done = run_on_scenario(order, scenario_path("wren-180"), None, 1, lambda progress: None)
    found = {word(finding["id"]): finding for finding in done.report["findings"]}
    assert done.outcome == "proven" and "by the power that it takes" in done.report["why"]
    assert found["sheet_lag"]["value"] == pytest.approx(truths(done.report)["sheet_lag"], rel=0.1)
    # how far the surface stays below is not seen: the soak is told a little too long, never too short
    assert -3 < found["soak"]["value"] - truths(done.report)["soak"] < 20


def test_a_bed_that_has_no_sheet_says_so(tmp_path: Path) -> None:
    bare = re.sub(r"surface_j_k = \d+", "surface_j_k = 0", RIGHT)
    code, report = run("bed-soak", tmp_path, bare, "target=50")
    found = {word(finding["id"]): finding["value"] for finding in report["findings"]}
    assert code == 0 and found["sheet_lag"] < 8 and found["surface_below"] < 0.2


def test_a_surface_that_never_stands_still_in_time_is_no_success(tmp_path: Path) -> None:
    code, report = run("bed-soak", tmp_path, RIGHT, "target=60", "longest=120")
    assert code == 1 and "still drifts by" in report["why"] and report["proposals"] == []


def test_a_surface_sensor_that_falls_off_ends_it_with_a_sentence(tmp_path: Path) -> None:
    event = '\n[[events]]\nkind = "sensor-open"\nof = "T3"\nat_s = 240\n'
    code, report = run("bed-soak", tmp_path, RIGHT + event, "target=60")
    assert code == 1 and "The plate sensor stopped reading" in report["why"]
    event = '\n[[events]]\nkind = "sensor-open"\nof = "T3"\nat_s = 0\n'
    code, report = run("bed-soak", tmp_path, RIGHT + event, "target=60")
    assert code == 1 and "Nothing was heated" in report["why"]


def test_the_clock_at_the_target_runs_whoever_heats(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session

            def state() -> Soaking | None:
                return soaking(session, "bed")

            async def hold(celsius: float | None, seconds: float) -> None:
                await session.connection.call("heat.target", heater="bed", celsius=celsius)
                await asyncio.sleep(seconds)

            assert state() is None
            await hold(45, 20)
            heating = state()
            assert heating is not None and heating.held_s is None
            await asyncio.sleep(180)
            held = state()
            assert held is not None and held.held_s is not None and 60 < held.held_s < 180 and held.left_s is None
            assert held.drift is not None and held.drift.c_min > 0.2
            warm = (await session.run(TRIALS["bed-soak"], SoakParameters(target=45), Onlooker())).ran.result
            lag = warm.finding("sheet_lag")
            assert lag is not None and lag.value == pytest.approx(480 / 6.1, rel=0.05), "begun a few degrees warm"
            await hold(45, 400)
            soaked = state()
            assert soaked is not None and soaked.left_s is not None and soaked.left_s < 60
            await hold(55, 5)
            anew = state()
            assert anew is not None and anew.held_s is None
            await hold(None, 2)
            assert state() is None

    virtually(work)
