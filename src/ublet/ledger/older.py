"""Ledgers of older versions brought up to today's: trials become runs, findings get their stable words."""

from __future__ import annotations

import json
import re
import sqlite3
from typing import Any

OLD_NAMES: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    (r"(?P<axis>[xyz]) steps per mm", "steps_per_mm", ("axis",)),
    (r"(?P<axis>[xyz]) (?P<what>measured|error|spread|range|low|high)", "", ("axis",)),
    (r"(?P<axis>[xyz]) zero to corner", "zero_to_corner", ("axis",)),
    (r"(?P<axis>[xyz]) bed reached", "bed_reached", ("axis",)),
    (r"(?P<axis>[xyz]) (?P<what>feed|acceleration) limit", "limit", ("axis",)),
    (r"(?P<axis>[xyz]) (?P<what>feed|acceleration) holds at least", "holds", ("axis",)),
    (r"(?P<axis>[xyz]) least current", "least_current", ("axis",)),
    (r"(?P<axis>[xyz]) went .*", "went_right", ("axis",)),
    (r"endstops\.(?P<input>\S+) edges|(?P<probe>probe) edges", "edges", ("input",)),
    (r"(?P<heater>\S+) warms (?P<sensor>\S+)", "rise", ("heater", "sensor")),
    (r"(?P<sensor>\S+) at rest", "at_rest", ("sensor",)),
    (r"(?P<drill>.*) noticed after", "noticed", ("drill",)),
    (r"(?P<drill>.*) peak", "peak", ("drill",)),
    (r"predicted soak at (?P<reading>.*) °C", "predicted_soak", ("reading",)),
    (r"off at (?P<reading>.*) °C", "off", ("reading",)),
    (r"surface below the sensor", "surface_below", ()),
    (r"drift at the end", "drift_at_end", ()),
    (r"r25_ohm", "room_ohm", ()),
)
"""How findings were called before they had stable words: pattern, word (empty, or the ending of “what”), subject."""


def stable(name: str) -> tuple[str, dict[str, str]]:
    """The stable word and the subject of a finding by its old name."""
    for pattern, word, keys in OLD_NAMES:
        if found := re.fullmatch(pattern, name):
            parts = found.groupdict()
            what = "_".join(each for each in (parts.get("what") or "", word) if each)
            subject = {key: str(parts.get(key) or parts.get("probe")).replace(" ", "-") for key in keys}
            return what, subject
    return re.sub(r"[^a-z_]+", "_", name.lower()).strip("_") or "finding", {}


def from_1(base: sqlite3.Connection) -> None:
    """Version 2: a save that is settled later enters all its rows."""
    base.execute("ALTER TABLE intent ADD COLUMN changes TEXT NOT NULL DEFAULT '[]'")


def from_2(base: sqlite3.Connection, schema: str) -> None:
    """Version 3: runs with their findings, rests and streams in tables of their own."""
    for table in ("trial", "series", "change", "intent"):
        base.execute(f"ALTER TABLE {table} RENAME TO old_{table}")
    base.execute("DROP INDEX IF EXISTS trial_by_name")
    for statement in schema.split(";\n"):
        if statement.strip():
            base.execute(statement)
    for row in base.execute("SELECT * FROM old_trial").fetchall():
        _run(base, row)
    _streams(base)
    base.execute("INSERT INTO change SELECT id, at, kind, trial, setting, layer, before, after FROM old_change")
    base.execute(
        "INSERT INTO intent SELECT id, at, file, old_text, new_text, stored_before, stored_after, "
        "replace(changes, '\"trial\":', '\"run\":') FROM old_intent"
    )
    for table in ("series", "trial", "change", "intent"):
        base.execute(f"DROP TABLE old_{table}")


def from_3(base: sqlite3.Connection) -> None:
    """Version 4: what is borrowed from the board, and its clock when it was seen last."""
    base.execute("ALTER TABLE seen ADD COLUMN boot INTEGER")
    base.execute("ALTER TABLE seen ADD COLUMN board_s REAL")
    base.execute("CREATE TABLE loan (setting TEXT PRIMARY KEY, former TEXT NOT NULL, lent TEXT NOT NULL) WITHOUT ROWID")


def _run(base: sqlite3.Connection, row: tuple[Any, ...]) -> None:
    number, at, name, station, outcome, why, duration, parameters, conditions, findings, options, best = row
    heater = json.loads(parameters).get("heater")
    held = json.loads(conditions)
    state = {key: value for key, value in held.items() if "." not in key}
    base.execute(
        "INSERT INTO run VALUES (?,?,?,?,?,?,?,?,?,?,?,?,NULL,NULL,'')",
        (
            *(number, at, name, station, f"heater={heater}" if heater else "", outcome, why, duration, parameters),
            *(json.dumps(state), options, best),
        ),
    )
    for place, each in enumerate(json.loads(findings)):
        what, subject = stable(each["name"])
        if heater:
            subject = {"heater": heater, **subject}
        key = ".".join((what, *subject.values()))
        values = (each["value"], each["uncertainty"], each["unit"], each["limit"])
        base.execute(
            "INSERT INTO finding VALUES (?,?,?,?,?,?,?,?,?,?,NULL)",
            (number, place, key, what, json.dumps(subject), each["name"].replace("_", " "), *values),
        )
    for place, (path, value) in enumerate((p, v) for p, v in held.items() if "." in p):
        base.execute(
            "INSERT INTO rest VALUES (?,?,'setting',?,?,0)",
            (number, place, path, json.dumps(value)),
        )


def _streams(base: sqlite3.Connection) -> None:
    rows = base.execute("SELECT trial, name, columns, count, rows FROM old_series ORDER BY rowid").fetchall()
    for trial, name, columns, count, data in rows:
        units = json.dumps([""] * len(json.loads(columns)))
        stream = base.execute(
            "INSERT INTO stream (run, name, columns, units, rate_hz, number) VALUES (?,?,?,?,NULL,'f8')",
            (trial, name, columns, units),
        ).lastrowid
        base.execute("INSERT INTO chunk VALUES (?,0,?,?)", (stream, count, data))
