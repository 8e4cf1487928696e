"""The leg Move on the simulated board: lengths, edges and limits against the scenario's truth, and what goes wrong."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, virtually
from tests.session.test_wire_trials import RIGHT, TERN, run
from ublet.core.catalogue import TRIALS
from ublet.core.questions import Question
from ublet.session.orders import parameters_from
from ublet.session.session import Session
from ublet.world.scenario import parse_scenario

BELT = "turn_mm = 40\n"
"""Of both motors of the belts."""


@pytest.mark.parametrize(
    ("before", "after", "words", "proposed"),
    [
        ("", "", "X and Y: leave it", {}),
        (BELT, "turn_mm = 32\n", "the pulley has 16 teeth, not 20", {"x": 200, "y": 200}),
        (
            BELT,
            "turn_mm = 40\nmicrosteps = 16\n",
            "the driver makes 16 microsteps, not 32",
            {"x": 80, "y": 80},
        ),
        ("turn_mm = 4\n", "turn_mm = 8\n", "the screw has a lead of 8 mm, not 4", {"z": 400}),
        (
            BELT,
            "turn_mm = 40.2\n",
            "outside the measurement error",
            {"x": 159.2, "y": 159.2},
        ),
    ],
)
def test_lengths_that_are_off_are_named_and_mended(
    before: str, after: str, words: str, proposed: dict[str, float], tmp_path: Path
) -> None:
    text = RIGHT.replace(before, after) if before else RIGHT
    which = f"axis={next(iter(proposed), 'all')}"
    code, report = run("steps-per-mm", tmp_path, text, which)
    assert words in report["why"] and (code == 0) is not bool(proposed)
    found = {p["setting"].split(".")[1]: p["after"] for p in report["proposals"]}
    assert found == {axis: pytest.approx(value, rel=5e-4) for axis, value in proposed.items()}
    for finding in report["findings"]:
        if finding["id"].startswith("steps_per_mm."):
            assert abs(finding["value"] - report["truth"][finding["id"]]) < 3 * finding["uncertainty"]
    if proposed:
        code, report = run("steps-per-mm", tmp_path, text, which, "--keep", "--save")
        assert code == 0, report["why"]
        assert report["saved"] == len(proposed) and "After the mend" in report["why"]


def test_lifts_that_do_not_carry_alike_are_named_and_no_setting_is_proposed(tmp_path: Path) -> None:
    text = RIGHT.replace('role = "z.back"\nturn_mm = 4\n', 'role = "z.back"\nturn_mm = 2\n')
    code, report = run("steps-per-mm", tmp_path, text, "axis=z", "length_mm=40")
    assert (
        code == 1
        and "Z's motors do not move it equally far" in report["why"]
        and "back differs from left" in report["why"]
    )
    assert report["proposals"] == []


def test_play_is_taken_up_before_a_length_is_read(tmp_path: Path) -> None:
    text = RIGHT.replace("play_mm = 0.02", "play_mm = 0.6", 1)
    code, report = run("steps-per-mm", tmp_path, text, "axis=x")
    error = next(f for f in report["findings"] if f["id"] == "error.x")
    assert code == 0 and abs(error["value"]) < 0.05


def test_a_dead_axis_is_still(tmp_path: Path) -> None:
    text = TERN.replace('role = "y.b"', 'role = "spare"')
    code, report = run("steps-per-mm", tmp_path, text, "axis=z")
    assert code == 1 and "did not find its end" in report["why"]


def test_edges_are_marked_and_limits_follow(tmp_path: Path) -> None:
    moved = RIGHT.replace("at_mm = -4", "at_mm = -6").replace("play_mm = 0.02\n", "play_mm = 0.02\nlow_mm = -9\n", 2)
    code, report = run("travel-limits", tmp_path, moved, "--keep")
    found = {f["id"]: f for f in report["findings"]}
    after = {p["setting"]: p["after"] for p in report["proposals"]}
    assert code == 0 and "The bed's corner is at X +" in report["why"]
    for name in ("low.x", "zero_to_corner.x", "high.y", "zero_to_corner.y"):
        assert abs(found[name]["value"] - report["truth"][name]) <= 2 * found[name]["uncertainty"]
    assert after["axes.x.minimum_mm"] == pytest.approx(-6, abs=0.5)
    assert -7.9 < after["axes.y.minimum_mm"] < -6.5, "inside the hard stop at -9, with the builder's room and ours"


def test_a_nearer_edge_takes_the_mesh_along(tmp_path: Path) -> None:
    """A belt clip stands in the way of X: the probe no longer reaches the outer points."""
    clipped = RIGHT.replace("play_mm = 0.02\n", "play_mm = 0.02\nhigh_mm = 270\n", 1)
    clipped = clipped.replace("offset_x_mm = -36.5", "offset_x_mm = -38")  # the board holds what the file says
    code, report = run("travel-limits", tmp_path, clipped, "--keep")
    after = {p["setting"]: p["after"] for p in report["proposals"]}
    size, offset = 280.0, -38.0
    assert code == 0 and after["axes.x.maximum_mm"] < 270
    assert after["mesh.margin_mm"] >= size - (after["axes.x.maximum_mm"] + offset) - 1e-6
    assert "contradicts" not in report["why"]


@pytest.mark.parametrize("weaker", ["", "knee_turns_s = 13\ntorque_nm_a = 0.09\n"])
def test_where_steps_are_lost_is_the_truths(weaker: str, tmp_path: Path) -> None:
    text = RIGHT.replace("knee_turns_s = 13\n", weaker) if weaker else RIGHT
    code, report = run("speed-limits", tmp_path, text, "axis=y", "--keep")
    limit = next(f for f in report["findings"] if f["id"] == "feed_limit.y")
    assert abs(limit["value"] - report["truth"]["feed_limit.y"]) < 3 * limit["uncertainty"]
    near = 0.85 * report["truth"]["feed_limit.y"] < 300
    kept = [p["after"] for p in report["proposals"] if p["setting"] == "axes.y.maximum_feed_mm_s"]
    assert code == 0 and ("too near" in report["why"]) is ("After the mend" in report["why"]) is near
    assert bool(kept) is near and all(after < 300 for after in kept)


def test_the_least_current_is_the_truths_and_too_little_is_raised(tmp_path: Path) -> None:
    weak = RIGHT.replace(BELT, "turn_mm = 40\ntorque_nm_a = 0.085\n")
    code, report = run("driver-current", tmp_path, weak, "axis=x", "--keep")
    least = next(f for f in report["findings"] if f["id"] == "least_current.x")
    assert code == 0 and abs(least["value"] - report["truth"]["least_current.x"]) < 3 * least["uncertainty"]
    after = {p["setting"]: p["after"] for p in report["proposals"]}
    assert set(after) == {"axes.x.motors.a.run_a", "axes.y.motors.b.run_a"}
    assert min(after.values()) > 1.4 * least["value"]


class Cutter(Onlooker):
    """A builder in whose hands something happens at a question."""

    def __init__(self, session: Session, what: str) -> None:
        super().__init__()
        self._session, self._what = session, what

    async def answer(self, question: Question) -> str:
        if self._what == "cancel":
            self._session.runner.cancel()
            await asyncio.sleep(5)
        elif self._what == "halt":
            self._session.connection.halt()
            await asyncio.sleep(5)
        elif self._what == "crash into the stop":
            return "x-20" if not self.questions.append(question) and len(self.questions) == 1 else "here"
        return "here" if "here" in question.answers else "marked"


@pytest.mark.parametrize(
    ("what", "outcome", "words"),
    [
        ("cancel", "halted", "Cancelled by you"),
        ("halt", "halted", "Halted by you"),
        ("crash into the stop", "failed", "X lost 1"),
    ],
)
def test_soft_limits_are_lifted_for_the_marks_only(what: str, outcome: str, words: str, folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            session, spec = rig.session, TRIALS["travel-limits"]
            entered = await session.run(spec, spec.parameters(), Cutter(session, what))
            assert entered.ran.result.outcome == outcome and words in entered.ran.result.why
            await asyncio.sleep(0.5)
            assert (
                rig.board.layers.live["axes.x.soft_limits"] is True
                and rig.board.layers.live["axes.y.soft_limits"] is True
            )
            assert not session.loans and not [s for s in session.unsaved() if "soft" in s.setting]
            assert not rig.board.mover.moving

    virtually(work)


def test_what_was_borrowed_is_given_back_after_a_lost_link(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            session, spec = rig.session, TRIALS["driver-current"]
            session.connection.keep()
            running = asyncio.ensure_future(session.run(spec, parameters_from(spec, ["axis=x"]), Onlooker()))
            for _ in range(600):
                await asyncio.sleep(0.05)
                if session.loans:
                    break
            assert rig.host is not None and rig.host.other is not None
            rig.host.other.close()
            assert (await running).ran.lost
            for _ in range(100):
                await asyncio.sleep(0.2)
                if session.connection.linked and not session.loans:
                    break
            assert not session.loans
            assert rig.board.layers.live["axes.x.maximum_feed_mm_s"] == 300
            assert rig.board.layers.live["axes.x.motors.a.run_a"] == pytest.approx(1.1)

    virtually(work)


def test_a_second_trial_does_not_start_beside_the_first(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            spec = TRIALS["homing"]
            first = asyncio.ensure_future(rig.session.run(spec, spec.parameters(), Onlooker()))
            await asyncio.sleep(3)
            second = await rig.session.run(
                TRIALS["fans-one-by-one"], TRIALS["fans-one-by-one"].parameters(), Onlooker()
            )
            assert "“homing” is running" in second.ran.result.why
            rig.session.runner.cancel()
            assert (await first).ran.result.outcome == "halted"

    virtually(work)
