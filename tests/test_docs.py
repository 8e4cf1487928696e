"""The docs say what is true: examples, tables, links, shipped data."""

from __future__ import annotations

import importlib.util
import re
from pathlib import Path

import pytest
from typer.testing import CliRunner

from ublet.cli import app
from ublet.cli.base import PANELS
from ublet.core.heat.pid import DERIVATIVE_FILTER_S, TICK_S
from ublet.core.machine.effective import board_settings
from ublet.firmware import guards
from ublet.firmware.board import KEPT_SAMPLES, RESTART_S
from ublet.firmware.events import KEPT_EVENTS
from ublet.firmware.programs import ROOM
from ublet.firmware.requests import SETTINGS_AT_ONCE
from ublet.firmware.service import REMEMBERED
from ublet.link.frames import LONGEST_LINE, Block, decode, encode_block
from ublet.session.document import Document
from ublet.session.library import DATA, DEMOS, boards
from ublet.world.scenario import load_scenario

TOP = Path(__file__).parents[1]


def page(name: str) -> str:
    return (TOP / name).read_text(encoding="utf-8")


def test_the_example_frame_of_the_protocol_is_a_good_one() -> None:
    (line,) = re.findall(r"^\{.*$", page("docs/protocol.md"), re.MULTILINE)
    assert decode(line.encode()) == {
        "jsonrpc": "2.0",
        "id": 7,
        "method": "fan.set",
        "params": {"fan": "part", "duty": 1},
    }


def test_the_example_block_of_the_protocol_is_a_good_one() -> None:
    (line,) = re.findall(r"^01 [0-9a-f ]+ 0a$", page("docs/protocol.md"), re.MULTILINE)
    assert bytes.fromhex(line) == encode_block(Block(9, 24, b"\x18A"))


def test_numbers_in_the_protocol_are_those_of_the_code() -> None:
    text = page("docs/protocol.md")
    assert f"{LONGEST_LINE:,} bytes" in text
    assert f"at most {SETTINGS_AT_ONCE} settings" in text and f"{RESTART_S:g} s" in text
    assert f"last {REMEMBERED}" in text and f"last {KEPT_SAMPLES:,}" in text
    assert f"last {KEPT_EVENTS}" in text and f"at least {ROOM} segments" in text
    assert all(f"| `{kind}`" in text for kind in ("to", "push", "rest_s", "warm", "touch", "lift"))
    assert f"every tick of {TICK_S:g} s" in text and f"{DERIVATIVE_FILTER_S:g} s + tick" in text
    assert f"above {guards.OPEN_RATIO:g} or below {guards.SHORT_RATIO:g}" in text
    assert f"below {guards.COLD_C:g} °C" in text and f"within {guards.REACHED_C:g} °C" in text


def test_every_method_of_the_board_is_written_down() -> None:
    source = page("src/ublet/firmware/requests.py").split("self.methods")[1].split("}")[0]
    methods = ["hello", *re.findall(r'^            "([a-z._]+)": self\._', source, re.MULTILINE)]
    assert len(methods) >= 11
    for method in methods:
        assert f"| `{method}` |" in page("docs/protocol.md"), method


def test_the_reference_pages_are_up_to_date() -> None:
    spec = importlib.util.spec_from_file_location("reference", TOP / "scripts" / "reference.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    for name, make in module.PAGES.items():
        assert page(f"docs/{name}") == make(), "run: make docs"


def test_every_scenario_key_is_documented() -> None:
    text = page("docs/scenario.md")
    declared = page("src/ublet/world/scenario.py") + page("src/ublet/world/bed_parts.py")
    for key in re.findall(r"^    (\w+): .*= setting\(", declared, re.MULTILINE):
        assert f"`{key}`" in text, key


def test_links_in_the_readme_lead_somewhere() -> None:
    for name in ("README.md", "docs/protocol.md", "docs/what-works.md", "docs/words.md"):
        for link in re.findall(r"\]\(([^)#]+)\)", page(name)):
            if not link.startswith("http"):
                assert ((TOP / name).parent / link).exists(), link


@pytest.mark.parametrize("stem", DEMOS.values())
def test_the_demo_machines_fit_their_scenarios_and_boards(stem: str) -> None:
    path = DATA / "scenarios" / f"{stem}.toml"
    scenario = load_scenario(path)
    machine = Document(path.parent / scenario.scenario.machine_file).machine
    assert scenario.scenario.board == machine.board.model in boards()
    assert machine.machine.name == scenario.scenario.name
    image = board_settings(machine)
    for name, heater in machine.heaters.items():
        assert heater.socket in scenario.heaters and f"heaters.{name}.kp" in image
    for sensor in machine.sensors.values():
        assert sensor.socket in scenario.sensors


def test_commands_in_the_readme_exist() -> None:
    known = {command.name or getattr(command.callback, "__name__", "") for command in app.registered_commands}
    known |= {group.name for group in app.registered_groups}
    block = page("README.md").split("## Commands")[1].split("```")[1]
    for name in re.findall(r"^ublet ([a-z]+)", block, re.MULTILINE):
        assert name in known, name


def test_every_command_stands_in_a_panel_of_the_help_with_one_short_line() -> None:
    shown = CliRunner().invoke(app, ["--help"]).output
    places = [shown.index(panel) for panel in PANELS]
    assert places == sorted(places)
    for command in app.registered_commands:
        name = command.name or str(command.callback.__name__)  # type: ignore[union-attr]
        assert command.rich_help_panel in PANELS, name
        assert command.short_help and len(command.short_help) <= 48, f"{name}: {command.short_help}"


def test_version_and_help_are_printed() -> None:
    shown = CliRunner().invoke(app, ["--version"])
    assert shown.exit_code == 0 and shown.output.startswith("ublet 0.")
    assert "simulated board" in CliRunner().invoke(app, ["--help"]).output
