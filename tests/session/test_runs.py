"""Runs on a simulated board: recorded whatever ends them, gone on with, traced, and made stale by what moves."""

from __future__ import annotations

import asyncio
import shutil
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Onlooker, Rig, cues_noted, requests_noted, tern_scenario, virtually
from ublet.benchmark.wired import well_wired
from ublet.core.acts import AdjustScrew, Cue, LoadBed, PressSwitch, TurnLift, TurnScrew
from ublet.core.bench import Bench
from ublet.core.catalogue import LEVEL, TRIALS
from ublet.core.facts import FACTS, Fact, FactError, fact_from, paths
from ublet.core.heat.trials import HotendParameters
from ublet.core.motion.homing_moves import home_axis
from ublet.core.observations import (
    AimAtDot,
    FeelBlocks,
    LookAtFans,
    LookAtMotors,
    LowerOntoGauge,
    ReadGap,
    ReadRipples,
    WatchFirstLayer,
)
from ublet.core.questions import Confirm, Jog, Judge, Live, Measure, Question
from ublet.core.run import Checkpoint, Finding, Progress, Stream, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.core.units import NotAQuantity
from ublet.link.controller import capability_of
from ublet.session.document import Document
from ublet.session.headless import on_scenario, run_on_scenario
from ublet.session.library import boards, machine_path, scenario_path
from ublet.session.orders import order_for
from ublet.session.record import Offline, affected_by, run_lines
from ublet.session.saving import now
from ublet.session.standings import standings
from ublet.session.trials import CLOSED

SHORT = {
    "hotend-control": ("cycles=4",),
    "bed-control": ("cycles=4",),
    "speed-limits": ("axis=x",),
    "driver-current": ("axis=x",),
    "extruder-steps": ("repeats=2",),
    "steps-per-mm": ("axis=x",),
}
"""Parameters with which a trial does all that it does, sooner."""

FACTS_BY_CUE: dict[type[Cue], tuple[str, ...]] = {
    LowerOntoGauge: ("nozzle",),
    AimAtDot: ("nozzle", "probe"),
    WatchFirstLayer: ("nozzle", "surface"),
    TurnScrew: ("screw", "moved"),
    AdjustScrew: ("screw", "moved"),
    TurnLift: ("lift", "moved"),
    ReadGap: ("lift", "moved"),
    PressSwitch: ("plugs",),
    LookAtFans: ("plugs",),
    LookAtMotors: ("plugs",),
    FeelBlocks: ("plugs",),
    LoadBed: ("load", "moved"),
    ReadRipples: ("load", "moved"),
}
FACTS_BY_REQUEST = {"motor.turn": ("plugs",), "probe.pin": ("probe",)}
"""What a recipe has hands do, eyes look at and a board do, and the facts that its findings then rest on."""

NOT_RESTED_ON = {"inputs-by-hand": {"probe"}}
"""What only leads there: the pin is put down so that it can be pressed."""

CONNECTING = {"image.status"}
"""Asked of every board at each link."""

FIGURE_COLUMNS = 11
"""What the route has for a station's key figure."""

CHEAP = ("inputs-by-hand", "fans-one-by-one", "motors-one-by-one", "directions", "homing", "sensors-at-rest")


def spec(run: Any, *streams: Stream, **more: Any) -> TrialSpec:
    """A trial of this test's own."""
    return TrialSpec("test", "homing", "", Part, run, streams, lambda m, a: "", lambda m, a, r: (), **more)


def quietly(progress: Progress) -> None:
    """Nobody looks on."""


def machine_for(trial: str, at: int) -> str:
    """One machine or the other; what only computes from an earlier sweep has none, as behind a planted fault."""
    if trial in ("input-shaper", "acceleration-limit"):
        return "tern-280"
    return "wren-180" if trial.startswith(("bed-", "driver-", "speed-", "test-")) or at % 2 else "tern-280"


