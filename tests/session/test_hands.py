"""The demonstration's hands: they press and look over their own socket; a world that went away shows nothing."""

from __future__ import annotations

import asyncio
from dataclasses import fields
from pathlib import Path
from typing import get_args, get_type_hints

import pytest

from tests.conftest import Rig, tern_scenario
from ublet.core.acts import Act, CleanSheet, Seen, TurnScrew
from ublet.core.acts_json import decoded, encoded, is_act, seen_as_json, seen_of
from ublet.core.observations import (
    BandArea,
    LineArea,
    LookAround,
    LookAtPiece,
    Observation,
    PatchArea,
    PostArea,
    WidthPlace,
    noticed,
)
from ublet.session.hands import DemoHands
from ublet.tui.trial.question import answer_keys
from ublet.world.hands import answered, serve_world


def test_a_switch_is_pressed_and_seen_and_the_link_knows_nothing_of_it(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario(), state_s=0.1) as rig:
            path = tmp_path / "w"
            server = await serve_world(rig.hands, path)
            hands = DemoHands(path)
            seen = await asyncio.to_thread(hands.look)
            assert seen.switches == ("x", "y", "probe") and seen.pressed == () and seen.moved == "nothing"
            seen = await asyncio.to_thread(hands.press, "x", True)
            assert seen.pressed == ("x",)
            await asyncio.sleep(0.5)
            assert rig.session.connection.channel("inputs.endstops.y") == 1.0, "its plug is on the other's socket"
            seen = await asyncio.to_thread(hands.press, "nobody", True)
            assert seen.pressed == ("x",)
            seen = await asyncio.to_thread(hands.press, "probe", True)
            assert "probe" not in seen.pressed, "the pin is up"
            hands.close()
            server.close()

    asyncio.run(work())


@pytest.mark.parametrize("kind", [*get_args(Act), *get_args(Observation)], ids=lambda kind: kind.__name__)
def test_every_act_and_observation_goes_over_the_socket_and_is_answered(kind: type, tmp_path: Path) -> None:
    """The same object arrives; the world knows what to do with it, and the screen what is noticed of it."""

    usual = {"float": 1.5, "str": "x", "tuple[str, ...]": ("x", "y"), "int": 4, "Instrument": "rule"}
    usual |= {
        "tuple[float, ...]": (120.0,),
        "FaultKind": "sensor-out",
        "tuple[PatchArea, ...]": (PatchArea("a", 9.0, 9.0, 5.0, 5.0),),
        "tuple[LineArea, ...]": (LineArea("a", 9.0, (5.0, 30.0, 70.0, 95.0)),),
        "tuple[float, float]": (10.0, 40.0),
        "tuple[BandArea, ...]": (BandArea("a", 1.5, 3.0),),
        "WidthPlace": WidthPlace(2, 5.0, 1.0),
        "LineArea": LineArea("a", 9.0, (5.0, 30.0, 70.0, 95.0)),
        "tuple[PostArea, ...]": (PostArea("a", 9.0, 10.0, 50.0, 6.0),),
    }
    values = {
        each.name: usual.get(str(each.type)) or get_args(get_type_hints(kind)[each.name])[0] for each in fields(kind)
    }
    cue = kind(**values)

    async def work() -> None:
        async with Rig(tmp_path, tern_scenario(), state_s=0.1) as rig:
            seen = seen_of(answered(rig.hands, encoded(cue)))
            assert seen.switches == ("x", "y", "probe") and isinstance(noticed(cue, seen), str)
            assert seen_of(seen_as_json(seen)) == seen

    asyncio.run(work())


@pytest.mark.parametrize("line", [b"", b"nonsense {}", b"TurnScrew {}", b'TurnScrew {"screw": 1}', b"LookAround"])
def test_a_line_that_is_no_act_is_refused(line: bytes) -> None:
    with pytest.raises(ValueError):
        decoded(line)


def test_acts_are_told_from_observations() -> None:
    assert is_act(CleanSheet()) and is_act(TurnScrew("left", -0.5)) and not is_act(LookAround())


def test_a_world_that_is_not_there_shows_nothing(tmp_path: Path) -> None:
    assert DemoHands(tmp_path / "none").look() == Seen()
    assert "does not answer" in noticed(LookAtPiece(30.0, 0.45, 0.25), Seen()), "not: there is no piece"


def test_every_answer_has_a_key_of_its_own() -> None:
    assert answer_keys(("held", "out of reach")) == {"enter": "held", "o": "out of reach"}
    many = answer_keys(("right", "left", "back", "front", "up", "down", "diagonal", "nothing"))
    assert "enter" not in many and many["1"] == "right" and len(many) == 8
    assert set(answer_keys(("X a", "Z left", "Z right"))) == {"1", "2", "3"}
