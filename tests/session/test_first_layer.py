"""The first layer on simulated machines: a wrong offset is found and folded in, and no nudge is ever lost."""

from __future__ import annotations

import asyncio
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
import tomlkit

from tests.conftest import Onlooker, Rig, mended_tern, tern, virtually
from ublet.benchmark.beds import made_up
from ublet.benchmark.layers import BY_HAND, leg, smooth
from ublet.core.catalogue import TRIALS
from ublet.core.level.mesh.first_layer_trials import LayerParameters, program_of
from ublet.core.observations import LowerOntoGauge
from ublet.core.questions import Judge, Live, Question
from ublet.core.remedy import StartAgain
from ublet.core.run import TrialFailed, TrialResult
from ublet.ledger.book import Ledger

SPEC = TRIALS["first-layer"]
OFFSET = "probe.offset_z_mm"


def flat(scenario: Path) -> Path:
    """The same machine with a bed that is level and flat."""
    truth = tomllib.loads(scenario.read_text(encoding="utf-8"))
    truth["bed"] = {}
    scenario.write_text(tomlkit.dumps(truth), encoding="utf-8")
    return scenario


class Nudging(Onlooker):
    """Uses these controls one after the other while it is printed, then does something; judges all alike."""

    def __init__(self, controls: list[str], then: Callable[[], None] = lambda: None, verdict: int = 2) -> None:
        super().__init__()
        self.controls, self.then, self.verdict = controls, then, verdict
        self.judging: Callable[[], None] = lambda: None

    async def answer(self, question: Question) -> str:
        if isinstance(question, Judge):
            self.judging()
            return f"all {self.verdict}"
        if not isinstance(question, Live):
            return await super().answer(question)
        await asyncio.sleep(45.0)
        if self.controls:
            return self.controls.pop(0)
        self.then()
        return str(await asyncio.get_running_loop().create_future())


def cool(rig: Rig) -> None:
    """A hand comes near only when nothing heats and the nozzle is away."""
    assert rig.everything_is_off() and (rig.session.connection.channel("axes.z.mm") or 0.0) >= 39.9


def printed(
    folder: Path, controls: list[str], then: Callable[[Rig], None] = lambda rig: None
) -> tuple[TrialResult, float, Path]:
    """How it ends, the Z offset that was live, and the machine's file."""

    async def work() -> tuple[TrialResult, float, Path]:
        async with Rig(folder, mended_tern()) as rig:
            before = rig.session.live(OFFSET)
            assert isinstance(before, float)
            builder = Nudging(controls, lambda: then(rig))
            builder.judging = lambda: cool(rig)
            entered = await rig.session.run(SPEC, LayerParameters(), builder)
            return entered.ran.result, before, rig.file

    return virtually(work)


def test_while_extruder_steps_are_not_measured_the_height_is_not_sure(folder: Path) -> None:
    """Twice the filament closes its lines far above the bed: a look cannot tell that from a wrong offset."""
    scenario, _ = made_up(folder, 1, 3, "pin")
    tables = tomllib.loads(smooth(scenario, 1).read_text(encoding="utf-8"))
    tables["motors"]["M6"] = {"role": "extruder", "turn_mm": 11.52, "microsteps": 8, "torque_nm_a": 0.16}
    scenario.write_text(tomlkit.dumps(tables), encoding="utf-8")
    steps, _ = leg(scenario, 1, (("z-offset", {"nozzle_c": 210.0, "bed_c": 60.0}), ("first-layer", {})))
    step = steps[-1]
    left = step.result.finding("left")
    assert left is not None and left.uncertainty is not None
    assert left.uncertainty >= 0.1
    assert abs(left.value - step.truth["left"]) <= 3.2 * left.uncertainty
    assert "station extruder steps" in step.result.why


def test_a_bed_whose_rim_is_not_reached_is_printed_on() -> None:
    machine = tern()
    y = machine.axes.y.model_copy(update={"minimum_mm": 0.5})
    rimless = machine.model_copy(update={"axes": machine.axes.model_copy(update={"y": y})})
    assert len(program_of(rimless, LayerParameters()).segments) > 20
    far = y.model_copy(update={"minimum_mm": 30.0})
    narrow = machine.model_copy(update={"axes": machine.axes.model_copy(update={"y": far})})
    with pytest.raises(TrialFailed, match="allowed 30 to"):
        program_of(narrow, LayerParameters())


