"""Commands on machine files and boards: compare, import, images, boards of your own, writing to a board."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.commands import ublet
from tests.conftest import machine_text
from tests.test_processes import Board
from ublet.core.machine.edit import edited
from ublet.session.document import Document
from ublet.session.library import DATA, machine_path


@pytest.fixture
def file(tmp_path: Path) -> Path:
    path = tmp_path / "m.toml"
    path.write_text(machine_text(), encoding="utf-8")
    return path


def test_diff_names_every_setting_that_differs(file: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.toml"
    other.write_text(edited(machine_text(), {"axes.z.screw_lead_mm": 8, "modules.arcs": True}), encoding="utf-8")
    done = ublet("diff", str(file), str(other), "--json")
    found = {d["path"]: (d["before"], d["after"]) for d in json.loads(done.stdout)["differences"]}
    assert done.returncode == 1
    assert found == {
        "axes.z.screw_lead_mm": (4, 8),
        "axes.z.steps_per_mm": (800, 400),
        "modules.arcs": (None, True),
    }
    assert ublet("diff", str(file), str(file)).stdout == "no difference\n"


def test_import_takes_a_part_over(file: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.toml"
    other.write_text(edited(machine_text(), {"probe.offset_x_mm": 24.5}), encoding="utf-8")
    done = ublet("import", "probe", str(file), "--from", str(other))
    assert done.returncode == 0 and "probe.offset_x_mm: -38.0 → 24.5" in done.stdout.replace("-38 ", "-38.0 ")
    assert "offset_x_mm = 24.5" in file.read_text(encoding="utf-8")
    assert (tmp_path / "m.toml.previous").read_text(encoding="utf-8") == machine_text()
    missing = ublet("import", "heaters.chamber", str(file), "--from", str(other))
    assert missing.returncode == 2 and "has no part heaters.chamber" in missing.stderr
    bare = ublet("import", "board", str(file), "--from", str(machine_path("wren-180")))
    assert bare.returncode == 2 and "Not written: mend" in bare.stderr


def test_image_tells_what_it_takes_and_what_would_free_enough(file: Path, tmp_path: Path) -> None:
    out = tmp_path / "image.cbor"
    report = json.loads(ublet("image", str(file), "-o", str(out), "--json").stdout)
    assert report["bytes"] == len(out.read_bytes()) and report["overflow_bytes"] == 0
    wanted = {f"modules.{name}": True for name in ("picture", "language", "shaping", "advance", "arcs", "resume")}
    text = edited(machine_text(), wanted).replace('language = "en"', 'language = "de"')
    file.write_text(text, encoding="utf-8")
    checked = ublet("check", str(file))
    assert checked.returncode == 1 and "it overflows by" in checked.stdout and "Leave out" in checked.stdout


def test_a_start_up_picture_is_in_the_image_and_a_bad_one_is_told(file: Path, tmp_path: Path) -> None:
    before = json.loads(ublet("image", str(file), "--json").stdout)
    file.write_text(edited(machine_text(), {"display.picture": "bird.pbm"}), encoding="utf-8")
    assert "bird.pbm cannot be read" in ublet("image", str(file)).stderr
    (tmp_path / "bird.pbm").write_bytes(b"P1\n# a bird\n8 2\n1 0 1 0 1 0 1 0\n11110000\n")
    after = json.loads(ublet("image", str(file), "--json").stdout)
    picture = next(module["bytes"] for module in after["modules"] if module["name"] == "picture")
    assert after["digest"] != before["digest"] and 0 <= after["bytes"] - before["bytes"] - picture - 4 < 16
    (tmp_path / "bird.pbm").write_bytes(b"P4\n200 10\n" + bytes(250))
    assert "allowed: up to 128 x 64" in ublet("image", str(file)).stderr
    (tmp_path / "bird.pbm").write_bytes(b"P4\n64 64\n\0\0")
    assert "ends before its last row" in ublet("image", str(file)).stderr


def test_a_board_of_your_own_beside_the_machine_file(file: Path, tmp_path: Path) -> None:
    text = (DATA / "boards" / "larch-6.toml").read_text(encoding="utf-8")
    (tmp_path / "boards").mkdir()
    own = tmp_path / "boards" / "hazel.toml"
    own.write_text(text.replace('name = "larch-6"', 'name = "hazel-6"'), encoding="utf-8")
    file.write_text(edited(machine_text(), {"board.model": "hazel-6"}), encoding="utf-8")
    assert ublet("check", str(file)).returncode == 0
    own.write_text(text.replace('kind = "servo"', 'kind = "servos"'), encoding="utf-8")
    done = ublet("check", str(file))
    assert done.returncode == 1 and "hazel.toml:" in done.stdout and "sockets.P1.kind" in done.stdout
    assert len(json.loads(ublet("boards", "--json").stdout)["boards"]) == 3
    file.write_text(machine_text(), encoding="utf-8")
    assert ublet("check", str(file)).returncode == 0, "a machine of another board is not stopped by it"


@pytest.fixture
def port(tmp_path: Path) -> Iterator[str]:
    board = Board(tmp_path / "store.json", f"pty:{tmp_path / 'board.port'}", "20")
    yield board.port
    board.process.kill()
    board.process.wait()


@pytest.mark.waits
def test_write_from_the_command_line(file: Path, port: str, tmp_path: Path) -> None:
    dry = json.loads(ublet("write", str(file), "--port", port, "--dry-run", "--json").stdout)
    assert not dry["written"] and len(dry["changes"]) == 4 and len(dry["shadowed"]) == 3
    done = ublet("write", str(file), "--port", port, "--json")
    report = json.loads(done.stdout)
    assert report["written"] and done.returncode == 1, "three values are shadowed still"
    done = ublet("write", str(file), "--port", port, "--settle", "file", "--json")
    report = json.loads(done.stdout)
    assert done.returncode == 0 and report["settled"] == 3 and report["shadowed"] == [] and not report["written"]
    assert Path(report["backup"]).exists()
    assert ublet("write", str(file), "--port", port, "--settle", "no").returncode == 2
    assert ublet("write", str(file), "--port", str(tmp_path / "nothing")).returncode == 3


def test_a_figure_of_the_wiring(file: Path, tmp_path: Path) -> None:
    out = tmp_path / "w.svg"
    assert ublet("figure", "wiring", str(file), "-o", str(out)).returncode == 0
    drawn = out.read_text(encoding="utf-8")
    assert drawn.startswith("<?xml") and drawn.count("<g id=") > 50
    assert ublet("figure", "wiring", str(file), "-o", str(tmp_path / "w.png")).returncode == 2


def test_a_mount_is_listed_and_taken_over_by_its_name(file: Path, tmp_path: Path) -> None:
    own = tmp_path / "mounts"
    own.mkdir()
    (own / "mine.toml").write_text('[probe.part]\nname = "own"\noffset_x_mm = 1\noffset_y_mm = 2\n', encoding="utf-8")
    (own / "broken.toml").write_text("[probe", encoding="utf-8")
    listed = ublet("mounts", str(file)).stdout
    assert "rear-arm-long" in listed and "mine" in listed and "broken" not in listed
    assert ublet("import", "probe.part", str(file), "--from", "mine").returncode == 0
    part = Document(file).machine.probe
    assert part is not None and part.part is not None and part.part.name == "own" and part.part.offset_y_mm == 2
    assert "\n\n[lifts]" in file.read_text(encoding="utf-8"), "what follows stays apart"