@pytest.mark.parametrize(
    ("trial", "machine"),
    [
        (name, machine_for(name, at))
        for at, name in enumerate(TRIALS)
        if not name.endswith("-verify") and name != "accelerometer-at-rest"
    ],
)
def test_every_trial_records_rows_with_units_and_what_it_rests_on(
    trial: str, machine: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The whole catalogue (a check by the trial that it checks), on one machine or the other."""
    asked, cues = requests_noted(monkeypatch), cues_noted(monkeypatch)
    copied = tmp_path / f"{machine}.toml"
    shutil.copyfile(machine_path(machine), copied)
    order = order_for(trial, list(SHORT.get(trial, ())), keep=trial.endswith("-control"), save=False)
    scenario = scenario_path(machine)
    if machine == "tern-280" and TRIALS[trial] in LEVEL:
        wired = well_wired(scenario.read_text(encoding="utf-8"))  # so that it gets as far as the bed
        (tmp_path / "machines").mkdir()
        shutil.copyfile(copied, tmp_path / "machines" / copied.name)
        scenario = tmp_path / "scenarios" / "wired.toml"
        scenario.parent.mkdir()
        scenario.write_text(wired, encoding="utf-8")
    report = run_on_scenario(order, scenario, copied, 3, quietly).report
    used = {capability_of(method) for method in asked - CONNECTING} - {
        None,
        "loans",
    }
    assert used <= set(TRIALS[trial].uses(Document(copied).machine)), "what a board must be able to do is declared"
    offline = Offline(copied)
    for each in (report, report.get("verify")):
        if each is None:
            continue
        if each["run"] is None:  # the board lacks what it takes, and the station does not wait for it
            assert "Not started" in each["why"] and TRIALS[trial].idle(Document(copied).machine)
            continue
        entry, streams = offline.ledger.run(each["run"]), offline.ledger.streams(each["run"])
        assert entry is not None and not entry.running and entry.result.outcome == each["outcome"]
        planted = machine == "tern-280" and each["outcome"] == "failed"
        idle = TRIALS[trial].idle(Document(copied).machine)
        assert streams or planted or idle, "a planted fault may come first, or there is nothing to do"
        assert all(len(one.rows) and len(one.units) == len(one.columns) for one in streams.values())
        facts = {rest.path for rest in entry.rests if rest.kind == "fact"}
        due = {kind for cue, kinds in FACTS_BY_CUE.items() if cue in cues for kind in kinds}
        due |= {kind for method, kinds in FACTS_BY_REQUEST.items() if method in asked for kind in kinds}
        if each["trial"] == trial:
            assert due - NOT_RESTED_ON.get(trial, set()) <= {path.partition(".")[0] for path in facts}
        assert (entry.rests or not streams) and {rest.path for rest in entry.rests} <= set(each["conditions"])
        if entry.result.outcome == "proven":
            assert len(TRIALS[entry.name].figure(entry.result)) <= FIGURE_COLUMNS, "it is not cut in the route"
        ids = [finding["id"] for finding in each["findings"]]
        assert len(set(ids)) == len(ids) and set(each["truth"]) <= set(ids)
        assert all(not any(sign.isdigit() for sign in finding["id"]) for finding in each["findings"])
        assert offline.ledger.opening(entry.id)["live"], "what was live is known"
    offline.close()


def test_a_cancelled_run_keeps_what_it_had_and_says_how_it_ended(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            going = asyncio.ensure_future(session.run(TRIALS["hotend-control"], HotendParameters(), Onlooker()))
            await asyncio.sleep(60)
            running = session.ledger.latest("hotend-control")
            assert running is not None and running.running
            session.runner.cancel()
            entered = await going
            entry = session.ledger.run(entered.number or 0)
            assert entry is not None and entry.result.outcome == "halted" and "Cancelled by you" in entry.result.why
            rows = session.ledger.streams(entry.id)["relay"].rows
            assert len(rows) > 500 and rows[-1, 2] > 100, "all of the minute"
            assert any(rest.path == "sensors.hotend.beta_k" for rest in entry.rests)
            lines = [line.words for line in run_lines(session.ledger, entry)]
            assert any(words.startswith("relay: ") for words in lines)

    virtually(work)


def test_closing_the_app_in_the_middle_leaves_a_run_that_was_cut_off(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            going = asyncio.ensure_future(rig.session.run(TRIALS["hotend-control"], HotendParameters(), Onlooker()))
            await asyncio.sleep(30)
            going.cancel()
            with pytest.raises(asyncio.CancelledError):
                await going
            entry = rig.session.ledger.latest("hotend-control")
            assert entry is not None and entry.result.why == CLOSED and not entry.running
            assert len(rig.session.ledger.streams(entry.id)["relay"].rows) > 200 and rig.everything_is_off()

    virtually(work)


def test_a_fault_in_a_recipe_is_a_failed_run_with_what_it_had(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "state"))

    async def breaks(bench: Bench, aim: Part) -> TrialResult:
        bench.record.row("x", (1.0,))
        await bench.heat.warm("hotend", 50)
        raise ZeroDivisionError

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            entered = await rig.session.run(spec(breaks, Stream("x", ("a",), ("",))), Part(), Onlooker())
            entry = rig.session.ledger.run(entered.number or 0)
            assert entry is not None and entry.result.outcome == "failed" and "A fault in Ublet" in entry.result.why
            assert rig.session.ledger.streams(entry.id)["x"].rows.tolist() == [[1.0]]
            await asyncio.sleep(2)
            assert rig.everything_is_off()

    virtually(work)


def test_a_ledger_that_cannot_be_written_starts_nothing(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            rig.session.ledger._base.execute("PRAGMA query_only=ON")
            entered = await rig.session.run(TRIALS["homing"], TRIALS["homing"].parameters(), Onlooker())
            assert entered.number is None and "Not started: The ledger" in entered.ran.result.why
            rig.session.ledger._base.execute("PRAGMA query_only=OFF")

    virtually(work)


@pytest.mark.parametrize(("trial", "enough"), [("guards-drill", 2), ("steps-per-mm", 7)])
def test_a_long_trial_goes_on_where_it_stopped(trial: str, enough: int, tmp_path: Path) -> None:
    copied = tmp_path / "wren-180.toml"
    shutil.copyfile(machine_path("wren-180"), copied)
    chosen, aim = TRIALS[trial], TRIALS[trial].parameters()

    async def work() -> None:
        async with on_scenario(scenario_path("wren-180"), copied, 2, quietly) as (session, builder):
            asked = 0
            answer = builder.answer

            async def stops(question: Question) -> str:
                nonlocal asked
                asked += isinstance(question, Confirm)
                if asked > enough:
                    session.runner.cancel()
                return await answer(question)

            builder.answer = stops  # type: ignore[method-assign]
            first = await session.run(chosen, aim, builder)
            assert first.ran.result.outcome == "halted"
            half = session.trials.resumable(chosen, aim)
            assert half is not None and half.run == first.number and half.checkpoint.words
            stopped = session.ledger.run(half.run)
            assert stopped is not None and stopped.result.findings, "what was found on the way stays"
            assert session.ledger.phases(half.run)[-1].fraction > 0.1
            builder.answer = answer  # type: ignore[method-assign]
            second = await session.run(chosen, aim, builder, go_on=True)
            assert second.ran.result.outcome == "proven", second.ran.result.why
            assert second.ran.duration_s < 2.5 * first.ran.duration_s or trial == "guards-drill"
            entry = session.ledger.run(second.number or 0)
            assert entry is not None and entry.goes_on_from == first.number
            assert session.trials.resumable(chosen, aim) is None, "it came to its end"
            whole = await session.run(chosen, aim, builder)
            again = session.ledger.run(whole.number or 0)
            assert again is not None and {rest.path for rest in again.rests} <= {rest.path for rest in entry.rests}
            ids = [[finding.id for finding in each.ran.result.findings] for each in (second, whole)]
            assert ids[0] == ids[1]

    virtually(work)


def test_nothing_is_gone_on_with_once_something_changed(folder: Path) -> None:
    async def half(bench: Bench, aim: Part) -> TrialResult:
        if bench.record.going_on is not None:
            return TrialResult("proven", str(bench.record.going_on.state["n"]))
        bench.record.checkpoint(Checkpoint("half", {"n": 7}))
        await bench.clock.rest(1000)
        return TrialResult("proven", "whole")

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session, trial = rig.session, spec(half)
            assert (await session.run(trial, Part(), Onlooker(), go_on=True)).ran.result.why.startswith("Not started")
            going = asyncio.ensure_future(session.run(trial, Part(), Onlooker()))
            await asyncio.sleep(5)
            session.runner.cancel()
            await going
            assert session.trials.resumable(trial, Part()) is not None
            before = session.live("heaters.bed.kp")
            await session.connection.write_live({"heaters.bed.kp": 0.5})
            assert session.trials.resumable(trial, Part()) is None
            await session.connection.write_live({"heaters.bed.kp": before})
            assert session.trials.resumable(trial, Part()) is not None
            session.ledger.report_fact(Fact("nozzle", "", "changed", now()))
            assert session.trials.resumable(trial, Part()) is None

    virtually(work)


# evidence


def test_a_fact_makes_stale_what_rests_on_it_and_shows_that_before(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            for name in ("sensors-at-rest", "hotend-control"):
                await session.run(TRIALS[name], TRIALS[name].parameters(), Onlooker())
            document, machine = session.document, session.document.machine
            fact = fact_from(machine, "nozzle", None)
            before = affected_by(fact, document, session.ledger, session.presence)
            assert [(trial, dict(subject)) for _, trial, subject, _ in before] == [
                ("hotend-control", {"heater": "hotend"})
            ]
            assert standings(session)["hotend control"].figure == "unverified", "only supposed so far"
            session.ledger.report_fact(Fact("nozzle", "", "changed", "2026-11-26T10:00:00+00:00"))
            standing = standings(session)["hotend control"]
            assert standing.state == "stale" and standing.reason == "nozzle: changed on 2026-11-26"
            assert standings(session)["sensors at rest"].state == "proven"
            assert affected_by(fact, document, session.ledger, session.presence) == []

    virtually(work)


def test_a_state_that_comes_back_is_no_change_and_an_event_is_one_each_time(folder: Path) -> None:
    async def reads(bench: Bench, aim: Part) -> TrialResult:
        return TrialResult("proven", "so")

    rests_on = spec(reads, facts=lambda machine, aim: (("surface", ""), ("belt", "x")))

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session

            def told(kind: str, subject: str, value: str) -> tuple[str, ...]:
                session.ledger.report_fact(Fact(kind, subject, value, now()))
                entry = session.ledger.latest("test")
                assert entry is not None
                return session.presence.reasons(entry.rests)

            session.ledger.report_fact(Fact("surface", "", "smooth", now()))
            await session.run(rests_on, Part(), Onlooker())
            assert len(told("surface", "", "rough")) == 1 and told("surface", "", "smooth") == ()
            assert told("belt", "y", "tightened") == () and len(told("belt", "x", "tightened")) == 1
            await session.run(rests_on, Part(), Onlooker())
            assert len(told("belt", "x", "tightened")) == 1, "the same words, but another time"

    virtually(work)


def test_only_what_this_machine_has_can_be_told() -> None:
    from ublet.core.machine.check import check_text

    machine = check_text(machine_path("wren-180").read_text(encoding="utf-8"), boards()).machine
    assert machine is not None
    known = paths(machine)
    assert {"nozzle", "belt.x", "switch.z", "sensor.bed", "moved"} <= set(known) and "belt.z" not in known
    assert fact_from(machine, "belt.x", None).words == "belt x: tightened"
    for path, value, words in (
        ("nozzel", None, "Did you mean nozzle"),
        ("belt.q", None, "known: "),
        ("nozzle", " ", "say what"),
    ):
        with pytest.raises(FactError, match=words):
            fact_from(machine, path, value)
    assert all(kind.words and kind.said and kind.why for kind in FACTS.values())


def test_unlinked_is_as_of_the_last_link_and_a_retuned_value_is_stale_at_once(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            await session.run(TRIALS["sensors-at-rest"], TRIALS["sensors-at-rest"].parameters(), Onlooker())
            assert not standings(session)["sensors at rest"].unlinked
            assert rig.host is not None and rig.host.other is not None
            rig.host.other.close()
            await asyncio.sleep(1)
            standing = standings(session)["sensors at rest"]
            assert standing.state == "proven" and standing.unlinked and "as of the last link" in standing.reason
        offline = Offline(rig.file)
        entry = offline.ledger.latest("sensors-at-rest")
        assert entry is not None and offline.presence.reasons(entry.rests) == () and offline.presence.as_of != "never"
        offline.close()

    virtually(work)


def test_what_a_recipe_reads_is_what_it_rests_on(folder: Path) -> None:
    async def reads(bench: Bench, aim: Part) -> TrialResult:
        with bench.aside():
            bench.settings.live("heaters.bed.kp")
            assert bench.machine.heaters["bed"].maximum_c > 0
        assert bench.settings.shown("heaters.bed.ki") is not None
        bench.settings.live("heaters.hotend.kp")
        assert bench.machine.axes.x.homing.end == "low" and "hotend" in bench.machine.heaters
        async with bench.settings.borrowed({"heaters.hotend.kd": 9.0}):
            assert bench.settings.live("heaters.hotend.kd") == 9.0
        return TrialResult("proven", "so", findings=(Finding("thing", 1.0, 0.1),))

    async def relies(bench: Bench, aim: Part) -> TrialResult:
        earlier = bench.record.earlier("test")
        assert earlier is not None and earlier.finding("thing") is not None
        return TrialResult("proven", "so")

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            kd = session.live("heaters.hotend.kd")
            entered = await session.run(spec(reads), Part(), Onlooker())
            entry = session.ledger.run(entered.number or 0)
            assert entry is not None
            held = {rest.path: rest.value for rest in entry.rests}
            assert held["axes.x.homing.end"] == "low" and held["heaters.hotend.kd"] == kd, "not what was borrowed"
            assert set(held) == {"heaters.hotend.kp", "axes.x.homing.end", "heaters.hotend.kd", "heaters.hotend"}
            assert held["heaters.hotend"] is True, "whether a part is declared is read, too"
            second = await session.run(spec(relies), Part(), Onlooker())
            found = session.ledger.run(second.number or 0)
            assert found is not None and [(r.kind, r.path, r.value, r.tolerance) for r in found.rests] == [
                ("finding", "test/thing", 1.0, 0.2)
            ]

    virtually(work)


# questions


class Answers(Onlooker):
    """Answers in a row; live controls are used when their time has come."""

    def __init__(self, *answers: str, uses: tuple[str, ...] = ()) -> None:
        super().__init__()
        self.left, self.uses = list(answers), list(uses)

    async def answer(self, question: Question) -> str:
        self.questions.append(question)
        if isinstance(question, Live):
            await asyncio.sleep(1.0)
            return self.uses.pop(0) if self.uses else await asyncio.get_running_loop().create_future()
        return self.left.pop(0)


def test_a_jog_moves_only_what_it_may_and_not_below_its_floor(tmp_path: Path) -> None:
    asked = Jog("until it touches", ("it touches", "stop"), axes=("x",), steps=(1.0, 0.1), floor={"x": 3.0})
    moves: list[Any] = []

    async def jog(bench: Bench, aim: Part) -> TrialResult:
        await home_axis(bench, "x")
        moves.append(await bench.builder.jog(asked, 20.0))
        return TrialResult("proven", "so")

    async def work() -> None:
        copied = tmp_path / "wren-180.toml"
        shutil.copyfile(machine_path("wren-180"), copied)
        async with on_scenario(scenario_path("wren-180"), copied, 1, quietly) as (session, _):
            answers = Answers("x=10", "x-99", "x-1.5", "it touches")
            entered = await session.run(spec(jog), Part(), answers)
            assert entered.ran.result.outcome == "proven", entered.ran.result.why
            assert moves[0].answer == "it touches" and moves[0].position["x"] == pytest.approx(8.5, abs=0.01)
            assert "below its floor of 3 mm" in answers.questions[2].text
            again = Answers("y+1", "it touches")
            assert (await session.run(spec(jog), Part(), again)).ran.result.outcome == "proven"
            assert "Y is not to be moved now" in again.questions[1].text, "it is asked again"

    assert asked.smaller(1.0) == 0.1 == asked.smaller(0.1)
    with pytest.raises(NotAQuantity, match="below its floor"):
        asked.targets("x-3", "x", {"x": 5.5})
    assert [target.by_mm for target in asked.targets("x-2.5", "x", {"x": 5.5})] == [-2.5]
    virtually(work)


def test_every_kind_of_question_says_what_it_takes() -> None:
    many = Question("which?", tuple(f"motor {name}" for name in "abcdefghijklmnop"))
    assert many.taken("12") == "motor l" and many.taken("MOTOR C") == "motor c"
    with pytest.raises(NotAQuantity, match="1 motor a"):
        many.taken("motor")
    length = Measure("how long?", unit="mm")
    assert length.taken(" 1.5 m ") == "1.5 m"
    with pytest.raises(NotAQuantity):
        length.taken("2 kg")
    grid = Judge("how is it?", columns=3, rows=2, verdicts=("good", "too high", "too low"))
    assert grid.judged(grid.taken("1 1 2 3 1 1")) == (("good", "good", "too high"), ("too low", "good", "good"))
    assert grid.judged(grid.taken("all 2"))[1] == ("too high",) * 3
    for text in ("1 1", "1 1 1 1 1 9", ""):
        with pytest.raises(NotAQuantity, match="1 good, 2 too high"):
            grid.taken(text)
    live = Live("it runs", ("enough",), controls={"up": "0.02 mm higher"})
    assert live.taken("up") == "up" and live.taken("en") == "enough" and "0.02 mm higher" in live.allowed()


def test_live_controls_work_beside_a_motion_that_goes_on(folder: Path) -> None:
    asked = Live("it runs there and back", ("enough",), controls={"faster": "twice as fast"})
    seen: list[Any] = []

    async def runs(bench: Bench, aim: Part) -> TrialResult:
        speed, way, moves = 2.0, 1, 0
        async with bench.builder.live(asked) as controls:
            while controls.answer is None and moves < 40:
                await bench.motion.turn("x.motors.a", way * 1.0, speed)
                way, moves = -way, moves + 1
                for _ in controls.used():
                    speed *= 2
        seen.extend((controls.answer, speed, moves))
        return TrialResult("proven", "so")

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            entered = await rig.session.run(spec(runs), Part(), Answers(uses=("faster", "faster", "enough")))
            assert entered.ran.result.outcome == "proven", entered.ran.result.why
            assert seen[:2] == ["enough", 8.0] and 2 < seen[2] < 40
            asked_of = rig.session.ledger.questions(entered.number or 0)
            assert [each.answer for each in asked_of] == ["faster", "faster", "enough"]
            seen.clear()
            unused = await rig.session.run(spec(runs), Part(), Answers())
            assert unused.ran.result.outcome == "proven" and seen == [None, 2.0, 40]
            (question,) = rig.session.ledger.questions(unused.number or 0)
            assert question.answer is None

    virtually(work)


def test_a_builder_who_calls_it_fast_enough_ends_the_search_there(tmp_path: Path) -> None:
    bold = (
        scenario_path("wren-180")
        .read_text(encoding="utf-8")
        .replace('machine_file = "../', f'machine_file = "{machine_path("wren-180").parent.parent}/')
    )
    path = tmp_path / "bold.toml"
    path.write_text(bold + "\n[builder]\nbold_to_mm_s = 60\n", encoding="utf-8")
    order = order_for("speed-limits", ["axis=x"], keep=False, save=False)
    report = run_on_scenario(order, path, None, 1, quietly).report
    usual = run_on_scenario(order, scenario_path("wren-180"), None, 1, quietly).report
    assert {finding["id"] for finding in usual["findings"]} >= {"feed_limit.x"}
    assert "feed_limit.x" not in {finding["id"] for finding in report["findings"]}
    assert report["duration_s"] < usual["duration_s"]
