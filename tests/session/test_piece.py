"""The test piece on the simulated board: its time and its steps, changed while it runs, ended in its middle."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern, virtually
from tests.session.test_wire_trials import RIGHT, run
from ublet.core.catalogue import TRIALS
from ublet.core.extrude.piece_trials import AWAY, CLOSER, FASTER, HOLD, ON, STOP, THICKER, PieceParameters, piece
from ublet.core.motion.patterns import in_the_air, square
from ublet.core.motion.program import Push, To
from ublet.core.questions import Live, Question
from ublet.core.run import TrialResult
from ublet.world.scenario import parse_scenario

SPEC = TRIALS["test-piece"]


class Uses(Onlooker):
    """Uses live controls, one after the other, so many seconds apart."""

    def __init__(self, controls: Sequence[str], apart_s: float) -> None:
        super().__init__()
        self.controls = list(controls)
        self.apart_s = apart_s

    async def answer(self, question: Question) -> str:
        if not isinstance(question, Live):
            return await super().answer(question)
        await asyncio.sleep(self.apart_s if self.controls else 1e6)
        return self.controls.pop(0)


def changed_by(folder: Path, controls: Sequence[str], apart_s: float, aim: PieceParameters) -> tuple[TrialResult, Rig]:
    """How it ends when these controls are used."""

    async def work() -> tuple[TrialResult, Rig]:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            entered = await rig.session.run(SPEC, aim, Uses(controls, apart_s))
            assert not rig.board.mover.moving and rig.everything_is_off()
            return entered.ran.result, rig

    return virtually(work)


def test_it_takes_as_long_as_predicted_and_loses_no_step(tmp_path: Path) -> None:
    code, report = run("test-piece", tmp_path, RIGHT)
    found = {each["id"]: each["value"] for each in report["findings"]}
    assert code == 0 and "No step was lost" in report["why"] and found["lost"] < 0.1
    assert found["taken"] == pytest.approx(found["predicted"], rel=0.03, abs=0.2)


def test_a_motor_that_slips_on_the_way_is_found_out(tmp_path: Path) -> None:
    slips = RIGHT.replace("knee_turns_s = 13", "knee_turns_s = 13\ntorque_nm_a = 0.03")
    code, report = run("test-piece", tmp_path, slips)
    assert code == 1 and "steps were lost" in report["why"]


def test_dry_it_is_the_same_way_higher_and_without_filament() -> None:
    wet, dry = square(tern()), in_the_air(square(tern()), 20.0)
    assert wet.pushes and not dry.pushes and not any(isinstance(each, Push) for each in dry.segments)
    start = {"x": 0.0, "y": 0.0, "z": 10.0}
    flat = [
        (end["x"], end["y"]) for each, end in zip(wet.segments, wet.ends(start), strict=True) if isinstance(each, To)
    ]
    assert [(end["x"], end["y"]) for end in dry.ends(start)] == flat and dry.places == wet.places
    assert min(end["z"] for end in dry.ends(start)) == min(end["z"] for end in wet.ends(start)) + 20.0
    assert piece(tern(), PieceParameters(printed=True)) == wet


def test_it_is_nudged_held_and_sent_on_and_what_was_changed_is_told(tmp_path: Path) -> None:
    controls = [CLOSER, CLOSER, AWAY, HOLD, ON, FASTER]
    result, _ = changed_by(tmp_path, controls, 3.0, PieceParameters())
    nudged = result.finding("nudged")
    assert result.outcome == "proven" and nudged is not None and nudged.value == pytest.approx(-0.02)
    assert "nudged by -0.02 mm in all" in result.why and result.finding("taken") is None


def test_it_is_printed_hot_and_what_it_pushes_is_told(tmp_path: Path) -> None:
    result, rig = changed_by(tmp_path, [], 1.0, PieceParameters(printed=True, side_mm=20.0, rounds=1))
    assert result.outcome == "proven", result.why
    drawn_back = 1.2 - 0.8  # the board's store has another retraction than the file, and ends with it
    pushed_mm = square(tern(), 20.0, 1).filament_mm - drawn_back
    assert rig.world.filament.fed_mm == pytest.approx(pushed_mm * 11.34 / 11.52, rel=0.01)


def test_thicker_pushes_more_of_what_is_left_to_push(tmp_path: Path) -> None:
    printed = PieceParameters(printed=True, side_mm=40.0, rounds=3)
    (tmp_path / "usual").mkdir()
    (tmp_path / "thick").mkdir()
    _, usual = changed_by(tmp_path / "usual", [], 1.0, printed)
    result, thick = changed_by(tmp_path / "thick", [THICKER, THICKER], 4.0, printed)
    assert result.outcome == "proven" and 1.04 < thick.world.filament.fed_mm / usual.world.filament.fed_mm < 1.1


def test_stopped_by_a_control_it_is_not_finished(tmp_path: Path) -> None:
    result, rig = changed_by(tmp_path, [STOP], 8.0, PieceParameters())
    assert result.outcome == "failed" and "not finished (stopped)" in result.why
    assert rig.board.mover.position["x"] is None, "what was stopped on its way is no longer homed"


def test_one_that_does_not_fit_says_what_would(tmp_path: Path) -> None:
    assert run("test-piece", tmp_path, RIGHT, "side_mm=15", "rounds=10")[1]["why"].startswith(
        "A square of 15 mm with 10"
    )
