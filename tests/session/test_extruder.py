"""Extruder steps on the simulated board: planted causes named, truths within what is claimed, gone on with."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from ublet.benchmark.extruders import NAMED, made_up_extruder, planted_in
from ublet.core.acts import MarkFilament
from ublet.core.catalogue import TRIALS
from ublet.core.extrude.trials import ExtruderParameters
from ublet.core.questions import Measure, Question
from ublet.core.run import Progress
from ublet.core.units import NotAQuantity
from ublet.session.headless import run_on_scenario
from ublet.session.library import DATA, scenario_path
from ublet.session.orders import order_for
from ublet.world.builder import ScriptedBuilder

SPEC = TRIALS["extruder-steps"]


def quietly(progress: Progress) -> None:
    """Nobody looks on."""


@pytest.mark.parametrize(
    ("machine", "seed", "words"),
    [("tern-280", 2, "outside the measurement error"), ("wren-180", 1, "the driver makes 8 microsteps, not 16")],
)
def test_both_machines_find_what_is_wrong_mend_it_and_confirm(machine: str, seed: int, words: str) -> None:
    order = order_for("extruder-steps", [], keep=True, save=False)
    report = run_on_scenario(order, scenario_path(machine), None, seed, quietly).report
    assert words in report["why"] and "After the mend" in report["why"] and report["verify"]["outcome"] == "proven"
    settings = [each["setting"] for each in report["proposals"]]
    microsteps = ["extruder.motor.microsteps"] if "microsteps" in words else []
    assert settings == [*microsteps, "extruder.steps_per_mm"], "a fault of the driver is mended as one"
    proposal = report["proposals"][-1]
    assert proposal["after"] == pytest.approx(report["truth"]["steps_per_mm.e"], rel=0.006)
    for finding in report["findings"]:
        if finding["id"] in report["truth"]:
            assert abs(finding["value"] - report["truth"][finding["id"]]) < 3 * finding["uncertainty"], finding


@pytest.mark.parametrize("planted", [planted for planted in NAMED if planted != "sound"])
def test_what_is_planted_is_named_and_nothing_else(planted: str, tmp_path: Path) -> None:
    number = next(number for number in range(60) if planted_in(number) == planted)
    scenario, _ = made_up_extruder(tmp_path, number)
    order = order_for("extruder-steps", ["repeats=2"], keep=False, save=False)
    report = run_on_scenario(order, scenario, None, number, quietly).report
    assert report["outcome"] == "failed" and NAMED[planted] in report["why"]
    assert not [words for words in NAMED.values() if words and words != NAMED[planted] and words in report["why"]]


def test_a_material_that_is_too_cold_for_the_board_heats_and_moves_nothing(tmp_path: Path) -> None:
    shutil.copytree(DATA / "machines", tmp_path / "machines")
    file = tmp_path / "machines" / "tern-280.toml"
    text = file.read_text(encoding="utf-8").replace("nozzle_c = 215", "nozzle_c = 172\nleast_nozzle_c = 170")
    file.write_text(text, encoding="utf-8")
    (tmp_path / "scenarios").mkdir()
    scenario = tmp_path / "scenarios" / "tern-280.toml"
    shutil.copyfile(scenario_path("tern-280"), scenario)
    report = run_on_scenario(order_for("extruder-steps", [], False, False), scenario, None, 1, quietly).report
    assert report["outcome"] == "failed" and "the board pushes from 175 °C on" in report["why"]
    assert report["duration_s"] < 5


def test_a_run_that_ends_at_the_fast_push_goes_on_with_its_slow_readings(tmp_path: Path) -> None:
    marked: list[str] = []

    class StopsOnce(Onlooker):
        def __init__(self, builder: ScriptedBuilder) -> None:
            super().__init__()
            self.builder = builder

        async def answer(self, question: Question) -> str:
            if isinstance(question.cue, MarkFilament):
                marked.append(question.text)
                if len(marked) == 4:
                    return "stop here"
            return await self.builder.answer(question)

    async def scenario() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            onlooker = StopsOnce(ScriptedBuilder(rig.scenario, rig.hands))
            first = (await rig.session.run(SPEC, ExtruderParameters(), onlooker)).ran.result
            assert first.outcome == "failed" and "3 slow" in first.why and rig.everything_is_off()
            half = rig.session.trials.resumable(SPEC, ExtruderParameters())
            assert half is not None and half.checkpoint.words == "3 slow read"
            whole = (await rig.session.run(SPEC, ExtruderParameters(), onlooker, True)).ran.result
            assert whole.finding("steps_per_mm") is not None and len(marked) == 6
            assert all("3.5 mm/s" in text for text in marked[3:])

    virtually(scenario)


def test_a_reading_may_be_a_word() -> None:
    asked = Measure("How much?", ("gone", "no filament left"), unit="mm")
    assert asked.taken("gon") == "gone" and asked.taken("n") == "no filament left" and asked.taken("2.15cm") == "2.15cm"
    for wrong in ("", "lost", "12 °C"):
        with pytest.raises(NotAQuantity):
            asked.taken(wrong)
