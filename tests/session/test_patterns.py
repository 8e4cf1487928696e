"""Patterns by the command: written, drawn, told how long; and what cannot be."""

from __future__ import annotations

from pathlib import Path

import pytest
from typer.testing import CliRunner

from ublet.cli import app
from ublet.session.document import Document
from ublet.session.library import machine_path, scenario_path
from ublet.session.patterns import made


@pytest.mark.parametrize("stem", ["tern-280", "wren-180"])
def test_the_square_is_written_drawn_and_timed_for_both_machines(stem: str, tmp_path: Path) -> None:
    table = made("square", Document(machine_path(stem)))
    laid = sum(each.seconds for each in table.segments)
    assert laid == pytest.approx(table.seconds) and 20 < table.seconds < 60
    for ending in ("gcode", "svg", "pdf"):
        out = tmp_path / f"square.{ending}"
        done = CliRunner().invoke(app, ["pattern", "square", "--machine", str(machine_path(stem)), "-o", str(out)])
        assert done.exit_code == 0 and out.stat().st_size > 500, done.output
    assert "<svg" in (tmp_path / "square.svg").read_text(encoding="utf-8")
    printed = CliRunner().invoke(app, ["pattern", "square", "--scenario", str(scenario_path(stem))])
    assert printed.exit_code == 0 and (tmp_path / "square.gcode").read_text(encoding="utf-8") in printed.output


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["cone"], "no pattern “cone”: allowed: square"),
        (["square", "-o", "square.txt"], "is written as .gcode, .svg or .pdf"),
        (["square", "-o", "no/such/folder/square.svg"], "cannot be written"),
    ],
)
def test_what_cannot_be_is_said(words: list[str], told: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    done = CliRunner().invoke(app, ["pattern", *words, "--machine", str(machine_path("wren-180"))])
    assert done.exit_code == 2 and told in " ".join(done.output.split())
    assert CliRunner().invoke(app, ["pattern", "square"]).exit_code == 2


def test_a_bed_that_is_too_small_is_named(tmp_path: Path) -> None:
    text = machine_path("wren-180").read_text(encoding="utf-8")
    small = tmp_path / "small.toml"
    small.write_text(text.replace("width_mm = 180", "width_mm = 60"), encoding="utf-8")
    assert "width_mm = 60" in small.read_text(encoding="utf-8")
    done = CliRunner().invoke(app, ["pattern", "square", "--machine", str(small)])
    assert done.exit_code == 2 and "does not fit" in " ".join(done.output.split())