def test_patches_that_all_look_too_high_ask_for_a_nudge_and_not_to_leave_it(folder: Path) -> None:
    async def work() -> TrialResult:
        async with Rig(folder, mended_tern()) as rig:
            entered = await rig.session.run(SPEC, LayerParameters(), Nudging([], verdict=1))
            return entered.ran.result

    result = virtually(work)
    assert result.outcome == "failed" and "leave it" not in result.why
    assert "5 of 5 patches are too high" in result.why and "nudge nearer" in result.why
    assert result.remedies == (StartAgain("and nudge nearer while it prints"),)


def test_what_was_nudged_is_offered_as_an_offset(folder: Path) -> None:
    result, before, _ = printed(folder, ["nearer 0.05", "nearer 0.01", "further 0.01", "nearer 0.05"])
    assert result.outcome == "proven", result.why
    nudged = result.finding("nudged")
    assert nudged is not None and nudged.value == pytest.approx(-0.10)
    offered = {option.name: option.proposals for option in result.options}
    (proposal,) = offered["as nudged"]
    assert (proposal.setting, proposal.before) == (OFFSET, before)
    assert proposal.after == pytest.approx(before - 0.10) and "nearer to the bed" in proposal.effect


@pytest.mark.parametrize("how", ["halt", "cut", "cancel", "stop"])
def test_a_nudge_is_not_lost_whatever_ends_the_print(folder: Path, how: str) -> None:
    def end(rig: Rig) -> None:
        if how == "halt":
            rig.session.connection.halt()
        elif how == "cut":
            assert rig.host is not None
            rig.host.close()
        else:
            rig.session.runner.cancel()

    controls = ["nearer 0.05", "further 0.01", *(["stop"] if how == "stop" else [])]
    result, before, file = printed(folder, controls, end)
    (option,) = (each for each in result.options if each.name == "as nudged")
    assert option.proposals[0].after == pytest.approx(before - 0.04), result.why
    book = Ledger(file.with_suffix(".ledger"), threaded=False)
    entry = book.latest("first-layer")
    assert entry is not None and option in entry.result.options
    book.close()


@pytest.mark.parametrize("how", ["cancel", "cut", "trip"])
def test_a_print_that_is_left_lifts_and_parks_the_nozzle(folder: Path, how: str) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:

            def leave() -> None:
                if how == "cancel":
                    rig.session.runner.cancel()
                elif how == "cut":
                    assert rig.host is not None
                    rig.host.close()
                else:
                    rig.world.dead_heaters.add("hotend")  # it cools until the board pushes no more

            await rig.session.run(SPEC, LayerParameters(), Nudging([], leave))
            await asyncio.sleep(120.0)
            where = rig.world.mechanics.where
            assert where["z"] > 9.0, "clear of what was printed"
            if how == "cut":  # the board did it by itself
                assert where["x"] < 5.0 and where["y"] > 250.0
            assert rig.everything_is_off() and not rig.board.mover.moving
            assert None not in rig.board.mover.position.values(), "nothing was lost by it"

    virtually(work)


class Pressing(Nudging):
    """Uses the same control again and again, until it is asked something else; answers that with these, in turn."""

    def __init__(self, control: str, times: int, answers: list[str] | None = None, verdict: int = 2) -> None:
        super().__init__([], verdict=verdict)
        self.control, self.times, self.instead = control, times, answers or []
        self.asked: list[str] = []

    async def answer(self, question: Question) -> str:
        if not isinstance(question, Live):
            return await super().answer(question)
        if not self.asked or self.asked[-1] != question.text:
            self.asked.append(question.text)
        await asyncio.sleep(60.0 if not self.times else 0.5)
        if "stay" in (question.controls or {}):
            return self.instead.pop(0) if self.instead else "stay"
        if self.times:
            self.times -= 1
            return self.control
        return str(await asyncio.get_running_loop().create_future())


def pressed(folder: Path, builder: Pressing) -> tuple[TrialResult, float]:
    """The result, and the Z offset before."""

    async def work() -> tuple[TrialResult, float]:
        async with Rig(folder, mended_tern()) as rig:
            before = rig.session.live(OFFSET)
            assert isinstance(before, float)
            entered = await rig.session.run(SPEC, LayerParameters(), builder)
            return entered.ran.result, before

    return virtually(work)


def test_nearer_than_the_bed_allows_is_asked_and_never_offered(folder: Path) -> None:
    builder = Pressing("nearer 0.05", 50)
    result, before = pressed(folder, builder)
    nudged = result.finding("nudged")
    assert nudged is not None and nudged.value == pytest.approx(-0.15)  # a layer of 0.2 mm, and 0.05 is left
    assert any("0.00 mm" in text and "Go nearer only if" in text for text in builder.asked)
    offsets = [p.after for option in result.options for p in option.proposals if p.setting == OFFSET]
    assert offsets and all(isinstance(mm, float) and mm >= before - 0.1501 for mm in offsets), result.why


