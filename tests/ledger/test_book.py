"""The ledger keeps what was entered, to the bit."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from ublet.core.trial import Finding, Option, Proposal, Series, TrialResult
from ublet.ledger.book import Change, Intent, Ledger, LedgerError

RESULT = TrialResult(
    "proven",
    "because",
    {"target_c": 215.0, "heaters.hotend.kp": 0.1},
    (Finding("gain", 544.0, 0.8, "°C", None),),
    (Option("calm", "note", (Proposal("heaters.hotend.kp", 0.1, 0.2, "/°C", "less"),), {"settle_s": None, "kp": 0.2}),),
    "calm",
    {"relay": Series(("time_s", "temperature_c"), np.random.default_rng(1).random((500, 2)))},
)


def test_a_trial_comes_back_as_it_went_in(folder: Path) -> None:
    book = Ledger(folder / "a.ledger")
    number = book.add_trial("2026-01-01T00:00:00", "t", "s", {"target": 215.0}, RESULT, 12.5)
    book.close()
    book = Ledger(folder / "a.ledger")
    entry = book.latest("t", "proven")
    assert entry is not None and entry.id == number and entry.duration_s == 12.5
    assert entry.result.findings == RESULT.findings
    assert entry.result.options == RESULT.options
    assert dict(entry.result.conditions) == dict(RESULT.conditions)
    series = book.series(number)["relay"]
    assert series.columns == ("time_s", "temperature_c")
    assert np.array_equal(series.rows, RESULT.series["relay"].rows)
    assert book.latest("t", "failed") is None


def test_changes_newest_first(folder: Path) -> None:
    book = Ledger(folder / "a.ledger")
    first = Change("2026", "keep", None, "a.b", "live", 1.0, 2.0)
    second = Change("2026", "save", None, "a.b", "stored", None, 2.0)
    book.add_changes([first, second])
    assert book.changes() == [second, first]
    assert book.changes("keep") == [first]


def test_an_intent_lasts_until_its_save_ends(folder: Path) -> None:
    book = Ledger(folder / "a.ledger")
    intent = Intent("2026", "f", "old", "new", {"a": None}, {"a": 1.0})
    book.begin_save(intent)
    with pytest.raises(LedgerError):
        book.begin_save(intent)
    book.close()
    book = Ledger(folder / "a.ledger")
    assert book.pending_save() == intent
    book.end_save([])
    assert book.pending_save() is None


def test_garbage_and_other_versions_are_refused_with_a_sentence(folder: Path) -> None:
    path = folder / "bad.ledger"
    path.write_bytes(b"this is no database, whatever its name says" * 40)
    with pytest.raises(LedgerError, match="move it away"):
        Ledger(path)
    with pytest.raises(LedgerError, match="cannot be used"):
        Ledger(folder / "no" / "such" / "folder.ledger")
    good = Ledger(folder / "new.ledger")
    good._base.execute("PRAGMA user_version=99")
    good.close()
    with pytest.raises(LedgerError, match="another version"):
        Ledger(folder / "new.ledger")


def test_two_writers_wait_for_each_other(folder: Path) -> None:
    one, two = Ledger(folder / "a.ledger"), Ledger(folder / "a.ledger")
    one.add_trial("2026", "t", "s", {}, RESULT, 1.0)
    two.add_trial("2026", "t", "s", {}, RESULT, 2.0)
    assert [entry.duration_s for entry in one.trials("t")] == [2.0, 1.0]
