"""Commands on real processes: signals, questions without a builder, other machines, what a save takes; full disks."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.commands import ublet
from tests.conftest import machine_text
from tests.test_processes import KP, Board, Running
from tests.tui.screen import Screen
from ublet.session.library import machine_path, scenario_path

pytestmark = pytest.mark.waits


def in_a_process(*words: str, **how: Any) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "ublet", *words]
    return subprocess.run(command, capture_output=True, text=True, check=False, timeout=120, **how)


@pytest.fixture
def board(tmp_path: Path) -> Iterator[Board]:
    running = Board(tmp_path / "store.json", speed="20")
    yield running
    running.process.send_signal(signal.SIGCONT)
    running.process.kill()
    running.process.wait()


@pytest.fixture
def quick(tmp_path: Path) -> Iterator[Board]:
    """A board for a trial that takes long: its clock runs faster (faster still, a host that waits loses cycles), and
    its hotend is a light one.
    """
    truth = scenario_path("tern-280").read_text(encoding="utf-8")
    light = truth.replace("capacity_j_k = 16\n", "capacity_j_k = 6\n")
    assert light != truth
    scenario = tmp_path / "light.toml"
    named = 'machine_file = "../machines/tern-280.toml"'
    scenario.write_text(light.replace(named, f'machine_file = "{machine_path("tern-280")}"'), encoding="utf-8")
    running = Board(tmp_path / "store.json", speed="40", scenario=scenario)
    yield running
    running.process.kill()
    running.process.wait()


@pytest.fixture
def machine(tmp_path: Path) -> Path:
    file = tmp_path / "m.toml"
    file.write_text(machine_text(), encoding="utf-8")
    return file


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT])
def test_every_signal_that_can_be_caught_switches_off(number: signal.Signals, board: Board, machine: Path) -> None:
    running = Running(board, machine)
    assert running.stop(number) == 130
    assert f"interrupted by {number.name}; the board confirmed that everything is off".encode() in running.output
    rows, client = board.history()
    assert client.about is not None and client.about.was_on == []
    assert rows[-1][2 + client.about.channels.index("heaters.hotend.target_c")] is None


def test_ctrl_c_says_only_what_was_confirmed(board: Board, machine: Path) -> None:
    running = Running(board, machine)
    board.process.send_signal(signal.SIGSTOP)
    assert running.stop(signal.SIGINT) == 130
    assert b"it is not known whether the heaters are off" in running.output and b"confirmed" not in running.output


def test_a_trial_that_asks_is_refused_without_a_builder_before_anything_happens(board: Board, machine: Path) -> None:
    for trial in ("fans-one-by-one", "guards-drill", "heaters-paired", "directions"):
        done = ublet("run", trial, "--machine", str(machine), "--port", board.port)
        assert done.returncode == 2 and "asks the builder" in done.stderr and "Nothing was moved" in done.stderr
    rows, client = board.history()
    assert client.about is not None
    fans = [2 + client.about.channels.index(f"fans.{name}") for name in ("part", "hotend", "board")]
    assert all(row[at] == 0 for row in rows for at in fans)


def test_answers_come_from_a_file_and_a_wrong_one_is_named(board: Board, machine: Path, tmp_path: Path) -> None:
    answers = tmp_path / "answers"
    run = ("run", "fans-one-by-one", "--machine", str(machine), "--port", board.port, "--answers", str(answers))
    answers.write_text("# what turned\npart\nnone\n3\n", encoding="utf-8")
    done = ublet(*run, "--json")
    report = json.loads(done.stdout)
    assert done.returncode == 1 and "The hotend fan does not turn" in report["why"]
    answers.write_text("part\nthe red one\n", encoding="utf-8")
    done = ublet(*run)
    assert done.returncode == 1 and "answers:2: “the red one” is no answer; allowed: 1 part, 2 hotend" in done.stdout
    answers.write_text("part\n", encoding="utf-8")
    assert "has no further answer" in ublet(*run).stdout
    assert ublet(*run[:-1], str(tmp_path / "none")).returncode == 2


def test_a_save_takes_what_the_run_proposed_and_nothing_else(quick: Board, machine: Path) -> None:
    board = quick
    board.ask("settings.write", values={"axes.x.maximum_feed_mm_s": 123.0, KP: 0.5})
    done = ublet(
        *("run", "hotend-control", "--machine", str(machine), "--port", board.port),
        *("--set", "cycles=10", "--keep", "--save", "--json"),
    )
    report = json.loads(done.stdout)
    assert done.returncode == 0, report["why"]
    proposed = {proposal["setting"] for proposal in report["proposals"]}
    assert report["saved"] == len(proposed) == 3
    answer, _ = board.ask("settings.read", paths=["axes.x.maximum_feed_mm_s", KP])
    values = answer["values"]
    assert isinstance(values, dict)
    assert values["axes.x.maximum_feed_mm_s"] == {"image": 300, "stored": None, "live": 123.0}
    assert values[KP]["stored"] == values[KP]["live"] != 0.5
    text = machine.read_text(encoding="utf-8")
    assert "123" not in text and f"kp = {values[KP]['stored']:g}" in text


def test_another_machines_file_is_refused_and_a_renamed_one_can_be_vouched_for(board: Board, tmp_path: Path) -> None:
    wren = tmp_path / "wren.toml"
    wren.write_text(machine_path("wren-180").read_text(encoding="utf-8"), encoding="utf-8")
    done = ublet("run", "hotend-control", "--machine", str(wren), "--port", board.port, "--keep", "--save")
    assert done.returncode == 2 and "of the kind larch-6, and wren.toml is for a alder-4" in done.stderr
    renamed = tmp_path / "renamed.toml"
    renamed.write_text(machine_text().replace('name = "Tern 280"', 'name = "My Tern"'), encoding="utf-8")
    run = ("run", "sensors-at-rest", "--machine", str(renamed), "--port", board.port)
    done = ublet(*run)
    assert done.returncode == 2 and "image of “Tern 280”" in done.stderr and "same machine" in done.stderr
    assert ublet(*run, "--same-machine").returncode == 0
    assert ublet(*run).returncode == 0, "it was said once, and is in the ledger"


def test_a_full_standard_output_and_an_ascii_terminal_are_no_faults(machine: Path) -> None:
    with Path("/dev/full").open("w", encoding="utf-8") as full:
        for words in (("check", str(machine)), ("trials", "--json")):
            done = subprocess.run(
                [sys.executable, "-m", "ublet", *words], stdout=full, stderr=subprocess.PIPE, text=True, check=False
            )
            assert done.returncode == 2 and "could not be written: No space left" in done.stderr
    plain = {**os.environ, "PYTHONIOENCODING": "ascii"}
    assert json.loads(in_a_process("trials", "--json", env=plain).stdout)["trials"]


def test_a_check_whose_process_ends_at_once_has_said_everything(machine: Path, tmp_path: Path) -> None:
    good = in_a_process("check", str(machine))
    assert (good.returncode, good.stdout) == (0, f"{machine}: good\n")
    bad = tmp_path / "bad.toml"
    bad.write_text("[machine]\n", encoding="utf-8")
    completed = in_a_process("check", str(bad), "--json")
    assert completed.returncode == 1 and len(json.loads(completed.stdout)["problems"]) > 3


def test_bytes_that_are_not_text_and_links_that_lead_nowhere_are_sentences(machine: Path, tmp_path: Path) -> None:
    scenario = tmp_path / "s.toml"
    scenario.write_bytes(b"\xff\xfe[scenario]")
    for words in (("run", "homing"), ("board",)):
        done = ublet(*words, "--scenario", str(scenario))
        assert done.returncode == 2 and "UTF-8" in done.stderr and "Traceback" not in done.stderr
    (tmp_path / "boards").mkdir()
    (tmp_path / "boards" / "x.toml").symlink_to("/nowhere")
    assert ublet("check", str(machine)).returncode == 0, "a board's file that nobody uses stops nothing"
    machine.write_text(machine_text().replace('"larch-6"', '"x"', 1), encoding="utf-8")
    done = ublet("check", str(machine))
    assert done.returncode == 2 and "x.toml cannot be read" in done.stderr
    (tmp_path / "boards" / "x.toml").unlink()
    machine.write_text("\ufeff" + machine_text(), encoding="utf-8")
    assert ublet("check", str(machine)).returncode == 0
    machine.write_text(machine_text().replace("microsteps = 32", "microsteps = true", 1), encoding="utf-8")
    done = ublet("check", str(machine))
    assert done.returncode == 1 and "found true; allowed: one of 1, 2, 4" in done.stdout


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP])
def test_the_app_switches_off_when_it_is_ended_from_outside(
    number: signal.Signals, board: Board, machine: Path, tmp_path: Path
) -> None:
    screen = Screen(tmp_path, "open", str(machine), "--port", board.port)
    try:
        screen.wait("no errors")
        screen.key("NPage", "NPage", "NPage", *["Down"] * 4)
        screen.wait("1 pla")
        screen.key("Enter", "1")
        screen.wait("hotend and bed heated")
        pid = int(screen.tmux("display-message", "-p", "-t", "t", "#{pane_pid}"))
        began = time.monotonic()
        os.kill(pid, number)
        while Path(f"/proc/{pid}").exists() and "Z" not in Path(f"/proc/{pid}/stat").read_text().split(")")[1][:3]:
            assert time.monotonic() - began < 60, "it does not end"
            time.sleep(0.05)
        rows, client = board.history()
        assert client.about is not None and client.about.was_on == [], "it was off before anybody else came"
        assert rows[-1][2 + client.about.channels.index("heaters.hotend.target_c")] is None
        assert client.state.mode == "ready", "and not by the board's own dead-man"
    finally:
        screen.close()
