"""Pressure advance on a whole machine: lines printed, picked, measured, compared; stopped, cut off and refused."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Onlooker, Rig, tern, virtually
from tests.session.test_wire_trials import RIGHT
from ublet.benchmark.melts import made_up_melt
from ublet.core.catalogue import TRIALS
from ublet.core.extrude.advance_lines import LinesParameters
from ublet.core.extrude.advance_trials import BELOW, BEYOND, AdvanceParameters, VerifyParameters
from ublet.core.observations import ReadLines
from ublet.core.questions import Confirm, Live, Measure, Pick, Question
from ublet.core.route import station_named
from ublet.core.run import Progress
from ublet.core.units import NotAQuantity
from ublet.session.headless import run_on_scenario
from ublet.session.orders import order_for
from ublet.session.standings import standing
from ublet.world.builder import ScriptedBuilder
from ublet.world.extrude_truth import evenest_line_s
from ublet.world.scenario import load_scenario, parse_scenario

SPEC = TRIALS["advance-lines"]


def ran(folder: Path, number: int, *words: str, trial: str = "advance-lines", keep: bool = False) -> dict[str, Any]:
    path, _ = made_up_melt(folder, number)
    order = order_for(trial, list(words), keep=keep, save=False)
    report: dict[str, Any] = run_on_scenario(order, path, None, number, lambda progress: None).report
    return report


def of(report: dict[str, Any], what: str) -> dict[str, Any]:
    return next(finding for finding in report["findings"] if finding["id"].split(".")[0] == what)


@pytest.mark.parametrize("number", [0, 1], ids=["direct", "tube"])
def test_lines_by_eye_find_what_is_evenest_in_the_world_and_their_time_is_right(number: int, tmp_path: Path) -> None:
    path, machine = made_up_melt(tmp_path, number)
    truth = evenest_line_s(load_scenario(path), machine, LinesParameters())
    report = ran(tmp_path, number)
    advance = of(report, "advance")
    assert report["outcome"] == "proven", report["why"]
    assert abs(advance["value"] - truth) <= max(0.004, 0.1 * truth)
    assert abs(advance["value"] - truth) <= 2 * advance["uncertainty"]
    assert of(report, "taken")["value"] == pytest.approx(of(report, "predicted")["value"], rel=0.03)
    settings = [proposal["setting"] for proposal in report["proposals"]]
    assert settings == ["extruder.advance_s", "materials.pla.advance_s"]


def test_widths_typed_over_the_range_and_then_next_to_the_evenest_reach_five_per_cent(tmp_path: Path) -> None:
    path, machine = made_up_melt(tmp_path, 2)
    truth = evenest_line_s(load_scenario(path), machine, LinesParameters())
    advance = of(ran(tmp_path, 2, "by_widths=true"), "advance")
    assert abs(advance["value"] - truth) <= min(0.05 * truth, 2 * advance["uncertainty"])


def test_a_range_that_ends_too_early_says_go_on_beyond(tmp_path: Path) -> None:
    report = ran(tmp_path, 0, "last_s=0.02", "step_s=0.004")
    assert report["outcome"] == "failed" and "go on beyond" in report["why"]
    assert any("last_s" in way for way in report["ways_out"]) and not report["proposals"]


def test_what_was_kept_is_compared_with_the_old_one(tmp_path: Path) -> None:
    report = ran(tmp_path, 0, keep=True)
    assert report["verify"]["outcome"] == "proven" and "more even than 0 s" in report["verify"]["why"]


class Watching(Onlooker):
    """A watcher whose questions a builder answers."""

    def __init__(self, builder: ScriptedBuilder) -> None:
        super().__init__()
        self.builder = builder

    async def answer(self, question: Question) -> str:
        self.questions.append(question)
        return await self.builder.answer(question)


class Typing(ScriptedBuilder):
    """Answers picks and readings as a test says; everything else as usual."""

    picks: Iterator[str] = iter(())
    confirms: Iterator[str] = iter(())
    widths: Callable[[Measure], str] | None = None

    async def answer(self, question: Question) -> str:
        if isinstance(question, Pick):
            return question.taken(next(self.picks))
        if isinstance(question, Confirm) and "Another lamp" in question.text:
            return next(self.confirms)
        if isinstance(question, Measure) and self.widths is not None:
            return self.widths(question)
        return await super().answer(question)


def on_tern(tmp_path: Path, builder: Callable[[Typing], None], aim: AdvanceParameters | VerifyParameters) -> Any:
    """A trial on the wired Tern, whose bed is as uneven as it is: what is seen there is typed by the test."""
    trial = TRIALS["advance-lines" if isinstance(aim, AdvanceParameters) else "advance-verify"]

    async def body() -> Any:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            typing = Typing(rig.scenario, rig.hands)
            builder(typing)
            entered = await rig.session.run(trial, aim, Watching(typing))
            return entered.ran.result, rig.session.live("extruder.advance_s"), rig

    return virtually(body)


BESIDE = {"mm behind the second stroke": 1.5, "mm behind the first stroke": -0.5}
"""What is off behind a change of speed, and by how much of it."""

SHORT = AdvanceParameters(last_s=0.04, step_s=0.01)


def test_looks_are_kept_together_and_both_values_are_offered(tmp_path: Path) -> None:
    def builder(typing: Typing) -> None:
        typing.picks, typing.confirms = iter(("3", "3-4")), iter(("look again", "type widths too"))
        typing.widths = widths

    def widths(question: Measure) -> str:
        number = int(question.text.split()[1].rstrip(":"))
        wide = next((sign for words, sign in BESIDE.items() if words in question.text), 0.0)
        return f"{0.55 + wide * 0.05 * (3.4 - number):.3f}"

    result, live, _ = on_tern(tmp_path, builder, SHORT)
    assert [option.name for option in result.options] == ["as seen", "as measured"]
    assert result.finding("seen").value == pytest.approx((0.02 + 0.025) / 2)
    assert result.finding("measured").value == pytest.approx(0.024, abs=0.001)
    assert live == 0.0, "the value that was live before is live again"


def test_where_all_lines_look_even_no_value_is_proven_and_the_pick_is_offered(tmp_path: Path) -> None:
    def builder(typing: Typing) -> None:
        typing.picks, typing.confirms = iter(("1-5",)), iter(("that is it",))

    result, _, _ = on_tern(tmp_path, builder, SHORT)
    assert result.outcome == "failed" and "all look even" in result.why
    assert [option.name for option in result.options] == ["as seen"]
    assert "last_s" in result.remedies[0].words


def test_contradictory_widths_leave_what_the_eye_chose(tmp_path: Path) -> None:
    def builder(typing: Typing) -> None:
        typing.picks, typing.confirms = iter(("2",)), iter(("type widths too",))
        typing.widths = lambda question: "0.55"

    result, _, _ = on_tern(tmp_path, builder, SHORT)
    assert "contradict" in result.why and [option.name for option in result.options] == ["as seen"]


def test_below_the_first_line_and_nonsense_are_answered_in_words(tmp_path: Path) -> None:
    pick = Pick("Which?", (BELOW, BEYOND), None, labels=("a", "b", "c"))
    for wrong in ("0", "4", "1-9", "x", "1-2-3", ""):
        with pytest.raises(NotAQuantity, match="allowed"):
            pick.taken(wrong)
    assert pick.taken("3 - 2") == "3-2" and pick.picked("3-2") == (1, 2) and pick.taken("bel") == BELOW

    def builder(typing: Typing) -> None:
        typing.picks = iter((BELOW,))

    result, _, _ = on_tern(tmp_path, builder, AdvanceParameters(first_s=0.02, last_s=0.06, step_s=0.01))
    assert result.outcome == "failed" and "below it" in result.why and "first_s" in result.remedies[0].words


def test_stopped_on_the_way_what_lies_there_is_read_and_the_live_value_stands(tmp_path: Path) -> None:
    class Stops(Typing):
        async def answer(self, question: Question) -> str:
            if isinstance(question, Live):
                import asyncio

                await asyncio.sleep(200.0)
                return question.answers[0]
            if isinstance(question.cue, ReadLines):
                assert isinstance(question, Pick) and 3 <= len(question.labels) < 21
            return await super().answer(question)

    async def body() -> Any:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            builder = Stops(rig.scenario, rig.hands)
            builder.picks, builder.confirms = iter(("2",)), iter(("that is it",))
            entered = await rig.session.run(SPEC, AdvanceParameters(), Watching(builder))
            return entered.ran.result, rig.session.live("extruder.advance_s"), rig.everything_is_off()

    result, live, off = virtually(body)
    assert result.finding("advance") is not None and live == 0.0 and off


def test_a_print_that_was_cut_off_is_read_in_the_next_run(tmp_path: Path) -> None:
    async def body() -> Any:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            builder = Typing(rig.scenario, rig.hands)
            watched = Watching(builder)

            def looked(progress: Progress) -> None:
                if progress.about.startswith("line 6") and rig.host is not None:
                    rig.host.close()

            watched.progress = looked  # type: ignore[method-assign]
            first = await rig.session.run(SPEC, AdvanceParameters(), watched)
            await rig.session.connection.connect()
            await rig.session.connection.controller.release()
            await rig.session.connection.next_samples()
            builder.picks, builder.confirms = iter(("3",)), iter(("that is it",))
            second = await rig.session.run(SPEC, AdvanceParameters(), Watching(builder), go_on=True)
            return first.ran.result, second.ran.result, rig.everything_is_off()

    first, second, off = virtually(body)
    assert first.outcome == "failed" and "link" in first.why.lower() and off
    assert second.outcome == "proven", second.why
    assert second.finding("advance").value == pytest.approx(0.01)


def test_a_board_whose_image_lacks_the_module_is_not_asked_and_says_where_it_comes_from(tmp_path: Path) -> None:
    text = RIGHT.replace("[scenario]", 'lacks = ["advance"]\n\n[scenario]', 1)

    async def body() -> Any:
        async with Rig(tmp_path, parse_scenario(text)) as rig:
            return (await rig.session.run(SPEC, SHORT, Watching(ScriptedBuilder(rig.scenario, rig.hands)))).ran.result

    result = virtually(body)
    assert result.outcome == "failed" and "without the module advance" in result.why
    assert tern().modules.advance


def test_nothing_to_compare_is_said(tmp_path: Path) -> None:
    result, _, _ = on_tern(tmp_path, lambda typing: None, VerifyParameters(old_s=0.0))
    assert result.outcome == "failed" and "nothing to compare" in result.why


def test_what_is_kept_and_saved_is_live_and_makes_nothing_stale(tmp_path: Path) -> None:
    async def body() -> tuple[Any, Any, str]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            builder = Typing(rig.scenario, rig.hands)
            builder.picks, builder.confirms = iter(("3",)), iter(("that is it",))
            session = rig.session
            entered = await session.run(SPEC, SHORT, Watching(builder))
            (option,) = entered.ran.result.options
            await session.keep(option, entered.number, "advance")
            await session.save()
            state = standing(session, station_named("advance"))
            return session.live("extruder.advance_s"), session.live("materials.pla.advance_s"), state.state

    live, of_material, state = virtually(body)
    assert live == of_material == pytest.approx(0.02) and state != "stale"
