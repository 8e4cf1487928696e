"""The report of a machine: as text, data and pages; and the list of machines that were opened."""

from __future__ import annotations

import json
import shutil
import zlib
from pathlib import Path

import pytest
from typer.testing import CliRunner

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from ublet.cli import app
from ublet.core.catalogue import TRIALS
from ublet.core.facts import Fact
from ublet.ledger.book import Ledger
from ublet.session import places
from ublet.session.machines import identity_of, known_machines
from ublet.session.saving import now
from ublet.session.session import ledger_path


@pytest.fixture(scope="module")
def machine(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Tern with two proven stations, of which one is stale."""
    folder = tmp_path_factory.mktemp("report")

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            for name in ("sensors-at-rest", "hotend-control"):
                await rig.session.run(TRIALS[name], TRIALS[name].parameters(), Onlooker())
            rig.session.ledger.report_fact(Fact("nozzle", "", "changed by Jane", now()))

    virtually(work)
    return folder / "tern-280.toml"


def test_text_and_data_say_what_stands_and_name_no_path_port_or_person(machine: Path, tmp_path: Path) -> None:
    runner = CliRunner()
    text_file, data_file = tmp_path / "r.txt", tmp_path / "r.json"
    assert runner.invoke(app, ["report", str(machine), "-o", str(text_file)]).exit_code == 0
    assert runner.invoke(app, ["report", str(machine), "-o", str(data_file)]).exit_code == 0
    text, data = text_file.read_text(encoding="utf-8"), json.loads(data_file.read_text(encoding="utf-8"))
    states = {row["station"]: row["state"] for row in data["stations"]}
    assert (states["sensors at rest"], states["hotend control"], states["homing"]) == ("proven", "stale", "open")
    assert "● sensors at rest" in text and "▲ hotend control" in text and "nozzle" in text
    assert any("nozzle: reported" in words for words in data["stale"])
    assert data["redo"][0]["trial"] == "hotend-control" and "homing: not done yet" in data["open"]
    assert "settings that differ from tern-280" not in text, "its file is as delivered"
    for private in (str(machine.parent), "Jane", "October", "/dev", "socket"):
        assert private not in text.replace("socket ", ""), private


@pytest.mark.parametrize("paper", ["a4", "letter"])
def test_pages_are_drawn_and_hold_the_stations(machine: Path, tmp_path: Path, paper: str) -> None:
    runner, out = CliRunner(), tmp_path / "r.svg"
    done = runner.invoke(app, ["report", str(machine), "-o", str(out), "--paper", paper])
    files = [Path(line) for line in done.stdout.split()]
    assert done.exit_code == 0 and files[0] == out and len(files) >= 4 and all(file.exists() for file in files)
    assert f'width="{ {"a4": 595.44, "letter": 612}[paper]:g}pt"' in out.read_text(encoding="utf-8")
    pdf = tmp_path / "r.pdf"
    assert runner.invoke(app, ["report", str(machine), "-o", str(pdf), "--paper", paper]).exit_code == 0
    assert pdf.read_bytes().startswith(b"%PDF") and pdf.read_bytes().count(b"/Type /Page ") == len(files)


def test_what_cannot_be_written_is_said(machine: Path, tmp_path: Path) -> None:
    runner = CliRunner()
    for out, paper, words in (("r.doc", "a4", ".pdf, .svg, .txt or .json"), ("r.pdf", "a3", "a4, letter")):
        done = runner.invoke(app, ["report", str(machine), "-o", str(tmp_path / out), "--paper", paper])
        assert done.exit_code == 2 and words in done.stderr
    bare = tmp_path / "bare.toml"
    shutil.copyfile(machine, bare)
    done = runner.invoke(app, ["report", str(bare)])
    assert done.exit_code == 2 and "has no ledger yet" in done.stderr


def test_machines_are_listed_forgotten_and_found_again_when_they_were_moved(
    machine: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    here = tmp_path / "shop" / "first"
    here.mkdir(parents=True)
    for path in (machine, ledger_path(machine)):
        shutil.copy(path, here / path.name)
    ledger = Ledger(here / "tern-280.ledger", threaded=False)
    assert ledger.identity == identity_of(here / "tern-280.ledger") > 0
    places.remember(tmp_path / "gone.toml", None, now())
    places.remember(here / "tern-280.toml", "socket://there:1", now(), ledger.identity)
    ledger.close()
    tern, gone = known_machines()
    assert (tern.name, tern.proven > 0, tern.stale, tern.trouble) == ("Tern 280", True, 1, "")
    assert gone.trouble == "its file is not there any more"
    there = tmp_path / "shop" / "second"
    shutil.move(here, there)
    moved = known_machines()[0]
    assert moved.file == there / "tern-280.toml" and moved.moved_from == str(here / "tern-280.toml")
    assert known_machines()[0].moved_from == "", "it is noted where it is now"
    runner = CliRunner()
    listed = runner.invoke(app, ["machines", "--forget", str(tmp_path / "gone.toml"), "--json"])
    assert [one["name"] for one in json.loads(listed.stdout)["machines"]] == ["Tern 280"]
    assert "1 stale, next: " in runner.invoke(app, ["machines"]).stdout
    assert zlib.crc32(machine.read_bytes()) == zlib.crc32((there / "tern-280.toml").read_bytes()), "files stay"
