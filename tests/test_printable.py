"""No text from outside steers a terminal: every command, and what the app draws."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.segment import Segment
from textual.color import Color

from tests.commands import ublet
from tests.conftest import machine_text
from ublet.core.printable import is_printable, printable, printable_json, without_unprintable
from ublet.link.errors import Malformed
from ublet.link.replies import Hello, reply_as
from ublet.session.library import scenario_path
from ublet.tui.frame.printable_lines import PRINTABLE

EVIL = "\x1b[2J\x9b31m\x1b]0;title\x07\u202egnp.\u2066"
STEERS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
TOML = "".join(f"\\u{ord(c):04x}" for c in EVIL)


@given(st.text())
def test_what_is_printable_stays_and_nothing_else_is_left(text: str) -> None:
    shown = printable(text)
    assert is_printable(shown) and STEERS.search(shown) is None
    assert (shown == text) == is_printable(text)
    assert is_printable(without_unprintable(text))
    assert json.loads(printable_json(json.dumps([text], ensure_ascii=False))) == [text]


@given(st.text(alphabet="°±→✓äé 漢字\t\nabc"))
def test_plain_text_of_several_lines_is_left_alone(text: str) -> None:
    assert printable(text, lines=True) == text


def evil_machine(folder: Path) -> Path:
    text = (
        machine_text().replace('name = "Tern 280"', f'name = "Tern{TOML}"').replace("note = ", f'note = "{TOML}" #', 1)
    )
    file = folder / "m.toml"
    file.write_text(text.replace("[surfaces.smooth]", f'[surfaces."sheet{TOML}"]'), encoding="utf-8")
    return file


def test_no_command_lets_a_file_or_an_argument_steer_the_terminal(tmp_path: Path) -> None:
    file, table = evil_machine(tmp_path), tmp_path / "t.csv"
    table.write_text(f"time_s,{EVIL},duty\n0,{EVIL},1\n", encoding="utf-8")
    mesh = tmp_path / "mesh.csv"
    mesh.write_text(f"x_mm,y_mm,z_mm,{EVIL}\n0,0,{EVIL},1\n", encoding="utf-8")
    (tmp_path / "mounts").mkdir()
    (tmp_path / "mounts" / "a.toml").write_text(f'name = "{TOML}"\nsensor = 3\n', encoding="utf-8")
    (tmp_path / "boards").mkdir()
    (tmp_path / "boards" / "b.toml").write_text(f'name = "{TOML}"\n', encoding="utf-8")
    scenario = tmp_path / "s.toml"
    truth = scenario_path("tern-280").read_text(encoding="utf-8")
    scenario.write_text(
        truth.replace("[motors.M1]", f'[motors."M{TOML}"]').replace("[plants", f'["{TOML}"]\n[plants', 1)
    )
    commands = [
        ("check", str(file)),
        ("check", str(file), "--json"),
        ("check", str(tmp_path / EVIL)),
        ("ledger", str(file)),
        ("fact", str(file), EVIL, EVIL),
        ("fact", str(file)),
        ("run", EVIL, "--scenario", "tern"),
        ("run", "homing", "--scenario", str(scenario)),
        ("run", "homing", "--scenario", "tern", "--set", f"{EVIL}=1"),
        ("analyse", "heat", str(table)),
        ("analyse", EVIL, str(table)),
        ("analyse", "mesh", str(mesh)),
        ("mounts", str(file)),
        ("boards",),
        ("image", str(file)),
        ("pattern", "cube", "--machine", str(file)),
        (EVIL,),
        ("check", f"--{EVIL}"),
    ]
    for words in commands:
        ran = ublet(*words, home=tmp_path)
        steers = STEERS.search(ran.stdout + ran.stderr)
        assert steers is None, (words, steers, (ran.stdout + ran.stderr)[:300])


def test_what_the_app_draws_goes_through_one_gate() -> None:
    line = [Segment("good ✓ "), Segment(f"a{EVIL}b"), Segment("")]
    drawn = "".join(segment.text for segment in PRINTABLE.apply(line, Color(0, 0, 0)))
    assert STEERS.search(drawn) is None and drawn.startswith("good ✓ a[2J") and drawn.endswith("b")
    plain = [Segment("nothing to do")]
    assert PRINTABLE.apply(plain, Color(0, 0, 0)) is plain


@pytest.mark.parametrize("key", ["board", "firmware", "channels"])
def test_a_board_whose_name_would_steer_the_terminal_is_refused(key: str) -> None:
    hello = {
        "board": "larch-6",
        "boot": 1,
        "firmware": "1",
        "clock": 1.0,
        "channels": ["sensors.a"],
        "sample_period_s": 0.1,
        "heartbeat_window_s": 4.0,
    }
    assert reply_as(Hello, hello, "hello").board == "larch-6"
    with pytest.raises(Malformed, match=key):
        reply_as(Hello, {**hello, key: [EVIL] if key == "channels" else EVIL}, "hello")
