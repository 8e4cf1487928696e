"""What the program that makes prints must know: values of the machine, marked by what is proven, as text and JSON."""

from __future__ import annotations

import json
from pathlib import Path

from tests.commands import ublet
from tests.conftest import Rig, virtually
from tests.session.test_wire_trials import RIGHT
from ublet.session.document import Document
from ublet.session.library import machine_path
from ublet.session.print_settings import print_settings, settings_text
from ublet.world.scenario import parse_scenario


def test_values_are_the_machines_and_nothing_is_proven_without_a_ledger() -> None:
    document = Document(machine_path("wren-180"))
    rows = {(row.group, row.words): row for row in print_settings(document, None)}
    machine = document.machine
    assert machine.extruder is not None
    assert rows["nozzle and filament", "nozzle"].value == machine.extruder.nozzle_mm
    assert rows["limits", "X speed"].value == machine.axes.x.maximum_feed_mm_s
    assert rows["bed", "height (Z)"].value == machine.axes.z.maximum_mm
    for name, material in machine.materials.items():
        assert rows[f"material {name}", "nozzle"].value == material.nozzle_c
        assert rows[f"material {name}", "pressure advance"].value == "not measured"
    assert rows["retraction", "pressure advance"].station == "advance"
    assert rows["limits", "X speed"].proven is False and rows["nozzle and filament", "nozzle"].proven is None


def test_the_text_marks_what_is_open_and_ends_with_start_and_end(tmp_path: Path) -> None:
    async def work() -> str:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            return settings_text(rig.session.document, rig.session)

    text = virtually(work)
    assert "○ width (X)" in text and "not proven yet: station travel limits" in text
    assert text.index("\nprint-start\n") < text.index("\nprint-end\n")


def test_the_command_gives_json_and_a_file(tmp_path: Path) -> None:
    file = str(machine_path("tern-280"))
    done = ublet("export", "print-settings", file, "--json")
    report = json.loads(done.stdout)
    assert done.returncode == 0 and report["machine"] == Document(Path(file)).machine.machine.name
    assert {row["proven"] for row in report["settings"]} <= {True, False, None} and report["start"] and report["end"]
    out = tmp_path / "settings.txt"
    assert ublet("export", "print-settings", file, "-o", str(out)).returncode == 0
    assert out.read_text(encoding="utf-8").startswith("What the program that makes prints must know")
    wrong = ublet("export", "print-settings", str(tmp_path / "none.toml"))
    assert wrong.returncode == 2 and "none.toml" in wrong.stderr
