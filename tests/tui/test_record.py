"""The record in the real app: runs looked at, exported, gone on with; facts; provenance; each kind of question."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import virtually
from tests.tui.pilot import Opened, opened
from tests.tui.test_safe_app import at
from ublet.core.bench import Bench
from ublet.core.catalogue import TRIALS
from ublet.core.questions import Judge, Live, Question
from ublet.core.run import Checkpoint, Option, Proposal, Stream, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import facts
from ublet.tui.record.facts import FactDialog
from ublet.tui.record.ledger import LedgerBench

Answered = list[Any]


def stand_in(monkeypatch: pytest.MonkeyPatch, run: Any, *streams: Stream) -> None:
    """Another recipe at the station of homing, which rests on the nozzle."""
    monkeypatch.setitem(TRIALS, "homing", replace(TRIALS["homing"], run=run, streams=streams, facts=facts("nozzle")))


async def started(there: Opened) -> None:
    await at(there, "homing")
    await there.press("enter")


def test_a_cancelled_run_is_looked_at_exported_and_gone_on_with(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def half(bench: Bench, aim: Part) -> TrialResult:
        if bench.record.going_on is not None:
            return TrialResult("proven", "It went on.")
        bench.record.row("shifts", (1.0, 0.25))
        bench.record.checkpoint(Checkpoint("X done", {}))
        await bench.builder.ask(Question("Is it warm?", ("yes", "no")))
        return TrialResult("proven", "whole")

    stand_in(monkeypatch, half, Stream("shifts", ("axis", "shift_mm"), ("", "mm")))

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await started(there)
            await there.until(lambda: "Is it warm?" in there.text())
            await there.press("escape")
            await there.until(lambda: "goes on where run 1 stopped: X done" in there.words())
            await there.press("l")
            await there.until(lambda: "shifts: 1 rows of axis, shift_mm" in there.words())
            assert "Is it warm? → not answered" in there.words() and "can go on from" in there.words()
            await there.press("e")
            await there.until(lambda: "Written to" in there.text())
            assert (folder / "homing-1-shifts.csv").read_text() == "axis,shift_mm\n1,0.25\n"
            await there.press("l")
            await there.until(lambda: there.app.bench is not None and not isinstance(there.app.bench, LedgerBench))
            await there.press("g")
            await there.until(lambda: "It went on." in there.text())
            entry = there.session.ledger.latest("homing")
            assert entry is not None and entry.goes_on_from == 1

    virtually(work)


def test_a_fact_shows_what_it_makes_stale_before_it_is_told(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def proves(bench: Bench, aim: Part) -> TrialResult:
        return TrialResult("proven", "so")

    stand_in(monkeypatch, proves)

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await started(there)
            await there.until(lambda: "✓ so" in there.text())
            await there.press("f3")
            await there.until(lambda: isinstance(there.app.screen, FactDialog))
            await there.until(lambda: "▲ homing" in there.words())
            await there.press("down")
            await there.until(lambda: "Nothing that still holds rests on it." in there.words())
            assert there.session.ledger.facts() == [], "nothing is told by looking"
            await there.press("up", *"!", "enter")
            await there.until(lambda: "stale nozzle: changed!" in there.words() or "nozzle: !" in there.words())
            assert len(there.session.ledger.facts()) == 1
            assert "▲ homing" in there.text()
            await there.press("f3")
            await there.until(lambda: isinstance(there.app.screen, FactDialog))
            await there.press("escape")
            await there.until(lambda: len(there.app.screen_stack) == 1)
            assert len(there.session.ledger.facts()) == 1

    virtually(work)


def test_two_values_from_two_runs_saved_together_are_entered_with_their_own(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    wanted = [("heaters.hotend.kp", 0.11), ("heaters.bed.kp", 0.22)]

    async def proposes(bench: Bench, aim: Part) -> TrialResult:
        path, value = wanted.pop(0)
        proposal = Proposal(path, bench.settings.shown(path), value, "/°C", "calmer")
        return TrialResult("proven", f"for {path}", options=(Option("mend", "", (proposal,), {}),), recommended="mend")

    stand_in(monkeypatch, proposes)

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            for number in (1, 2):
                await started(there) if number == 1 else await there.press("enter")
                await there.until(lambda number=number: f"{number} run" in there.words())
                await there.until(lambda: there.app.bench is not None and there.app.bench.check_action("keep", ()))
                await there.press("k")
                await there.until(lambda number=number: f"{number} kept, not saved" in there.text())
            await there.press("ctrl+s")
            await there.until(lambda: "save 2 in both" in there.text())
            await there.press("enter")
            await there.until(lambda: "all saved" in there.text())
            saved = {c.setting: c.run for c in there.session.ledger.changes("save")}
            assert saved == {"heaters.hotend.kp": 1, "heaters.bed.kp": 2}
            await there.press("l", "v", "v")
            await there.until(lambda: "changes, newest first" in there.words())
            for _ in range(3):
                if "proposed by run 1, homing: for heaters.hotend.kp" in there.words():
                    break
                await there.press("down")
                await asyncio.sleep(0.1)
            await there.until(lambda: "proposed by run 1, homing: for heaters.hotend.kp" in there.words())

    virtually(work)


def test_each_kind_of_question_on_the_screen(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    got: Answered = []

    async def asks(bench: Bench, aim: Part) -> TrialResult:
        names = tuple(f"motor {letter}" for letter in "abcdefghijklm")
        got.append(await bench.builder.ask(Question("Which one turned?", names)))
        grid = Judge("How do they stick?", columns=3, rows=2, verdicts=("good", "too high", "too low"))
        got.append(await bench.builder.judge(grid))
        live = Live("It goes there and back.", ("enough",), controls={"faster": "twice as fast"})
        async with bench.builder.live(live) as controls:
            speed = 2.0
            while controls.answer is None:
                await bench.motion.turn("x.motors.a", 0.5, speed)
                await bench.motion.turn("x.motors.a", -0.5, speed)
                speed *= 2 ** len(controls.used())
        got.append(speed)
        return TrialResult("proven", "all answered")

    stand_in(monkeypatch, asks)

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await started(there)
            await there.until(lambda: "Which one turned?" in there.text() and "13 motor m" in there.words())
            await there.press("9", "9")
            await there.until(lambda: "“99” is no answer" in there.words())
            await there.press("enter", "backspace", "backspace", "1", "2", "enter")
            await there.until(lambda: "How do they stick?" in there.text())
            await there.press("1", "space", "2", "space", "1")
            await there.until(lambda: "too high" in there.text() and "3 verdicts for 6 places" in there.words())
            await there.press("enter")
            assert len(got) == 1, "half a grid is no answer"
            await there.press("space", "3", "space", "1", "space", "1", "enter")
            await there.until(lambda: "1 faster (twice as fast)" in there.words() and "2 enough" in there.words())
            await there.press("enter")
            await there.press("1")
            await there.until(lambda: len(there.session.ledger.questions(1)) >= 4)
            await there.until(lambda: "1 faster (twice as fast)" in there.words())
            await there.press("2")
            await there.until(lambda: "all answered" in there.text())
            assert got == ["motor l", (("good", "too high", "good"), ("too low", "good", "good")), 4.0]

    virtually(work)


def test_an_array_is_shown_as_what_it_is_and_not_typed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            heights = tuple(tuple(0.01 * row * column for column in range(7)) for row in range(7))
            there.session.draft.set("mesh.heights_mm", heights)
            there.app.follow()
            bench: Any = there.app.bench
            bench.part = next(at for at, node in enumerate(bench.nodes) if node.path == "mesh")
            bench.refresh_state()
            bench.side, bench.item = "settings", [item.key for item in bench.items].index("heights_mm")
            bench.refresh_state()
            bench.focus()
            await there.until(lambda: "7 x 7 0 mm to 0.36 mm" in there.words() and "█" in there.text())
            await there.press("enter")
            await there.until(lambda: "is not typed: the station “bed mesh” makes it" in there.words())
            assert bench.editing is None and there.session.draft.given("mesh.heights_mm") == heights

    virtually(work)
