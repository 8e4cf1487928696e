"""What a hand at a switch tells: each state of wiring gives one verdict, and the mend that belongs to it."""

from __future__ import annotations

import pytest

from ublet.core.bench import InputState
from ublet.core.motion.inputs import InputVerdict, Pressed, input_words, judge, mends

X, Y = "endstops.x", "endstops.y"


def states(x: bool, y: bool, edges: int = 0) -> dict[str, InputState]:
    return {X: InputState(x, edges), Y: InputState(y, 0)}


@pytest.mark.parametrize(
    ("idle", "held", "kind", "other"),
    [
        ((False, False), (True, False), "good", ""),
        ((True, False), (False, False), "inverted", ""),
        ((True, False), (True, False), "broken", ""),
        ((False, False), (False, False), "dead", ""),
        ((False, False), (False, True), "elsewhere", Y),
        ((True, False), (True, True), "elsewhere", Y),
    ],
)
def test_every_combination_has_its_verdict(
    idle: tuple[bool, bool], held: tuple[bool, bool], kind: str, other: str
) -> None:
    verdict = judge(X, Pressed(states(*idle), states(*held, edges=1), states(*idle, edges=2)))
    assert (verdict.kind, verdict.other, verdict.edges) == (kind, other, 2)
    assert verdict.good is (kind == "good") and "X endstop" in verdict.words


def test_bounces_are_told_and_an_unpressed_switch_is_not_good() -> None:
    bouncing = judge(X, Pressed(states(False, False), states(True, False), states(False, False, edges=8)))
    assert bouncing.good and "8 edges: it bounces" in bouncing.words
    assert judge(X, None).kind == "unchecked" and input_words("probe") == "probe"


def test_mends_turn_a_polarity_and_exchange_sockets_once() -> None:
    settings = {f"{X}.socket": "I1", f"{Y}.socket": "I2", f"{X}.normally_closed": True, "probe.normally_closed": False}
    crossed = {X: InputVerdict(X, "elsewhere", "", 0, Y), Y: InputVerdict(Y, "elsewhere", "", 0, X)}
    inverted = {"probe": InputVerdict("probe", "inverted", "")}
    found = {p.setting: (p.before, p.after) for p in mends({**crossed, **inverted}, settings)}
    assert found == {
        f"{X}.socket": ("I1", "I2"),
        f"{Y}.socket": ("I2", "I1"),
        "probe.normally_closed": (False, True),
    }
    assert mends({X: InputVerdict(X, "elsewhere", "", 0, Y), Y: InputVerdict(Y, "dead", "")}, settings) == ()
    assert mends({X: InputVerdict(X, "broken", "")}, settings) == ()


def test_three_plugs_that_go_round_are_mended_with_their_polarity() -> None:
    z = "probe"
    moved = {
        X: InputVerdict(X, "elsewhere", "", 0, Y, other_idle=True),
        Y: InputVerdict(Y, "elsewhere", "", 0, z, other_idle=False),
        z: InputVerdict(z, "elsewhere", "", 0, X, other_idle=False),
    }
    settings = {f"{X}.socket": "I1", f"{Y}.socket": "I2", f"{z}.socket": "I3"}
    settings |= {f"{X}.normally_closed": True, f"{Y}.normally_closed": True, f"{z}.normally_closed": False}  # type: ignore[dict-item]
    found = {p.setting: p.after for p in mends(moved, settings)}
    assert found == {
        f"{X}.socket": "I2",
        f"{Y}.socket": "I3",
        f"{z}.socket": "I1",
        f"{X}.normally_closed": False,  # read triggered at rest by an input that is declared normally closed
        f"{Y}.normally_closed": False,
        f"{z}.normally_closed": True,
    }
