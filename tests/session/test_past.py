"""A machine as it was, against what was noted of it then; compared, and brought back."""

from __future__ import annotations

import json
import random
import time
from collections.abc import Callable, Coroutine
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from tests.conftest import Onlooker, Rig, tern, tern_scenario, virtually
from ublet.cli import app
from ublet.core.catalogue import TRIALS
from ublet.core.machine.compare import differences
from ublet.core.run import Option, Proposal
from ublet.core.settings import Value
from ublet.ledger.book import Ledger
from ublet.session.comparing import state_of
from ublet.session.copying import write_draft
from ublet.session.past import Moment, PastError, moment_of
from ublet.session.restoring import RestoreError, restoration, restore
from ublet.session.saving import now
from ublet.session.session import Session, ledger_path

SETTINGS: dict[str, tuple[Value, Value, Value]] = {
    "heaters.hotend.kp": (0.03, 0.05, 0.07),
    "axes.x.steps_per_mm": (79.9, 80.2, 81.0),
    "bed.screws.left.x_mm": (21.0, 22.0, 23.0),  # no board holds it
    "extruder.retract_mm": (0.5, 0.9, 1.1),
}


SCREW_MM = tern().bed.screws["left"].x_mm


def option(path: str, value: Value) -> Option:
    return Option("typed", "", (Proposal(path, None, value, "", ""),), {})


def in_force(session: Session) -> dict[str, Value]:
    return {**session.document.values, **session.presence.settings()}


async def quick_run(session: Session) -> int:
    entered = await session.run(TRIALS["sensors-at-rest"], TRIALS["sensors-at-rest"].parameters(), Onlooker())
    assert entered.number is not None
    return entered.number


async def something(session: Session, random_: random.Random) -> None:
    """One change of a session, as a builder makes it."""
    path = random_.choice(list(SETTINGS))
    match random_.choice(["keep", "keep", "save", "drop", "run", "edit"]):
        case "keep":
            await session.keep(option(path, random_.choice(SETTINGS[path])), None)
        case "save":
            await session.save()
        case "drop":
            await session.drop([path])
        case "run":
            await quick_run(session)
        case _ if not session.unsaved():
            session.draft.set("machine.note", f"note {random_.random()}")
            session.write_draft()


