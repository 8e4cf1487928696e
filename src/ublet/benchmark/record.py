"""The record at size: a ledger of many runs, and a flood of rows beside an event loop; plain references beside."""

from __future__ import annotations

import asyncio
import json
import sqlite3
import statistics
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

FLOOD_ROWS, FLOOD_COLUMNS = 384_000, 3
"""Two minutes of an accelerometer at 3,200 rows a second."""

BEAT_S = 0.001

RESTS = 30
"""Number of values that a run rests on."""


def ledger_at_size(folder: Path, entries: int, repeats: int) -> dict[str, Any]:
    """Opening, standings and a save with so many runs and so many changes; the same save in a new ledger beside."""
    from ublet.ledger.book import Ledger
    from ublet.ledger.entries import Change, Intent
    from ublet.session.comparing import compared, state_of
    from ublet.session.past import moment_of
    from ublet.session.record import Offline
    from ublet.session.session import Session, ledger_path
    from ublet.session.standings import standings
    from ublet.tui.record.ledger import listed

    machine = _machine(folder)
    path = ledger_path(machine)
    Ledger(path, threaded=False).close()
    _fill(path, machine, entries)
    opened = [_seconds(lambda: Ledger(path, threaded=False).close()) for _ in range(repeats)]
    plain = [_seconds(lambda: sqlite3.connect(path).execute("SELECT max(id) FROM run").fetchall()) for _ in opened]

    async def refreshed() -> tuple[list[float], float]:
        session = Session(machine, _no_board, threaded=False)
        first = _seconds(lambda: standings(session))
        seconds = [_seconds(lambda: standings(session)) for _ in range(5 * repeats)]
        session.ledger.close()
        return seconds, first

    refresh, first = asyncio.run(refreshed())
    empty = folder / "empty.ledger"
    books = {"full": Ledger(path, threaded=False), "empty": Ledger(empty, threaded=False)}
    saves: dict[str, list[float]] = {name: [] for name in books}
    changes = [Change("2026", "save", None, f"heaters.hotend.{key}", "stored", 0.1, 0.2) for key in ("kp", "ki", "kd")]

    def save(book: Ledger) -> None:
        book.last_change("heaters.hotend.kp", "keep")
        book.begin_save(Intent("2026", "f", "old", "new", {}, {}, tuple(changes)))
        book.end_save(changes)

    for _ in range(3 * repeats):
        for name, book in books.items():
            saves[name].append(_seconds(lambda book=book: save(book)))  # type: ignore[misc]
    searched = [_seconds(lambda: listed(books["full"], "everything", ("drive", "quxx"))) for _ in range(repeats)]
    keys = [_seconds(lambda: listed(books["full"], "everything")) for _ in range(repeats)]
    for book in books.values():
        book.close()
    offline = Offline(machine)
    moments = [moment_of(offline.ledger, str(number)) for number in (entries // 2, entries)]
    compare = [
        _seconds(lambda: compared(offline.ledger, *(state_of(offline, moment) for moment in moments)))
        for _ in range(repeats)
    ]
    offline.close()
    return {
        "filter_ms": round(1000 * statistics.median(searched), 1),
        "filter_limit_ms": 100.0,
        "key_ms": round(1000 * statistics.median(keys), 1),
        "key_limit_ms": 50.0,
        "compare_s": round(statistics.median(compare), 3),
        "compare_limit_s": 0.3,
        "runs": entries,
        "changes": entries,
        "open_s": round(statistics.median(opened), 4),
        "open_limit_s": 0.3,
        "plain_sqlite_open_s": round(statistics.median(plain), 4),
        "standings_ms": round(1000 * statistics.median(refresh), 2),
        "standings_first_ms": round(1000 * first, 2),
        "standings_limit_ms": 5.0,
        "save_ms": round(1000 * statistics.median(saves["full"]), 2),
        "save_in_an_empty_ledger_ms": round(1000 * statistics.median(saves["empty"]), 2),
    }


def flood(folder: Path, repeats: int) -> dict[str, Any]:
    """How long a beat of the event loop is held up while rows come in, in blocks and one by one; and without them."""
    blocks, rows, quiet, whole = [], [], [], []
    for number in range(repeats):
        data = np.random.default_rng(number).normal(0, 1, (FLOOD_ROWS, FLOOD_COLUMNS))
        held, wall = asyncio.run(_flooded(folder / f"blocks-{number}.ledger", data, 640))
        blocks.append(held)
        whole.append(wall)
        rows.append(asyncio.run(_flooded(folder / f"rows-{number}.ledger", data[:64_000], 1))[0])
        quiet.append(asyncio.run(_beats(asyncio.sleep(1.0))))
    return {
        "rows": FLOOD_ROWS,
        "columns": FLOOD_COLUMNS,
        "longest_hold_ms": round(1000 * statistics.median(blocks), 1),
        "longest_hold_row_by_row_ms": round(1000 * statistics.median(rows), 1),
        "limit_ms": 20.0,
        "longest_hold_without_ms": round(1000 * statistics.median(quiet), 1),
        "taken_in_s": round(statistics.median(whole), 2),
        "runs": repeats,
    }


async def _flooded(path: Path, data: Any, at_once: int) -> tuple[float, float]:
    """The longest hold of the loop, and how long it took until everything was in the file."""
    from ublet.core.run import Stream
    from ublet.ledger.book import Ledger
    from ublet.ledger.entries import Opening

    book = Ledger(path)
    recorded = book.open_run(Opening("2026", "t", "s", {}))
    stream = Stream("acceleration", ("x_m_s2", "y_m_s2", "z_m_s2"), ("m/s²",) * 3, 3200.0, "f4")

    async def come() -> None:
        for start in range(0, len(data), at_once):
            if at_once == 1:
                recorded.row(stream, "acceleration", tuple(data[start].tolist()))
                if start % 64 == 0:
                    await asyncio.sleep(0)
            else:
                recorded.rows(stream, "acceleration", data[start : start + at_once])
                await asyncio.sleep(0)

    began = time.perf_counter()
    longest = await _beats(come())
    recorded.flush()
    if why := await asyncio.to_thread(book.entered, recorded, 60.0):
        raise RuntimeError(why)
    wall = time.perf_counter() - began
    if len(book.streams(recorded.number)["acceleration"].rows) != len(data):
        raise RuntimeError("rows were lost")
    book.close()
    return longest, wall


async def _beats(work: Any) -> float:
    """How much later than asked for a beat comes at the worst while some work goes on, s."""
    going, worst = asyncio.ensure_future(work), 0.0
    while not going.done():
        began = time.perf_counter()
        await asyncio.sleep(BEAT_S)
        worst = max(worst, time.perf_counter() - began - BEAT_S)
    await going
    return worst


def _fill(path: Path, machine: Path, entries: int) -> None:
    """Runs of every trial in turn, most of them cancelled, and as many changes."""
    from ublet.core.catalogue import TRIALS
    from ublet.session.document import Document

    base = sqlite3.connect(path)
    names = [
        (name, f"heater={heater}" if heater else "")
        for name, spec in TRIALS.items()
        for heater in (("hotend", "bed") if "heater" in spec.parameters.model_fields else ("",))
    ]
    runs = []
    for number in range(1, entries + 1):
        name, subject = names[number % len(names)]
        outcome = "proven" if number % 50 < 3 else "halted"
        runs.append((number, "2026-01-01T00:00:00", name, "s", subject, outcome, "so", 1.0, "{}", "{}", "[]", "", ""))
    base.executemany(
        "INSERT INTO run (id, at, trial, station, subject, outcome, why, duration_s, parameters, conditions, options, "
        "recommended, process) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?)",
        runs,
    )
    held = [(path, json.dumps(value)) for path, value in Document(machine).values.items()][:RESTS]
    base.executemany(
        "INSERT INTO rest VALUES (?,?,'setting',?,?,0)",
        [(run[0], place, *dependency) for run in runs if run[5] == "proven" for place, dependency in enumerate(held)],
    )
    base.executemany(
        "INSERT INTO change (at, kind, run, setting, layer, before, after) VALUES ('2026','keep',?,?,'live','1','2')",
        [(number, f"heaters.hotend.k{number % 40}") for number in range(1, entries + 1)],
    )
    base.commit()
    base.close()


def _machine(folder: Path) -> Path:
    from ublet.session.library import machine_path

    folder.mkdir(parents=True, exist_ok=True)
    machine = folder / "tern-280.toml"
    machine.write_text(machine_path("tern-280").read_text(encoding="utf-8"), encoding="utf-8")
    return machine


def _seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


async def _no_board() -> Any:
    from ublet.link.transport import PortError

    raise PortError("there is no board here")
