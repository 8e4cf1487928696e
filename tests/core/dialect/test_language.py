"""Dialect files: every error at once with its line, contradictions named, and nothing that crashes."""

from __future__ import annotations

import random

import pytest

from ublet.core.dialect.language import Language, check_dialect
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.session.library import DATA

SHIPPED = sorted((DATA / "dialects").glob("*.toml"))


def text_of(name: str) -> str:
    return (DATA / "dialects" / f"{name}.toml").read_text(encoding="utf-8")


def language(name: str) -> Language:
    made, problems = check_dialect(text_of(name))
    assert made is not None, [problem.sentence(name) for problem in problems]
    return made


@pytest.mark.parametrize("path", SHIPPED, ids=lambda path: path.stem)
def test_the_shipped_ones_are_good_and_heat_move_and_probe(path: object) -> None:
    name = path.stem  # type: ignore[attr-defined]
    poor = {"heat", "motion", "programs", "filament", "probe", "mesh", "shaping"}
    assert language(name).can() == poor | ({"lines", "touch", "advance"} if name == "slate" else set())
    assert set(language(name).missing()) == ({"lines", "touch", "advance"} if name == "moss" else set())


def test_all_errors_come_at_once_with_their_lines_and_ways_out() -> None:
    text = text_of("moss").replace('fan.send = "blow {fan} at {duty:.3f}"', 'fan.send = "blow {fan} {speed}"')
    text = text.replace('line = "{sensor} is {celsius|unplugged}"', 'line = "is {sensor}{celsius}"')
    text = text.replace('done = "done"', 'done = "done"\nfinished = "x"')
    text = text.replace("[halt]\nbyte = 24", "[halt]\nbyte = 99")
    _, problems = check_dialect(text)
    assert [problem.key for problem in problems] == ["line.finished", "halt.byte"], "first the shape"
    _, problems = check_dialect(text.replace('\nfinished = "x"', "").replace("byte = 99", "byte = 24"))
    sentences = {problem.key: problem.sentence("f.toml") for problem in problems}
    assert set(sentences) == {"requests.fan.send", "readings.warmth.line"}
    lines = text.replace('\nfinished = "x"', "").split("\n")
    for key, words in (("requests.fan.send", "no field “speed”"), ("readings.warmth.line", "ambiguous")):
        number = int(sentences[key].split(":")[1])
        assert words in sentences[key] and ("blow" in lines[number - 1] or "is {sensor}{" in lines[number - 1])


def test_a_key_that_is_missing_says_where_it_goes() -> None:
    _, problems = check_dialect(text_of("moss").replace('name = "moss"\n', "").replace('done = "done"\n', ""))
    mends = {problem.key: problem.mend for problem in problems}
    assert mends["name"].startswith("Add name = … above the first table.")
    assert mends["line.done"].startswith("Add done = … to [line].")


@pytest.mark.parametrize(
    ("before", "after", "key", "words"),
    [
        ('cool.send = "cool {heater}"', 'cool.send = "hold {heater} at {celsius}"', "requests.cool.send", "no field"),
        ('let-go.send = "let go"', 'let-go.send = "stand still"', "requests.let-go.send", "ambiguous"),
        ('stop.send = "stand still"\n', "", "requests.turn", "turn without stop"),
        ('off.send = "all cold"\n', "", "requests.hold", "hold without off"),
        ('home.send = "find the end of {axis}"', 'home.send = "find it"', "requests.home.send", "a line with {axis}"),
        ('error = "sorry, {why}"', 'error = "{why}"', "line.error", "stands for itself"),
        ('done = "done"', 'done = "moving: yes"', "readings.motion.line", "may be line.done"),
        ("[halt]\nbyte = 24", "[halt]", "halt.byte", "neither a byte nor a line"),
        ('path = "{path}"', 'path = "heaters.{heater}.colour"', "settings.any.path", "a path that no board holds"),
        ('path = "{path}"', 'path = "mesh.heights_mm"', "settings.any.reply", "an array"),
        ("[requests]", '[requests]\nfly.send = "fly"', "requests.fly", "the request “fly”"),
        ('line = "moving: {moving}"', 'line = "moving: {moving} {celsius}"', "readings.motion.line", "readings of"),
    ],
)
def test_what_contradicts_itself_is_named(before: str, after: str, key: str, words: str) -> None:
    text = text_of("moss")
    assert before in text
    made, problems = check_dialect(text.replace(before, after))
    named = [problem.sentence("moss.toml") for problem in problems if problem.key == key]
    assert made is None and named and words in named[0], [problem.sentence("m") for problem in problems]


def test_a_request_left_out_is_a_capability_less() -> None:
    made, _ = check_dialect(text_of("moss").replace('pin-up.send = "pin up"\n', ""))
    assert made is not None and "probe" not in made.can() and made.missing()["probe"] == ["pin-up"]


def test_settings_are_spoken_of_by_family_in_other_units() -> None:
    slate = language("slate")
    rule, fields = slate.setting_for("axes.x.motors.a.microsteps") or pytest.fail("slate knows no microsteps")
    assert rule.change is not None and rule.change.write({**fields, "value": rule.to_wire(16)}) == "!micro X a 4"
    kp, fields = slate.setting_for("heaters.bed.kp") or pytest.fail("slate knows no gains")
    assert kp.ask.write(fields) == "?kp bed" and kp.answer.read("kp bed 54.32") == {"heater": "bed", "value": 0.05432}
    way, fields = slate.setting_for("axes.x.motors.a.reversed") or pytest.fail("slate knows no directions")
    assert way.to_wire(True) is False and way.from_wire(None, False) is True
    heights, fields = slate.setting_for("mesh.heights_mm") or pytest.fail("slate knows no meshes")
    assert heights.in_rows and not kp.in_rows and slate.setting_for("nothing.at.all") is None
    assert heights.to_rows(((0.1, -0.25), (0.0, 1e-4))) == ["0.1,-0.25", "0,0.0001"] and heights.to_rows(()) == []
    declared = BOARD_SETTINGS.find("mesh.heights_mm")
    assert heights.from_rows(declared, ["0.1,-0.25", "0,0.0001"]) == ((0.1, -0.25), (0.0, 1e-4))
    assert heights.from_rows(declared, []) == () and heights.from_rows(declared, ["1,2", "3"]) is None
    assert heights.from_rows(declared, ["1,x"]) is None


def test_readings_that_a_list_holds() -> None:
    warmth = language("slate").readings["warmth"]
    records = [{"sensor": "bed", "celsius": 60.5}, {"sensor": "hotend", "celsius": None}]
    assert warmth.write(records) == ["t bed=60.5 hotend=x"]
    assert warmth.read("t bed=60.5 hotend=x") == records
    assert warmth.read("t bed=60.5 hotend=") == [], "one that is spoilt makes the line another one"


def test_any_text_is_a_language_or_has_problems() -> None:
    chance = random.Random(5)
    for path in SHIPPED:
        text = path.read_text(encoding="utf-8")
        for _ in range(60):
            at, end = sorted((chance.randrange(len(text)), chance.randrange(len(text))))
            piece = chance.choice(["", "{", "}", '"', "\n", "{x}", text[at : at + 20]])
            made, problems = check_dialect(text[:at] + piece + text[max(at, min(end, at + 30)) :])
            assert (made is None) == bool(problems)
            assert all(problem.line >= 1 and problem.mend for problem in problems)