@pytest.mark.parametrize("seed", range(6))
def test_settings_at_any_moment_are_those_that_were_noted_then(seed: int, tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session, random_ = rig.session, random.Random(seed)
            await quick_run(session)
            noted: list[tuple[str, dict[str, Value]]] = []
            for _ in range(14):
                await something(session, random_)
                noted.append((now(), in_force(session)))
                time.sleep(0.003)  # noqa: ASYNC251 - the ledger's clock is the wall's, to the millisecond
            for at, then in noted:
                state = state_of(session, Moment(at, "then"))
                assert differences(then, {path: state.settings.get(path) for path in then}) == [], at

    virtually(work)


def test_a_run_is_the_machine_as_it_began_with_what_was_kept_of_it(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session = rig.session
            number = await quick_run(session)
            before = session.live("axes.x.steps_per_mm")
            await session.keep(option("heaters.hotend.kp", 0.07), number)
            await session.keep(option("axes.x.steps_per_mm", 81.0), None)
            state = state_of(session, moment_of(session.ledger, str(number)))
            assert state.settings["heaters.hotend.kp"] == 0.07, "kept of this run"
            assert state.settings["axes.x.steps_per_mm"] == before, "kept later, of no run"
            assert {entry.id for entry in state.proven.values()} == {number}

    virtually(work)


@pytest.mark.parametrize("text", ["99", "save7", "tomorrow", "run", ""])
def test_a_moment_that_is_none_says_what_is_allowed(text: str, tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            await quick_run(rig.session)
            with pytest.raises(PastError, match=r"newest is 1|nothing was saved|allowed: now"):
                moment_of(rig.session.ledger, text)

    virtually(work)


def prepared(tmp_path: Path, body: Callable[[Session], Coroutine[Any, Any, None]]) -> Path:
    files: list[Path] = []

    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            files.append(rig.session.document.path)
            await body(rig.session)

    virtually(work)
    return files[0]


async def tuned_and_changed(session: Session) -> None:
    """Run 1 with the settings as delivered, a save, then another value by hand, saved too, and run 2."""
    await quick_run(session)
    await session.keep(option("sensors.hotend.pullup_ohm", 4690.0), None)
    await session.save()
    time.sleep(0.005)  # noqa: ASYNC251
    await quick_run(session)
    await session.keep(option("bed.screws.left.x_mm", 22.0), None)
    await session.save()


def test_two_states_show_what_differs_with_layer_and_reason(tmp_path: Path) -> None:
    file = prepared(tmp_path, tuned_and_changed)
    runner = CliRunner()
    done = runner.invoke(app, ["compare", str(file), "1", "now", "--json"])
    report = json.loads(done.stdout)
    assert done.exit_code == 0
    rows = {row["setting"]: row for row in report["settings"]}
    assert (rows["sensors.hotend.pullup_ohm"]["a"], rows["sensors.hotend.pullup_ohm"]["b"]) == (4700.0, 4690.0)
    assert (
        rows["bed.screws.left.x_mm"]["a"],
        rows["bed.screws.left.x_mm"]["b"],
        rows["bed.screws.left.x_mm"]["unit"],
    ) == (SCREW_MM, 22.0, "mm")
    assert rows["sensors.hotend.pullup_ohm"]["layer"] == "board" and rows["bed.screws.left.x_mm"]["layer"] == "file"
    assert rows["bed.screws.left.x_mm"]["reason"].startswith("saved")
    assert report["findings"] and all(
        set(row) >= {"id", "a", "a_u", "b", "b_u", "significant"} for row in report["findings"]
    )
    same = runner.invoke(app, ["compare", str(file), "now", "now"])
    assert same.exit_code == 0 and "Nothing differs." in same.stdout
    first = json.loads(runner.invoke(app, ["compare", str(file), "save1", "now", "--json"]).stdout)
    assert [row["setting"] for row in first["settings"]] == ["bed.screws.left.x_mm"]
    wrong = runner.invoke(app, ["compare", str(file), "77"])
    assert wrong.exit_code == 2 and "the newest is 2" in wrong.stderr


def test_another_machine_is_compared_by_its_file(tmp_path: Path) -> None:
    file = prepared(tmp_path, tuned_and_changed)
    other = tmp_path / "other.toml"
    other.write_text(file.read_text(encoding="utf-8").replace("x_mm = 22\n", "x_mm = 19\n"), encoding="utf-8")
    report = json.loads(CliRunner().invoke(app, ["compare", str(file), "now", str(other), "--json"]).stdout)
    rows = [(row["setting"], row["a"], row["b"]) for row in report["settings"]]
    assert ("bed.screws.left.x_mm", 22.0, 19.0) in rows
    assert report["facts"] == []


def test_going_back_proves_again_what_holds_then_and_says_what_becomes_stale(tmp_path: Path) -> None:
    async def body(session: Session) -> None:
        await tuned_and_changed(session)
        station = restoration(session, moment_of(session.ledger, "1"))
        assert station.values == {"sensors.hotend.pullup_ohm": 4700.0, "bed.screws.left.x_mm": SCREW_MM}
        assert [one.entry.id for one in station.again] == [1] and station.stale == ()
        only = restoration(session, moment_of(session.ledger, "1"), ["bed.screws.left.x_mm"])
        assert only.values == {"bed.screws.left.x_mm": SCREW_MM} and only.again == ()
        with pytest.raises(RestoreError, match="no station and no setting"):
            restoration(session, moment_of(session.ledger, "1"), ["soak"])
        assert session.ledger.latest("sensors-at-rest", "proven").id == 2  # type: ignore[union-attr]
        await restore(session, station)
        assert session.live("sensors.hotend.pullup_ohm") == 4700.0 and not session.unsaved()
        assert session.document.value("bed.screws.left.x_mm") == SCREW_MM
        newest = session.ledger.latest("sensors-at-rest", "proven")
        assert newest is not None and newest.id == 1, "it counts again, the newer one is set aside"
        assert session.presence.reasons(newest.rests) == ()
        assert len(session.ledger.runs()) == 2, "nothing is taken out"
        there = restoration(session, moment_of(session.ledger, "2"))
        await restore(session, there)
        newest = session.ledger.latest("sensors-at-rest", "proven")
        assert newest is not None and newest.id == 2, "and back"

    prepared(tmp_path, body)


def test_the_command_asks_before_anything_is_written(tmp_path: Path) -> None:
    file = prepared(tmp_path, tuned_and_changed)
    before, runner = file.read_text(encoding="utf-8"), CliRunner()
    asked = runner.invoke(app, ["restore", str(file), "1"])
    assert asked.exit_code == 2 and "nothing was written" in asked.stderr
    assert "bed.screws.left.x_mm: 22" in asked.stdout and "proven again by it" in asked.stdout
    assert file.read_text(encoding="utf-8") == before
    done = runner.invoke(app, ["restore", str(file), "1", "bed.screws.left.x_mm", "--yes", "--json"])
    report = json.loads(done.stdout)
    assert done.exit_code == 0 and [row["setting"] for row in report["settings"]] == ["bed.screws.left.x_mm"]
    assert f"x_mm = {SCREW_MM:g}" in file.read_text(encoding="utf-8")
    again = runner.invoke(app, ["restore", str(file), "1", "bed.screws.left.x_mm", "--yes"])
    assert again.exit_code == 0 and "Nothing to restore" in again.stdout


def test_a_part_copied_from_another_machine_says_where_it_was_proven(tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    (tmp_path / "b").mkdir()

    async def proposes_kp(session: Session) -> None:
        number = await quick_run(session)
        await session.keep(option("heaters.hotend.kp", 0.07), number)
        await session.save()

    source, target = prepared(tmp_path / "a", proposes_kp), prepared(tmp_path / "b", tuned_and_changed)
    runner = CliRunner()
    done = runner.invoke(app, ["import", "heaters.hotend", str(target), "--from", str(source)])
    assert done.exit_code == 0 and "heaters.hotend.kp" in done.stdout
    ledger = Ledger(ledger_path(target), threaded=False)
    change = ledger.last_change("heaters.hotend.kp")
    assert change is not None and (change.kind, change.after) == ("copy", 0.07)
    note = ledger.notes()["change", change.id]
    assert note.startswith("from Tern 280: not proven here; there run 1 (sensors-at-rest)")
    assert ledger.found_changes(["proven"], 9) == [change]
    ledger.close()


def test_what_the_editor_takes_from_another_machine_is_noted_once_written(tmp_path: Path) -> None:
    async def proposes_kp(session: Session) -> None:
        number = await quick_run(session)
        await session.keep(option("heaters.hotend.kp", 0.07), number)
        await session.save()

    (tmp_path / "a").mkdir()
    source = prepared(tmp_path / "a", proposes_kp)

    async def takes(session: Session) -> None:
        session.draft.take(source, "heaters.hotend")
        session.draft.set("heaters.hotend.ki", 0.0011)
        assert write_draft(session) > 1
        notes = {
            path: session.ledger.notes().get(("change", change.id or 0), "")
            for path in ("heaters.hotend.kp", "heaters.hotend.ki")
            if (change := session.ledger.last_change(path)) is not None
        }
        assert notes["heaters.hotend.kp"].startswith("from Tern 280: not proven here; there run 1")
        assert notes["heaters.hotend.ki"] == "", "typed since"

    (tmp_path / "b").mkdir()
    prepared(tmp_path / "b", takes)
