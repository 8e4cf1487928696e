"""The ledger keeps what was entered, to the bit, whatever happens meanwhile."""

from __future__ import annotations

import contextlib
import sqlite3
import subprocess
import sys
import threading
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from ublet.core.evidence import Dependency
from ublet.core.facts import Fact
from ublet.core.run import Checkpoint, Finding, Option, Proposal, Stream, TrialResult
from ublet.ledger.book import CUT_OFF, Ledger
from ublet.ledger.entries import Change, Intent, Opening
from ublet.ledger.errors import LedgerError, unwritable
from ublet.ledger.process import alive, this_process

OPENING = Opening("2026-01-01T00:00:00", "t", "s", {"target": 215.0}, {"heater": "hotend"}, "digest", "larch-6")
RESULT = TrialResult(
    "proven",
    "because",
    {"target_c": 215.0},
    (Finding("gain", 544.0, 0.8, "°C", None, {"heater": "hotend"}), Finding("apart", 0.1, tolerance=5.0)),
    (Option("calm", "note", (Proposal("heaters.hotend.kp", 0.1, 0.2, "/°C", "less"),), {"settle_s": None, "kp": 0.2}),),
    "calm",
)
RESTS = (
    Dependency("setting", "heaters.hotend.kp", 0.1, 0.5),
    Dependency("fact", "nozzle", 3),
    Dependency("setting", "a.b", (1.0, 2.0)),
)
RELAY = Stream("relay", ("time_s", "temperature_c"), ("s", "°C"), 10.0)


@pytest.mark.parametrize("threaded", [False, True])
def test_a_run_comes_back_as_it_went_in(folder: Path, threaded: bool) -> None:
    rows = np.random.default_rng(1).random((20_000, 2))
    book = Ledger(folder / "a.ledger", threaded)
    recorded = book.open_run(OPENING)
    for row in rows[:3000].tolist():
        recorded.row(RELAY, "relay", row)
    recorded.rows(RELAY, "relay", rows[3000:])
    place = recorded.asked(1.5, "Is it warm?")
    recorded.answered(place, 2.5, "Is it warm?", "yes")
    recorded.end(RESULT, 12.5, RESTS)
    assert book.entered(recorded, 5.0) == ""
    book.close()
    book = Ledger(folder / "a.ledger", threaded)
    entry = book.latest("t", "proven", {"heater": "hotend"})
    assert entry is not None and entry.id == recorded.number and entry.duration_s == 12.5 and not entry.running
    assert (entry.result, entry.rests, entry.subject) == (RESULT, RESTS, {"heater": "hotend"})
    series = book.streams(entry.id)["relay"]
    assert (series.columns, series.units) == (RELAY.columns, RELAY.units) and np.array_equal(series.rows, rows)
    assert [(each.text, each.answer) for each in book.questions(entry.id)] == [("Is it warm?", "yes")]
    assert book.opening(entry.id)["digest"] == "digest"
    assert book.latest("t", "failed") is None and book.latest("t", subject={"heater": "bed"}) is None
    assert [(each.id, value, u) for each, value, u in book.followed("gain.hotend")] == [(entry.id, 544.0, 0.8)]


@pytest.mark.parametrize(("number", "bytes_"), [("f4", 4), ("i4", 4), ("i2", 2)])
def test_a_streams_numbers_are_kept_as_declared(folder: Path, number: str, bytes_: int) -> None:
    book = Ledger(folder / "a.ledger", threaded=False)
    recorded = book.open_run(OPENING)
    stream = Stream("x", ("a",), ("",), number=number)  # type: ignore[arg-type]
    recorded.rows(stream, "x", [(1.0,), (-3.0,), (300.0,)])
    assert book.streams(recorded.number)["x"].rows.tolist() == [[1.0], [-3.0], [300.0]]
    (data,) = book._base.execute("SELECT data FROM chunk").fetchone()
    assert len(zlib.decompress(data)) == 3 * bytes_
    with pytest.raises(ValueError, match="has 1 columns"):
        recorded.row(stream, "x", (1.0, 2.0))


CUT = """
import os, signal, sys, time
sys.path.insert(0, {root!r})
from tests.ledger.test_book import OPENING, RELAY, RESTS, RESULT
from ublet.core.run import Checkpoint, Finding, Progress
from ublet.ledger.book import Ledger
from pathlib import Path
book = Ledger(Path({path!r}))
run = book.open_run(OPENING)
for n in range(3000):
    run.row(RELAY, "relay", (float(n), 1.0))
run.checkpoint(Checkpoint("half", {{"done": [1, 2]}}), RESTS)
run.found([Finding("gain", 4.0), Finding("apart", 1.0)], RESULT.options[0], RESTS)
run.found([Finding("gain", 5.0)], None, RESTS)
run.phase(1.0, Progress("warming", 0.5))
run.asked(1.0, "Is it warm?")
book._writer.settle(5.0)
print("ready", flush=True)
os.kill(os.getpid(), signal.SIGKILL)
"""


