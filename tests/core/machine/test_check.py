"""Checking a machine file: every error, each with its line and how to mend it."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import machine_text
from ublet.core.machine.check import CheckResult, check_text
from ublet.core.machine.lines import key_lines
from ublet.session.library import boards


def check(text: str) -> CheckResult:
    return check_text(text, boards())


def line_with(text: str, words: str) -> int:
    return next(n for n, line in enumerate(text.split("\n"), start=1) if words in line)


def test_the_shipped_files_are_good() -> None:
    assert check(machine_text()).problems == ()


@pytest.mark.parametrize(
    ("before", "after", "key", "words"),
    [
        ("pullup_ohm = 4700", "pull_ohm = 4700", "sensors.hotend.pull_ohm", "Did you mean “pullup_ohm”?"),
        ("maximum_c = 285", "maximum_c = 900", "heaters.hotend.maximum_c", "40 to 500 °C"),
        ("maximum_c = 285", 'maximum_c = "hot"', "heaters.hotend.maximum_c", "40 to 500 °C"),
        ("maximum_c = 285", "maximum_c = nan", "heaters.hotend.maximum_c", "40 to 500 °C"),
        ('socket = "H2"', 'socket = "H1"', "heaters.bed.socket", "uses too"),
        ('socket = "H2"', 'socket = "F4"', "heaters.bed.socket", "heater sockets of larch-6"),
        ('sensor = "bed"', 'sensor = "bad"', "heaters.bed.sensor", "a declared sensor (hotend, bed, plate)"),
        ('model = "larch-6"', 'model = "larch-7"', "board.model", "Did you mean “larch-6”?"),
        ("nozzle_c = 240", "nozzle_c = 300", "materials.petg.nozzle_c", "at most the heater's maximum"),
        ('part = "bed"', 'part = "door"', "heaters.bed.part", "one of hotend, bed, chamber"),
    ],
)
def test_one_fault_gives_one_problem_at_its_line(before: str, after: str, key: str, words: str) -> None:
    text = machine_text().replace(before, after, 1)
    problems = check(text).problems
    assert [problem.key for problem in problems] == [key]
    problem = problems[0]
    expected = [n for n, line in enumerate(text.split("\n"), start=1) if line.startswith(after.split("#")[0])]
    assert problem.line in expected
    sentence = problem.sentence("tern.toml")
    assert sentence.startswith(f"tern.toml:{problem.line}: {key}: found ")
    assert words in sentence


def test_all_errors_come_at_once() -> None:
    text = machine_text().replace("kd = 0.0", "kdd = 0.0", 1).replace("maximum_c = 120\nkp", "maximum_c = 1\nkp")
    keys = [problem.key for problem in check(text).errors]
    assert keys == ["heaters.hotend.kdd", "heaters.bed.maximum_c"]


def test_a_missing_part_is_named_with_its_help() -> None:
    text = machine_text().replace('socket = "T1"\n', "", 1)
    (problem,) = check(text).errors
    assert problem.key == "sensors.hotend.socket"
    assert problem.line == line_with(text, "[sensors.hotend]")
    assert "Add socket" in problem.mend


def test_two_roles_on_one_socket_name_both_places() -> None:
    text = machine_text().replace('socket = "F2"', 'socket = "F1"')
    (problem,) = check(text).errors
    assert f"fans.part.socket (line {line_with(text, 'F1')})" in problem.found


def test_text_that_is_no_toml_names_the_line() -> None:
    text = machine_text().replace('name = "Tern 280"', 'name = "Tern 280')
    (problem,) = check(text).errors
    assert problem.line in (line_with(text, 'name = "Tern 280'), line_with(text, 'name = "Tern 280') + 1)
    assert "quotes" in problem.mend


def test_lines_of_keys_in_dotted_inline_and_long_values() -> None:
    text = 'a.b = 1\n[t."x y"]\nlong = """\nk = 3\n"""\nlist = [\n 1,\n]\nend = {q = 1}\n[[many]]\nz = 1\n'
    lines = key_lines(text)
    assert lines[("a", "b")] == 1
    assert lines[("t", "x y", "long")] == 3
    assert lines[("t", "x y", "list")] == 6
    assert lines[("t", "x y", "end")] == 9
    assert ("t", "x y", "k") not in lines


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_no_mutation_of_a_file_makes_a_traceback(data: st.DataObject) -> None:
    text = machine_text()
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(text) - 1))
        cut = data.draw(st.integers(0, 30))
        text = text[:at] + data.draw(st.text(max_size=8)) + text[at + cut :]
    checked = check(text)
    assert checked.machine is not None or checked.errors
    for problem in checked.problems:
        assert 1 <= problem.line <= text.count("\n") + 1
        assert problem.sentence("f").strip()
