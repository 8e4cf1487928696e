"""The commands: output, exit codes, sentences instead of tracebacks."""

from __future__ import annotations

import json
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from tests.commands import ublet
from tests.conftest import machine_text
from ublet.session.library import machine_path, scenario_path

TERN = str(scenario_path("tern-280"))


def test_the_command_is_there_as_a_process() -> None:
    done = subprocess.run([sys.executable, "-m", "ublet", "trials"], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "") and done.stdout == ublet("trials").stdout


def test_check_good_and_bad(tmp_path: Path) -> None:
    good = ublet("check", str(machine_path("wren-180")))
    assert (good.returncode, good.stdout.strip().endswith("good")) == (0, True)
    bad = tmp_path / "bad.toml"
    bad.write_text(machine_text().replace("beta_k = 4267", "beta_k = 9"), encoding="utf-8")
    done = ublet("check", str(bad))
    assert done.returncode == 1
    assert f"{bad}:" in done.stdout and "2000 to 6000 K" in done.stdout
    listed = json.loads(ublet("check", str(bad), "--json").stdout)
    assert listed["good"] is False
    assert listed["problems"][0]["key"] == "sensors.hotend.beta_k"


@pytest.mark.parametrize(
    ("words", "code", "output"),
    [
        (("check", "/nowhere.toml"), 2, "is not there"),
        (("run", "hotend"), 2, "--scenario FILE, or --machine"),
        (("run", "hotend-contol", "--scenario", TERN), 2, "Did you mean hotend-control?"),
        (("run", "hotend-control", "--scenario", TERN, "--set", "target=abc"), 2, "not a number"),
        (("run", "hotend-control", "--scenario", TERN, "--set", "target=20"), 2, "120 to 400 °C"),
        (("run", "hotend-control", "--scenario", TERN, "--set", "targt=215"), 2, "known: heater, target"),
        (("run", "hotend-control", "--scenario", TERN, "--set", "choose=best"), 2, "one of recommended, calm"),
        (("run", "hotend-control", "--scenario", TERN, "--save"), 2, "add --keep"),
        (("run", "hotend-control", "--scenario", "/nowhere.toml"), 2, "nowhere.toml"),
        (("run", "hotend-control", "--machine", str(machine_path("tern-280")), "--port", "/nowhere"), 3, "not there"),
        (("run", "hotend-control", "--scenario", TERN, "--set", "target=280"), 1, ""),
        (("board", "--scenario", TERN, "--listen", "carrier-pigeon"), 2, "write pty"),
        (("board", "--scenario", str(machine_path("tern-280"))), 2, "unknown key"),
        (("demo", "--machine", "heron", "--dir", "/tmp/none"), 2, "tern, wren"),
        (("open", "/nowhere.toml"), 2, "needs a terminal"),
        (("ledger", "/nowhere.toml"), 2, "no trial has been run"),
        (
            ("new", "/tmp", "--from", "heron"),
            2,
            "known: bare-cartesian, bare-corexy, crane-420, heron-330, tern-280, wren-180",
        ),
        ((), 2, ""),
    ],
)
def test_exit_codes_and_sentences(words: tuple[str, ...], code: int, output: str, tmp_path: Path) -> None:
    if "--port" in words:  # the ledger is made beside the machine file
        machine = tmp_path / "m.toml"
        machine.write_text(machine_text(), encoding="utf-8")
        words = tuple(str(machine) if word.endswith("tern-280.toml") else word for word in words)
    done = ublet(*words, home=tmp_path)
    assert done.returncode == code, done.stderr
    assert output in done.stderr


def test_run_json_is_one_object_of_the_contract(tmp_path: Path) -> None:
    machine = tmp_path / "m.toml"
    machine.write_text(machine_text(), encoding="utf-8")
    words = ("--scenario", TERN, "--machine", str(machine), "--keep", "--save", "--json", "--set", "choose=calm")
    done = ublet("run", "hotend-control", *words)
    report = json.loads(done.stdout)
    assert done.returncode == 0 and done.stderr == ""
    keys = {"trial", "outcome", "why", "conditions", "findings", "proposals", "duration_s", "truth", "run"}
    assert keys <= set(report)
    assert set(report["findings"][0]) == {"id", "subject", "name", "value", "uncertainty", "unit", "limit"}
    assert set(report["proposals"][0]) == {"setting", "before", "after", "unit", "effect"}
    kp = report["proposals"][0]["after"]
    assert report["options"]["calm"]["kp"] == kp
    assert f"kp = {kp}" in machine.read_text(encoding="utf-8")
    history = json.loads(ublet("ledger", str(machine), "--json").stdout)
    assert [entry["trial"] for entry in history["trials"]] == ["hotend-verify", "hotend-control"]
    assert {change["kind"] for change in history["changes"]} == {"keep", "save"}
    drawn = ublet("figure", "heat", str(machine), "-o", str(tmp_path / "f.svg"))
    assert drawn.returncode == 0 and (tmp_path / "f.svg").read_text(encoding="utf-8").startswith("<?xml")
    assert ublet("figure", "heat", str(machine), "-o", str(tmp_path / "f.gif")).returncode == 2


def test_a_tripped_guard_ends_with_its_code(tmp_path: Path) -> None:
    folder = tmp_path / "scenarios"
    folder.mkdir()
    (tmp_path / "machines").mkdir()
    (tmp_path / "machines" / "tern-280.toml").write_text(machine_text(), encoding="utf-8")
    text = scenario_path("tern-280").read_text(encoding="utf-8")
    event = '\n[[events]]\nkind = "sensor-open"\nof = "T1"\nabove_c = 100\n'
    (folder / "open.toml").write_text(text + event, encoding="utf-8")
    done = ublet("run", "hotend-control", "--scenario", str(folder / "open.toml"), "--json")
    assert done.returncode == 4
    assert json.loads(done.stdout)["outcome"] == "halted"