def test_a_run_that_is_killed_keeps_all_it_had(folder: Path) -> None:
    path = folder / "a.ledger"
    code = CUT.format(root=str(Path(__file__).parents[2]), path=str(path))
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.returncode == -9 and "ready" in done.stdout, done.stderr
    book = Ledger(path)
    entry = book.run(1)
    assert entry is not None and entry.result.outcome == "halted" and entry.result.why == CUT_OFF
    assert len(book.streams(1)["relay"].rows) == 3000
    assert book.checkpoint(1) == Checkpoint("half", {"done": [1, 2]})
    assert [(each.text, each.answer) for each in book.questions(1)] == [("Is it warm?", None)]
    assert entry.rests == RESTS
    assert entry.result.findings == (Finding("apart", 1.0), Finding("gain", 5.0))
    assert entry.result.choice == RESULT.options[0], "what could be proposed already is offered"
    assert [each.words for each in book.phases(1)] == ["warming"]


def test_what_cannot_be_read_is_told_and_reads_as_if_it_were_not_there(folder: Path) -> None:
    book, complaints = Ledger(folder / "a.ledger", threaded=False), list[str]()
    book._base.execute("DROP TABLE fact")
    with pytest.raises(LedgerError, match="could not be read"):
        book.facts()
    book.unreadable = complaints.append
    assert book.facts() == [] and "could not be read" in complaints[0]


def test_a_run_of_a_program_that_is_there_is_left_running(folder: Path) -> None:
    one = Ledger(folder / "a.ledger")
    recorded = one.open_run(OPENING)
    two = Ledger(folder / "a.ledger")
    entry = two.run(recorded.number)
    assert entry is not None and entry.running and entry.result.why == "It is running."
    assert alive(this_process()) and not alive("nobody") and alive("elsewhere/1/2")
    host, number, _ = this_process().split("/")
    assert not alive(f"{host}/{number}/1"), "the same number, but another process"


def test_a_write_that_only_takes_long_is_not_one_that_could_not_be_written(folder: Path) -> None:
    book, goes_on = Ledger(folder / "a.ledger", threaded=True), threading.Event()
    recorded = book.open_run(OPENING)

    def slow() -> None:
        goes_on.wait(10)

    book._writer.before_commit = slow
    recorded.end(RESULT, 1.0, RESTS)
    assert book.waiting == 1 and not book.kept_back
    goes_on.set()
    assert book._writer.settle(5.0) and book.waiting == 0
    book.close()


def test_what_cannot_be_written_is_found_and_entered_later(folder: Path) -> None:
    book = Ledger(folder / "a.ledger", threaded=False)
    recorded = book.open_run(OPENING)

    def full() -> None:
        raise sqlite3.OperationalError("database or disk is full")

    book._writer.before_commit = full
    recorded.rows(RELAY, "relay", [(0.0, 1.0), (1.0, 2.0)])
    recorded.end(RESULT, 1.0, RESTS)
    assert "make room" in book.entered(recorded) and book.waiting == 1 and book.kept_back
    assert book.streams(recorded.number)["relay"].rows.tolist() == [[0.0, 1.0], [1.0, 2.0]]
    latest = book.latest("t", "proven")
    assert latest is not None and latest.result == RESULT and book.enter_waiting() == 0
    book._writer.before_commit = lambda: None
    assert book.enter_waiting() == 1 and book.waiting == 0
    book.close()
    again = Ledger(folder / "a.ledger").run(recorded.number)
    assert again is not None and again.result == RESULT and again.rests == RESTS


def test_facts_changes_and_what_was_seen(folder: Path) -> None:
    book = Ledger(folder / "a.ledger", threaded=False)
    assert book.fact("nozzle") == Fact("nozzle", "", "") and book.seen() == ("", {})
    numbers = [book.report_fact(Fact("belt", axis, "tightened", "2026")) for axis in ("x", "y", "x")]
    assert [fact.id for fact in numbers] == [1, 2, 3] and book.fact("belt", "x") == numbers[2]
    assert {fact.path: fact.id for fact in book.facts_in_force()} == {"belt.x": 3, "belt.y": 2}
    run = book.open_run(OPENING).number
    first = Change("2026", "keep", run, "a.b", "live", 1.0, (1.0, 2.0))
    second = Change("2026", "save", None, "a.b", "stored", None, 2.0)
    book.add_changes([first, second])
    assert book.changes() == [second, first] and book.changes("keep") == [first] == book.changes(run=run)
    assert book.last_change("a.b", "save") == second and book.last_change("a.c", "save") is None
    book.note_seen("2026", {"a": 1.0, "mesh": ((0.1, 0.2), (0.3, 0.4))})
    assert book.seen() == ("2026", {"a": 1.0, "mesh": ((0.1, 0.2), (0.3, 0.4))})


