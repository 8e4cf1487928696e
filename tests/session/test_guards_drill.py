"""The guards' drill on the simulated board: each guard trips by itself and in time; one that does not is found out."""

from __future__ import annotations

import asyncio
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Onlooker, Rig, virtually
from tests.session.test_wire_trials import RIGHT, run
from ublet.core.acts import MakeFault
from ublet.core.catalogue import TRIALS
from ublet.core.heat.drills import DRILLS, late_of
from ublet.core.heat.model import HeaterModel, respond
from ublet.core.questions import Question
from ublet.firmware.guards import HeaterGuard
from ublet.session.headless import run_on_scenario
from ublet.session.library import scenario_path
from ublet.session.orders import order_for
from ublet.session.standings import standings
from ublet.world.builder import ScriptedBuilder
from ublet.world.scenario import parse_scenario

SPEC = TRIALS["guards-drill"]


@pytest.mark.parametrize("heater", ["hotend", "bed"])
def test_every_guard_trips_in_time_and_below_the_components_limit(heater: str, tmp_path: Path) -> None:
    code, report = run("guards-drill", tmp_path, RIGHT, f"heater={heater}")
    found = {finding["name"]: finding for finding in report["findings"]}
    assert code == 0 and f"7 guards of the {heater} trip by themselves" in report["why"]
    for name in ("over maximum", "link cut", *(drill.name for drill in DRILLS)):
        noticed = found[f"{name} noticed after"]
        assert 0 <= noticed["value"] <= noticed["limit"], name
    for drill in DRILLS:
        assert found[f"{drill.name} peak"]["value"] < found[f"{drill.name} peak"]["limit"]
    assert found["sensor pulled out noticed after"]["value"] < 0.6


def test_a_drill_allows_what_is_live_on_the_board(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT), state_s=0.1) as rig:
            await rig.session.connection.write_live({"heaters.hotend.guards.rise_window_s": 30.0})
            result = (await rig.session.run(SPEC, SPEC.parameters(), Builder(rig))).ran.result
            noticed = result.finding("noticed", drill="heater-falls-out")
            assert result.outcome == "proven" and noticed is not None
            assert 29 < noticed.value <= (noticed.limit or 0.0) < 37
            standing = standings(rig.session)["guards"]
            assert (standing.state, standing.figure) == ("open", "1 of 2"), "the bed's guards are still to be drilled"

    virtually(work)


class Builder(Onlooker):
    """A scripted builder in a rig, who may let go at a question, or take his time."""

    def __init__(self, rig: Rig, cancel_at: str = "", takes_s: float = 0.0) -> None:
        super().__init__()
        self._takes_s = takes_s
        self._hands = ScriptedBuilder(rig.scenario, rig.hands)
        self._rig, self._cancel_at = rig, cancel_at

    async def answer(self, question: Question) -> str:
        self.questions.append(question)
        if isinstance(question.cue, MakeFault) and question.cue.kind == self._cancel_at:
            self._rig.session.runner.cancel()
            await asyncio.sleep(5)
        await asyncio.sleep(self._takes_s)
        return await self._hands.answer(question)

    async def undo(self, question: Question) -> bool:
        return await self._hands.undo(question)


@pytest.mark.parametrize("takes_s", [3.0, 8.0, 20.0])
def test_a_builder_who_takes_his_time_finds_the_same(takes_s: float, folder: Path) -> None:
    """A heater is hotter than wanted by then: a guard watches for drift only once the target was reached."""

    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            result = (await rig.session.run(SPEC, SPEC.parameters(), Builder(rig, takes_s=takes_s))).ran.result
            noticed = result.finding("noticed", drill="switch-stuck-on")
            assert noticed is not None and noticed.limit is not None, result.why
            assert noticed.value <= noticed.limit

    virtually(work)


@pytest.mark.parametrize(
    ("missing", "words"),
    [("_rise", "Heater falls out: "), ("_drift", "Switch stuck on: ")],
)
def test_a_board_without_a_guard_is_found_out(
    missing: str, words: str, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(HeaterGuard, missing, lambda *arguments: None)

    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT), state_s=0.1) as rig:
            result = (await rig.session.run(SPEC, SPEC.parameters(), Builder(rig))).ran.result
            assert result.outcome == "failed" and words in result.why

    virtually(work)


def test_on_a_board_that_is_not_simulated_only_harmless_drills_are_done(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT), state_s=0.1) as rig:
            assert rig.session.connection.about is not None
            rig.session.connection.about = rig.session.connection.about.model_copy(update={"simulated": False})
            builder = Builder(rig)
            result = (await rig.session.run(SPEC, SPEC.parameters(), builder)).ran.result
            assert result.outcome == "proven" and "left out" in result.why and "3 guards" in result.why
            assert {question.cue.kind for question in builder.questions if isinstance(question.cue, MakeFault)} == {
                "sensor-out",
                "sensor-back",
            }

    virtually(work)


def test_a_builder_who_cancels_or_a_halt_leaves_nothing_hot_and_the_maximum_as_it_was(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT), state_s=0.1) as rig:
            result = (await rig.session.run(SPEC, SPEC.parameters(), Builder(rig, "sensor-short"))).ran.result
            assert result.outcome == "halted" and rig.everything_is_off()
            running = asyncio.ensure_future(rig.session.run(SPEC, SPEC.parameters(), Builder(rig)))
            await asyncio.sleep(20)
            rig.session.connection.halt()
            assert (await running).ran.result.outcome == "halted" and rig.everything_is_off()
            assert rig.board.layers.live["heaters.hotend.maximum_c"] == 285

    virtually(work)


@pytest.mark.parametrize("seed", [1, 2, 3, 4, 5])
@pytest.mark.parametrize("stem", ["tern-280", "wren-180"])
def test_a_machine_without_fault_passes_whatever_the_seed(stem: str, seed: int) -> None:
    order = order_for("guards-drill", [], keep=False, save=False)
    done = run_on_scenario(order, scenario_path(stem), None, seed, lambda progress: None)
    assert done.outcome == "proven", done.report["why"]
    assert "for heat that is on its way to the sensor" in done.report["why"]


def test_a_sensor_that_lags_is_read_from_its_climb() -> None:
    """A ramp of 1.2 °C/s that arrives 4 s late, by dead time and two lags."""
    time_s = np.arange(0, 40, 0.5)
    model = HeaterModel(1.2e5, 1e5, 1.5, 23.0, 2.5)
    seen = respond(model, time_s, np.ones_like(time_s), 23.0)
    late = late_of(time_s.tolist(), seen.tolist(), 0.0)
    assert (
        late is not None and late.lag_s == pytest.approx(4.0, abs=0.3) and late.heat_up_c_s == pytest.approx(1.2, 0.02)
    )
    assert late.on_its_way_s(5.0) == late.lag_s and late_of(time_s[:5].tolist(), seen[:5].tolist(), 0.0) is None
