"""`ublet bench` by its parts: a table with what fell short, JSON, and a name that is none."""

from __future__ import annotations

import json

import pytest
from typer.testing import CliRunner

from ublet.benchmark import every_figure
from ublet.benchmark.every_figure import UnknownPart, measure, table_of
from ublet.cli import app

FOUND = {
    "share": 0.87,
    "claims": [0.8, 12],
    "accused": [],
    "unnamed": ["3 slips: leave it"],
    "by_kind": {"pin": {"held_ms": 61.0}},
    "fell_short": ["share: 0.87, at least 0.9"],
}


def test_a_table_shows_every_figure_and_what_fell_short() -> None:
    lines = table_of({"made_up": FOUND, "other": {"s": 1.5}})
    text = "\n".join(lines)
    assert "made_up" in lines and any(line.split() == ["held", "ms", "61.0"] for line in lines)
    assert any(line.split() == ["claims", "0.8,", "12"] for line in lines)
    assert "    3 slips: leave it" in lines and any(line.split() == ["accused", "none"] for line in lines)
    assert lines[-2:] == ["fell short", "  made_up: share: 0.87, at least 0.9"]
    assert "fell_short" not in text
    assert table_of({"other": {"s": 1.5}})[-1] == "no part says that anything fell short"


def test_only_the_parts_that_were_asked_for_are_measured(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[tuple[str, bool]] = []

    def part(name: str) -> every_figure.Part:
        return lambda folder, quick: asked.append((name, quick)) or {"exists": folder.exists()}

    monkeypatch.setattr(every_figure, "PARTS", {name: part(name) for name in ("one", "two", "three")})
    assert measure(True, ["three", "one"]) == {"three": {"exists": True}, "one": {"exists": True}}
    assert asked == [("three", True), ("one", True)]
    assert list(measure(False)) == ["one", "two", "three"]
    with pytest.raises(UnknownPart, match="found 'four'; allowed: one, two, three"):
        measure(False, ["four"])
    ran = CliRunner().invoke(app, ["bench", "--part", "two", "--json"])
    assert ran.exit_code == 0 and json.loads(ran.stdout) == {"two": {"exists": True}}
    assert CliRunner().invoke(app, ["bench", "--part", "four"]).exit_code == 2
