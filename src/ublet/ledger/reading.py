"""Reading runs from the ledger's tables."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable, Sequence
from typing import Any, cast

import numpy as np

from ublet.core.evidence import Dependency, DependencyKind
from ublet.core.remedy import remedy_of
from ublet.core.run import Checkpoint, Finding, Option, Outcome, Proposal, Series, TrialResult
from ublet.core.settings import frozen
from ublet.ledger.entries import AskedQuestion, Change, RunEntry, RunPhase

Query = Callable[[str, tuple[Any, ...]], list[tuple[Any, ...]]]


def entries_of(query: Query, numbers: Sequence[int]) -> list[RunEntry]:
    """Runs by their numbers, in that order; those that are not there are left out."""
    entries = []
    for number in numbers:
        rows = query(
            "SELECT id, at, trial, station, subject, outcome, why, duration_s, parameters, conditions, options, "
            "recommended, remedies, goes_on_from FROM run WHERE id = ?",
            (number,),
        )
        entries += [_entry(query, row) for row in rows]
    return entries


def _entry(query: Query, row: tuple[Any, ...]) -> RunEntry:
    (
        number,
        at,
        name,
        station,
        subject,
        outcome,
        why,
        duration,
        parameters,
        conditions,
        options,
        best,
        remedies,
        before,
    ) = row
    running = outcome == "running"
    result = TrialResult(
        cast(Outcome, "halted" if running else outcome),
        why,
        {key: frozen(value) for key, value in json.loads(conditions).items()},
        _findings(query, number),
        tuple(_option(load) for load in json.loads(options)),
        best,
        tuple(remedy_of(fields) for fields in json.loads(remedies)),
    )
    about = dict(part.split("=", 1) for part in subject.split(",") if part)
    rests = _rests(query, number)
    return RunEntry(number, at, name, station, duration, json.loads(parameters), result, about, rests, running, before)


def _findings(query: Query, number: int) -> tuple[Finding, ...]:
    rows = query(
        "SELECT what, value, uncertainty, unit, lim, subject, words, tolerance FROM finding WHERE run = ? "
        "ORDER BY place",
        (number,),
    )
    return tuple(
        Finding(what, value, u, unit, limit, json.loads(subject), words, tolerance)
        for what, value, u, unit, limit, subject, words, tolerance in rows
    )


def _rests(query: Query, number: int) -> tuple[Dependency, ...]:
    rows = query("SELECT kind, path, value, tolerance FROM rest WHERE run = ? ORDER BY place", (number,))
    return tuple(
        Dependency(cast(DependencyKind, kind), path, frozen(json.loads(value)), slack)
        for kind, path, value, slack in rows
    )


def _option(fields: dict[str, Any]) -> Option:
    proposals = tuple(
        Proposal(p["setting"], frozen(p["before"]), frozen(p["after"]), p["unit"], p["effect"])
        for p in fields["proposals"]
    )
    return Option(fields["name"], fields["note"], proposals, fields["figures"])


def streams_of(query: Query, number: int, leave: tuple[str, ...] = ()) -> dict[str, Series]:
    """The streams of a run by name. leave: kinds that are not read."""
    series: dict[str, Series] = {}
    for stream, name, columns, units, kind in query(
        "SELECT id, name, columns, units, number FROM stream WHERE run = ? ORDER BY id", (number,)
    ):
        if name.split()[0] in leave:
            continue
        titles = tuple(json.loads(columns))
        chunks = query("SELECT count, data FROM chunk WHERE stream = ? ORDER BY place", (stream,))
        parts = [
            np.frombuffer(zlib.decompress(data), dtype=f"<{kind}").reshape(count, len(titles)) for count, data in chunks
        ]
        rows = np.concatenate(parts).astype(np.float64) if parts else np.empty((0, len(titles)))
        series[name] = Series(titles, rows, tuple(json.loads(units)))
    return series


def questions_of(query: Query, number: int) -> tuple[AskedQuestion, ...]:
    """What was asked in a run."""
    rows = query("SELECT at_s, text, answer FROM asked WHERE run = ? ORDER BY place", (number,))
    return tuple(AskedQuestion(*row) for row in rows)


def phases_of(query: Query, number: int) -> tuple[RunPhase, ...]:
    """The phases that a run went through."""
    rows = query("SELECT at_s, words, share FROM phase WHERE run = ? ORDER BY place", (number,))
    return tuple(RunPhase(*row) for row in rows)


def checkpoint_of(query: Query, number: int) -> Checkpoint | None:
    """Where a run could go on."""
    rows = query("SELECT words, state FROM checkpoint WHERE run = ?", (number,))
    return Checkpoint(rows[0][0], json.loads(rows[0][1])) if rows else None


def change_of(row: tuple[Any, ...]) -> Change:
    """A change from its row: at, kind, run, setting, layer, before, after, id."""
    at, kind, run, setting, layer, before, after, number = row
    return Change(at, kind, run, setting, layer, json.loads(before), json.loads(after), number)