def test_a_builder_who_sees_a_gap_may_go_nearer_step_by_step(folder: Path) -> None:
    result, before = pressed(folder, Pressing("nearer 0.05", 5, ["nearer", "stay"], verdict=1))
    nudged = result.finding("nudged")
    assert nudged is not None and nudged.value == pytest.approx(-0.20)
    (option,) = (each for each in result.options if each.name == "as nudged")
    assert option.proposals[0].after == pytest.approx(before - 0.20)


def test_a_nudge_that_the_board_refuses_is_said_and_the_print_goes_on(folder: Path) -> None:
    builder = Pressing("further 0.05", 42)
    result, before = pressed(folder, builder)
    nudged = result.finding("nudged")
    assert nudged is not None and nudged.value == pytest.approx(2.0)
    assert any("Not nudged: height +2.05 mm: allowed up to 2 mm" in text for text in builder.asked)
    assert not any("stopped before its end" in each for each in [result.why])
    assert [option.proposals[0].after for option in result.options if option.name == "as nudged"] == [
        pytest.approx(before + 2.0)
    ]


def test_filament_that_runs_out_is_said_and_does_not_count(folder: Path) -> None:
    made = flat(made_up(folder, 2, 3, "pin")[0])
    text = made.read_text(encoding="utf-8").replace("[extruder]", "[extruder]\nspool_mm = 62.0")
    assert "spool_mm" in text
    made.write_text(text, encoding="utf-8")
    steps, _ = leg(made, 2, (("z-offset", {"nozzle_c": 210.0}), ("first-layer", {})))
    assert "Nothing stuck at" in steps[-1].result.why and "left back" in steps[-1].result.why


@pytest.mark.parametrize("wrong_mm", [0.15, -0.15])
def test_an_offset_that_is_wrong_is_good_within_four_patches_and_is_mended(tmp_path: Path, wrong_mm: float) -> None:
    made = flat(made_up(tmp_path, 4, 3, "pin")[0])
    steps, _ = leg(made, 4, (("z-offset", {"nozzle_c": 210.0}), ("first-layer", {})), wrong_mm)
    layer = steps[-1]
    assert layer.truth["good_after"] <= 4
    change, left = layer.result.finding("change"), layer.result.finding("left")
    assert change is not None and left is not None and left.uncertainty
    assert change.value == pytest.approx(-wrong_mm, abs=0.03), layer.result.why
    assert left.value == pytest.approx(layer.truth["left"], abs=2.5 * left.uncertainty)


def test_without_a_probe_what_was_judged_goes_into_the_meshs_shift(tmp_path: Path) -> None:
    made, _ = made_up(tmp_path, 1, 3, "nozzle")
    steps, _ = leg(smooth(made, 1), 1, (*BY_HAND[1:3], ("first-layer", {})))
    settings = {each.setting for option in steps[-1].result.options for each in option.proposals}
    assert settings <= {"mesh.shift_mm"} and settings, steps[-1].result.why


class Dragging(Onlooker):
    """Lowers onto the gauge so often, then stops; what a jog sees is the world's own gap."""

    def __init__(self, rig: Rig, times: int) -> None:
        super().__init__()
        self.rig, self.times = rig, times

    async def answer(self, question: Question) -> str:
        self.questions.append(question)
        if not isinstance(question.cue, LowerOntoGauge):
            return question.answers[0]
        if not self.times:
            return "stop here"
        left = self.rig.world.gap_mm - 0.1
        if left > 0.005:
            return f"z-{max(0.01, round(left - 0.005, 2)):g}"
        self.times -= 1
        return "it drags"


@pytest.mark.parametrize("times", [0, 1])
def test_touches_before_a_stop_are_kept_and_offered(folder: Path, times: int) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            spec = TRIALS["z-offset"]
            result = (await rig.session.run(spec, spec.parameters(), Dragging(rig, times))).ran.result
            assert result.outcome == "failed"
            if not times:
                assert result.options == () and "Stopped before the nozzle touched" in result.why
                return
            offset = result.finding("offset")
            assert offset is not None and "Stopped after 1 of 3 touches" in result.why
            assert result.choice is not None and result.proposals[0].after == pytest.approx(offset.value, abs=1e-3)

    virtually(work)
