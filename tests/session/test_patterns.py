"""Patterns by the command: written, drawn, told how long; and what cannot be."""

from __future__ import annotations

from pathlib import Path

import pytest
from typer.testing import CliRunner

from ublet.cli import app
from ublet.core.motion.program import To
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
    ("words", "output"),
    [
        (["cone"], "no pattern “cone”: allowed: square, first-layer, first-layer-stripe"),
        (["square", "-o", "square.txt"], "is written as .gcode, .svg or .pdf"),
        (["square", "-o", "no/such/folder/square.svg"], "cannot be written"),
    ],
)
def test_what_cannot_be_is_said(words: list[str], output: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    done = CliRunner().invoke(app, ["pattern", *words, "--machine", str(machine_path("wren-180"))])
    assert done.exit_code == 2 and output in " ".join(done.output.split())
    assert CliRunner().invoke(app, ["pattern", "square"]).exit_code == 2


def test_a_bed_that_is_too_small_is_named(tmp_path: Path) -> None:
    text = machine_path("wren-180").read_text(encoding="utf-8")
    small = tmp_path / "small.toml"
    small.write_text(text.replace("width_mm = 180", "width_mm = 60"), encoding="utf-8")
    assert "width_mm = 60" in small.read_text(encoding="utf-8")
    done = CliRunner().invoke(app, ["pattern", "square", "--machine", str(small)])
    assert done.exit_code == 2 and "does not fit" in " ".join(done.output.split())


@pytest.mark.parametrize("kind", ["first-layer", "first-layer-stripe"])
@pytest.mark.parametrize("stem", ["tern-280", "wren-180"])
def test_the_first_layer_is_written_for_other_machines(kind: str, stem: str, tmp_path: Path) -> None:
    table = made(kind, Document(machine_path(stem)))
    laid = [each for each in table.program.segments if isinstance(each, To) and each.filament > 0]
    assert len(laid) > 200 and 100 < table.seconds < 900
    machine = Document(machine_path(stem)).machine
    assert machine.extruder is not None
    section = sum(each.filament for each in laid) * 3.14159 * machine.extruder.filament_mm**2 / 4
    long = section / ((0.45 - 0.2) * 0.2 + 3.14159 * 0.2**2 / 4)
    if kind == "first-layer":
        assert long == pytest.approx(5 * (20 * 20 / 0.45) + 60, rel=0.05), "five patches of 20 mm, and a purge line"
    for ending in ("gcode", "svg"):
        out = tmp_path / f"layer.{ending}"
        words = ["pattern", kind, "--machine", str(machine_path(stem)), "-o", str(out)]
        assert CliRunner().invoke(app, words).exit_code == 0
        assert out.stat().st_size > 2000


def test_a_prints_start_has_its_reasons_and_the_builders_own_program_is_looked_through(tmp_path: Path) -> None:
    machine = tmp_path / "tern-280.toml"
    text = machine_path("tern-280").read_text(encoding="utf-8")
    run = CliRunner()
    machine.write_text(text, encoding="utf-8")
    bare = run.invoke(app, ["pattern", "print-start", "--machine", str(machine)])
    assert bare.exit_code == 0 and "(1. heat the bed to 60 °C: the bed is the slowest" in bare.output
    assert bare.output.index("home X, Y") < bare.output.index("load no mesh") < bare.output.index("purge line")
    own = '\n[program]\nstart_file = "mine.txt"\nbed = "BED 60"\nsoak = "SOAK"\ntip = "TIP"\nhome = "HOME"\n'
    own += 'lifts = "SQUARE"\nmesh = "MESH"\nnozzle = "HOT"\npurge = "PURGE"\n'
    machine.write_text(text + own, encoding="utf-8")
    mine = tmp_path / "mine.txt"
    mine.write_text("BED  60\nSOAK\nTIP\nHOME\nSQUARE\nMESH\nHOT\nPURGE\n", encoding="utf-8")
    assert run.invoke(app, ["pattern", "print-start", "--machine", str(machine)]).exit_code == 0
    mine.write_text("BED 60\nTIP\nHOME\nMESH\nSQUARE\nHOT\nPURGE\n", encoding="utf-8")
    wrong = run.invoke(app, ["pattern", "print-start", "--machine", str(machine)])
    output = " ".join(wrong.output.split())
    assert wrong.exit_code == 1 and "“SOAK” is missing; nobody has measured how long" in output
    assert "“MESH” stands there, but before “lifts”" in output
    mine.unlink()
    gone = run.invoke(app, ["pattern", "print-start", "--machine", str(machine)])
    assert gone.exit_code == 1 and "cannot be read" in gone.output


def test_a_prints_end_counts_from_where_the_print_ended() -> None:
    done = CliRunner().invoke(app, ["pattern", "print-end", "--machine", str(machine_path("wren-180"))])
    lines = done.output.splitlines()
    assert done.exit_code == 0
    raised = next(n for n, line in enumerate(lines) if line.startswith("G0 Z"))
    assert lines[raised - 1].startswith("G91") and lines[raised + 1].startswith("G90"), "never down into a tall part"