def test_a_fault_of_ours_is_one_sentence_and_a_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from ublet import cli, entry

    def broken() -> None:
        raise RuntimeError("an inner secret")

    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    monkeypatch.setattr(cli, "app", broken)
    monkeypatch.setattr("sys.argv", ["ublet", "trials"])
    with pytest.raises(SystemExit) as ended:
        entry.command()
    assert ended.value.code == 70
    assert "an inner secret" in (tmp_path / "ublet" / "last-fault.txt").read_text(encoding="utf-8")


def test_trials_lists_parameters() -> None:
    listed = json.loads(ublet("trials", "--json").stdout)["trials"]
    names = {trial["trial"]: [p["name"] for p in trial["parameters"]] for trial in listed}
    assert names["hotend-control"] == ["heater", "target", "cycles", "choose", "wait"]


def test_new_starts_a_file_that_checks_and_never_overwrites(tmp_path: Path) -> None:
    assert ublet("new", str(tmp_path / "mine"), "--from", "wren-180").returncode == 0
    mine = tmp_path / "mine" / "machine.toml"
    assert tomllib.loads(mine.read_text(encoding="utf-8"))["machine"]["preset"] == "wren-180"
    assert ublet("fact", str(mine), "nozzle", "0.6").returncode == 0, "which begins its ledger"
    assert ublet("report", str(mine), "-o", str(tmp_path / "r.json")).returncode == 0
    assert json.loads((tmp_path / "r.json").read_text(encoding="utf-8"))["preset"] == "wren-180"
    assert ublet("check", str(tmp_path / "mine" / "machine.toml")).returncode == 0
    assert "left as it is" in ublet("new", str(tmp_path / "mine")).stderr
    assert "tern-280" in ublet("presets").stdout


def test_the_ledger_tells_one_run_whole_and_gives_its_data(tmp_path: Path) -> None:
    machine = tmp_path / "m.toml"
    machine.write_text(machine_text(), encoding="utf-8")
    words = ("--scenario", TERN, "--machine", str(machine))
    for trial in ("sensors-at-rest", "hotend-control"):
        assert ublet("run", trial, *words).returncode == 0
    listed = ublet("ledger", str(machine)).stdout
    assert "run 1     sensors-at-rest: proven." in listed and "hotend-control (hotend): proven." in listed
    whole = json.loads(ublet("ledger", str(machine), "2", "--json").stdout)
    assert (whole["id"], whole["subject"], whole["outcome"]) == (2, {"heater": "hotend"}, "proven")
    assert (
        whole["streams"]["relay"]["units"] == ["s", "duty", "°C", "duty"] and whole["began_with"]["board"] == "larch-6"
    )
    rows = ublet("ledger", str(machine), "2", "--csv", "relay").stdout.split("\n")
    assert rows[0] == "time_s,duty,temperature_c,fan" and len(rows) - 2 == whole["streams"]["relay"]["rows"] > 1000
    output = ublet("ledger", str(machine), "2").stdout
    for line in ("found", "rests on", "recorded", "sensors.hotend: socket T1, kind beta"):
        assert line in output
    for more, code, words_of in (
        (("9",), 2, "run 9 is not in the ledger"),
        (("2", "--csv", "nothing"), 2, "it recorded: relay, predicted"),
        (("--csv", "relay"), 2, "belongs to a run"),
        (("x",), 2, "run “x” is no number of a run"),
    ):
        done = ublet("ledger", str(machine), *more)
        assert done.returncode == code and words_of in done.stderr and "Traceback" not in done.stderr


def test_a_fact_is_told_and_lists_what_it_makes_stale(tmp_path: Path) -> None:
    machine = tmp_path / "m.toml"
    machine.write_text(machine_text(), encoding="utf-8")
    assert ublet("run", "hotend-control", "--scenario", TERN, "--machine", str(machine)).returncode == 0
    assert "known facts: nozzle, sock" in ublet("fact", str(machine)).stdout
    done = json.loads(ublet("fact", str(machine), "nozzle", "0.6 mm", "--json").stdout)
    assert done["fact"]["value"] == "0.6 mm"
    (stale,) = done["stale"]
    assert (stale["trial"], stale["subject"], stale["reason"]) == (
        "hotend-control",
        {"heater": "hotend"},
        "nozzle: 0.6 mm",
    )
    again = ublet("fact", str(machine), "belt.x").stdout
    assert "noted: belt x: tightened" in again and "nothing that was found rests on it" in again
    known = ublet("fact", str(machine)).stdout
    assert "nozzle: 0.6 mm" in known and "belt x: tightened" in known
    wrong = ublet("fact", str(machine), "nozle")
    assert wrong.returncode == 2 and "Did you mean nozzle?" in wrong.stderr
    gone = ublet("fact", str(tmp_path / "none.toml"))
    assert gone.returncode == 2 and "is not there" in gone.stderr


def test_a_command_logs_to_standard_error_when_asked(tmp_path: Path) -> None:
    words = ("run", "directions", "--scenario", str(scenario_path("wren-180")), "--json")
    quiet, loud = ublet(*words), ublet("-v", *words)
    assert quiet.stderr == "" and json.loads(quiet.stdout)["outcome"] == json.loads(loud.stdout)["outcome"]
    assert "linked to alder-4" in loud.stderr and "run 1: directions begins" in loud.stderr
    assert f"directions {json.loads(loud.stdout)['outcome']}" in loud.stderr