def test_an_intent_lasts_until_its_save_ends(folder: Path) -> None:
    book = Ledger(folder / "a.ledger")
    intent = Intent("2026", "f", "old", "new", {"a": None}, {"a": ((1.0, 2.0),)})
    book.begin_save(intent)
    with pytest.raises(LedgerError):
        book.begin_save(intent)
    book.close()
    book = Ledger(folder / "a.ledger")
    assert book.pending_save() == intent
    book.end_save([])
    assert book.pending_save() is None


@pytest.mark.parametrize(
    ("version", "missing"),
    [
        (
            4,
            ("ALTER TABLE run DROP COLUMN remedies", "DROP TABLE mark", "DROP TABLE note", "DROP INDEX change_by_path"),
        ),
        (5, ("DROP TABLE mark", "DROP TABLE note", "DROP INDEX change_by_path")),
        (6, ("DROP TABLE note", "DROP INDEX change_by_path")),
    ],
)
def test_a_ledger_of_an_older_version_is_brought_to_this_one_and_loses_nothing(
    version: int, missing: tuple[str, ...], folder: Path
) -> None:
    path = folder / "old.sqlite"
    with contextlib.closing(Ledger(path)) as ledger:
        ledger.report_fact(Fact("nozzle", "", "changed", "2026-01-01T00:00:00"))
    with sqlite3.connect(path) as base:
        for words in missing:
            base.execute(words)
        base.execute(f"PRAGMA user_version={version}")
    with contextlib.closing(Ledger(path)) as ledger:
        assert ledger.fact("nozzle").value == "changed" and ledger.marks("mesh name") == {} == ledger.notes()


def test_garbage_and_other_versions_are_refused_with_a_sentence(folder: Path) -> None:
    path = folder / "bad.ledger"
    path.write_bytes(b"this is no database, whatever its name says" * 40)
    with pytest.raises(LedgerError, match="move it away"):
        Ledger(path)
    with pytest.raises(LedgerError, match="cannot be used"):
        Ledger(folder / "no" / "such" / "folder.ledger")
    good = Ledger(folder / "new.ledger")
    good.close()
    with contextlib.closing(sqlite3.connect(folder / "new.ledger")) as base:
        base.execute("PRAGMA user_version=99")
    with pytest.raises(LedgerError, match="another version"):
        Ledger(folder / "new.ledger")


def test_what_a_failed_write_advises_fits_its_reason() -> None:
    full, broken = sqlite3.OperationalError("database or disk is full"), sqlite3.DatabaseError("malformed")
    full.sqlite_errorcode, broken.sqlite_errorcode = sqlite3.SQLITE_FULL, sqlite3.SQLITE_CORRUPT
    assert "make room on the disk" in str(unwritable(Path("a.ledger"), full))
    damaged = str(unwritable(Path("a.ledger"), broken))
    assert "is damaged" in damaged and "move it away" in damaged


def test_a_damaged_ledger_is_known_by_sqlites_own_code(folder: Path) -> None:
    path = folder / "garbage.ledger"
    path.write_bytes(b"no database " * 400)
    with contextlib.closing(sqlite3.connect(path)) as base, pytest.raises(sqlite3.DatabaseError) as raised:
        base.execute("select * from run")
    assert "is damaged" in str(unwritable(path, raised.value))


def test_two_writers_wait_for_each_other(folder: Path) -> None:
    one, two = Ledger(folder / "a.ledger"), Ledger(folder / "a.ledger")
    for book, seconds in ((one, 1.0), (two, 2.0)):
        recorded = book.open_run(OPENING)
        recorded.end(RESULT, seconds, ())
        assert book.entered(recorded, 5.0) == ""
    assert [entry.duration_s for entry in one.runs("t")] == [2.0, 1.0]


def test_a_finding_has_a_stable_word_and_is_unique_with_its_subject() -> None:
    found = Finding("spread", 0.01, subject={"axis": "x"})
    assert (found.id, found.name, found.may_move) == ("spread.x", "x spread", 0.05 * 0.01)
    assert replace(found, uncertainty=0.002).may_move == 0.004
    with pytest.raises(ValueError, match="no stable word"):
        Finding("off at 52 °C", 1.0)
