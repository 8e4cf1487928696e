"""Looking back in the real app: words and notes in the ledger, a trend, compare, restore, report, what to do again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import virtually
from tests.tui.pilot import Opened, opened
from tests.tui.test_record import stand_in, started
from tests.tui.test_safe_app import at
from ublet.core.bench import Bench
from ublet.core.run import Finding, Option, Proposal, TrialResult
from ublet.core.settings import Part
from ublet.ledger.entries import Opening
from ublet.session.document import DocumentError
from ublet.session.holding import Hold
from ublet.session.session import NotOurs, Session

MEASURED = [0.010, 0.021, 0.029, 0.042, 0.050, 0.061, 0.069, 0.081]


async def entered(session: Session, value: float) -> None:
    """A proven run of homing with one finding."""
    recorded = session.ledger.open_run(Opening("2026-11-01T10:00:00.000+00:00", "homing", "homing", {}))
    finding = Finding("spread", value, 0.002, "mm", subject={"axis": "x"})
    recorded.end(TrialResult("proven", "so", {}, (finding,)), 1.0, ())
    session.ledger.entered(recorded, 5.0)


def test_entries_are_found_by_words_and_notes_and_a_creep_is_said_and_drawn(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            for value in MEASURED:
                await entered(there.session, value)
            option = Option("typed", "", (Proposal("axes.x.steps_per_mm", 80.0, 81.0, "", ""),), {})
            await there.session.keep(option, None)
            await there.press("l")
            await there.until(lambda: "everything, newest first: 9" in there.text())
            await there.press("slash", *"homing", "enter")
            await there.until(lambda: "newest first: 8   with homing" in there.text())
            await there.until(lambda: "x spread creeps" in there.words() and "over 8 runs" in there.words())
            assert "x spread over 8 runs, mm" in there.text()
            await there.press("n", *"quiet night", "enter")
            await there.until(lambda: "“quiet night”" in there.text())
            await there.press("escape")
            await there.until(lambda: "newest first: 9" in there.text())
            await there.press("slash", *"night", "enter")
            await there.until(lambda: "newest first: 1   with night" in there.text())
            await there.press("slash", *"xyz", "enter")
            await there.until(lambda: "newest first: 0" in there.text())

    virtually(work)


def proposes(value: float) -> Any:
    async def run(bench: Bench, aim: Part) -> TrialResult:
        bench.machine.axes.x.steps_per_mm  # noqa: B018 - it rests on that
        finding = Finding("spread", value, 0.001, "mm", subject={"axis": "x"})
        return TrialResult("proven", f"so {value:g}", {}, (finding,))

    return run


def test_two_states_are_compared_one_is_restored_and_what_held_then_holds_again(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stand_in(monkeypatch, proposes(0.01))

    async def change(there: Opened, steps: float) -> None:
        option = Option("typed", "", (Proposal("axes.x.steps_per_mm", None, steps, "", ""),), {})
        await there.session.keep(option, None)
        await there.session.save()

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await change(there, 81.0)
            await started(there)
            await there.until(lambda: "✓ so" in there.text())
            await change(there, 83.5)
            await there.until(lambda: "▲ homing" in there.text())
            await there.press("f9")
            await there.until(lambda: "To do again, in this order" in there.words())
            assert "axes.x.steps_per_mm was 81, is now 83.5" in there.words()
            await there.press("escape")
            await at(there, "compare")
            await there.until(lambda: "a chooses the first state" in there.words())
            await there.press("a")
            await there.until(lambda: "run 1" in there.words())
            await there.press("1", "enter")
            await there.until(lambda: "run 1 (homing)" in there.words() and "83.5" in there.text())
            await there.press("s")
            await there.until(lambda: there.text().find("now ") < there.text().find("run 1 (homing)"))
            await at(there, "restore")
            await there.press("m")
            await there.until(lambda: "Go back to" in there.text())
            await there.press("1", "enter")
            await there.until(lambda: "1 settings differ from now" in there.words())
            await there.until(lambda: "● homing: run 1 of" in there.text())
            await there.press("space")
            await there.until(lambda: "· axes.x.steps_per_mm" in there.text())
            await there.press("space", "enter")
            await there.until(lambda: "keep and save them" in there.words())
            await there.press("enter")
            await there.until(lambda: "are live and saved" in there.words())
            assert there.session.live("axes.x.steps_per_mm") == 81.0 and not there.session.unsaved()
            await there.until(lambda: "● homing" in there.text())

    virtually(work)


def test_the_report_stands_on_the_screen_and_is_written_beside_the_file(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stand_in(monkeypatch, proposes(0.01))

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await started(there)
            await there.until(lambda: "✓ so" in there.text())
            await at(there, "report")
            await there.until(lambda: "● homing" in there.text() and "x spread 0.01" in there.words())
            await there.press("t")
            await there.until(lambda: "Written to" in there.text())
            written = (folder / "tern-280-report.txt").read_text(encoding="utf-8")
            assert "x spread 0.01" in written and "board.port" not in written
            assert str(folder) not in written

    virtually(work)


def test_what_an_edit_would_make_stale_is_shown_before_it_is_written(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stand_in(monkeypatch, proposes(0.01))

    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            await started(there)
            await there.until(lambda: "✓ so" in there.text())
            await at(there, "editor")
            there.session.draft.set("axes.x.steps_per_mm", 70.0)
            await there.press("f")
            await there.until(lambda: "If axes.x.steps_per_mm is written: to do again" in there.words())
            assert "▲ homing" in there.words() and "is now 70" in there.words()

    virtually(work)


def test_a_second_window_reads_only_and_takes_over_when_the_first_is_gone(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = folder / "tern-280.toml"
    first = Hold(file)
    assert not first.elsewhere
    stand_in(monkeypatch, proposes(0.01))

    async def work() -> None:
        async with opened(folder, monkeypatch, waits_for_link=False) as there:
            await there.until(lambda: there.app.session is not None and there.app.bench is not None)
            await there.until(lambda: "Another window has this machine open" in there.words())
            assert not there.session.connection.linked and there.session.barred()
            with pytest.raises(DocumentError, match="Another window"):
                there.session.write_draft()
            with pytest.raises(NotOurs):
                await there.session.keep(Option("x", "", (), {}), None)
            first.release()
            await there.until(lambda: there.session.connection.linked, 20)
            assert there.session.barred() == "" and not Hold(file).take()

    virtually(work)
