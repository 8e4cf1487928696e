"""Dialects from the command line: a file checked, tried at a board that speaks it, and the raw dialogue."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.commands import ublet
from tests.test_processes import Board
from ublet.session.library import DATA, machine_path

MOSS = DATA / "dialects" / "moss.toml"


def test_the_known_ones_are_listed_and_a_faulty_file_says_where(tmp_path: Path) -> None:
    listed = json.loads(ublet("dialects", "--json").stdout)["dialects"]
    assert {row["name"]: row["can"] for row in listed}["moss"] == sorted(
        ["heat", "motion", "programs", "filament", "probe", "mesh", "shaping"]
    )
    assert "moss, plain words" in ublet("dialect", "check", str(MOSS)).stdout
    text = MOSS.read_text(encoding="utf-8")
    faulty = tmp_path / "faulty.toml"
    faulty.write_text(text.replace('cool.send = "cool {heater}"', 'cool.send = "cool {heter}"'), encoding="utf-8")
    checked = ublet("dialect", "check", str(faulty))
    line = text.split("\n").index('cool.send = "cool {heater}"') + 1
    assert checked.returncode == 1 and f"faulty.toml:{line}: requests.cool.send: found" in checked.stdout
    assert "no field “heter” here" in checked.stdout
    poorer = tmp_path / "poorer.toml"
    poorer.write_text(text.replace('home.send = "find the end of {axis}"\n', ""), encoding="utf-8")
    assert "no motion: not described: home" in ublet("dialect", "check", str(poorer)).stdout
    assert ublet("dialect", "check", str(tmp_path / "none.toml")).returncode == 2
    refused = ublet("run", "homing", "--scenario", "wren", "--dialect", "fern")
    assert refused.returncode == 2 and "known: moss, slate" in refused.stderr


@pytest.fixture(scope="module")
def board(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Board]:
    made = Board(tmp_path_factory.mktemp("slate") / "store.json", more=("--dialect", "slate"))
    yield made
    made.process.terminate()
    made.process.wait(10)


@pytest.mark.waits
def test_a_dialect_is_gone_through_at_a_board(board: Board) -> None:
    machine = str(machine_path("tern-280"))
    report = json.loads(
        ublet("conform", "--dialect", "slate", "--port", board.port, "--machine", machine, "--json").stdout
    )
    steps = {row["step"]: row for row in report["lines"]}
    assert report["good"], [row for row in report["lines"] if not row["good"]]
    assert {
        "greeting",
        "reading “?t”",
        "setting heaters.hotend.kp",
        "move z +1",
        "warm hotend",
        "silence",
    } <= steps.keys()
    assert "refused until it is released" in steps["halt"]["understood"]
    assert steps["a line that is none"]["understood"].startswith("refused: what is “xyzzy 0”")
    assert report["switches_off"] is True and "resonance" in report["trials_lost"]
    assert steps["greeting"]["came"][0].startswith("slate board=larch-6")


@pytest.mark.waits
def test_a_dialect_of_another_board_is_named_and_nothing_is_done(board: Board) -> None:
    tried = ublet("dialect", "try", "moss", "--port", board.port)
    assert tried.returncode == 3 and "nothing there answers “who is there” as moss" in tried.stderr


@pytest.mark.waits
def test_the_raw_dialogue_from_a_script_with_a_transcript(board: Board, tmp_path: Path) -> None:
    out = tmp_path / "talk.txt"
    command = [
        sys.executable,
        "-m",
        "ublet",
        "talk",
        "--port",
        board.port,
        "--dialect",
        "slate",
        "--transcript",
        str(out),
    ]
    done = subprocess.run(
        command, input="?who\n?t\nnonsense\n", capture_output=True, text=True, timeout=60, check=False
    )
    assert done.returncode == 0 and "(greeting.reply)" in done.stdout and "(readings.warmth.line)" in done.stdout
    assert "(line.error)" in done.stdout
    kept = out.read_text(encoding="utf-8")
    assert kept.startswith("> n1 ?who~") and "< slate board=larch-6" in kept


def test_a_machine_file_says_what_its_board_speaks(tmp_path: Path) -> None:
    file = tmp_path / "machine.toml"
    text = machine_path("wren-180").read_text(encoding="utf-8")
    file.write_text(text.replace('model = "alder-4"', 'model = "alder-4"\ndialect = "moss"'), encoding="utf-8")
    assert ublet("check", str(file)).returncode == 0
    done = ublet("run", "sensors-at-rest", "--scenario", "wren", "--dialect", "moss", "--machine", str(file), "--json")
    assert json.loads(done.stdout)["outcome"] == "proven"


@pytest.mark.waits
def test_what_differs_is_written_setting_by_setting_where_no_image_is_taken(board: Board, tmp_path: Path) -> None:
    file = tmp_path / "machine.toml"
    text = machine_path("tern-280").read_text(encoding="utf-8")
    file.write_text(text.replace('model = "larch-6"', 'model = "larch-6"\ndialect = "slate"'), encoding="utf-8")
    before = json.loads(ublet("write", str(file), "--port", board.port, "--dry-run", "--json").stdout)
    assert before["refused"] is None and "takes no image" in before["why"]
    assert {row["path"] for row in before["shadowed"]} >= {"heaters.hotend.kp", "axes.x.maximum_mm"}
    after = json.loads(ublet("write", str(file), "--port", board.port, "--settle", "file", "--json").stdout)
    assert after["settled"] == len(before["shadowed"]) and after["shadowed"] == []
