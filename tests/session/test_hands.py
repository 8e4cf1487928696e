"""The demonstration's hands: they press and look over their own socket; a world that went away shows nothing."""

from __future__ import annotations

import asyncio
from pathlib import Path

from tests.conftest import Rig, tern_scenario
from ublet.session.hands import DemoHands, Seen
from ublet.tui.trial.question import answer_keys
from ublet.world.hands import serve_world


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


def test_a_world_that_is_not_there_shows_nothing(tmp_path: Path) -> None:
    assert DemoHands(tmp_path / "none").look() == Seen()


def test_every_answer_has_a_key_of_its_own() -> None:
    assert answer_keys(("held", "out of reach")) == {"enter": "held", "o": "out of reach"}
    many = answer_keys(("right", "left", "back", "front", "up", "down", "diagonal", "nothing"))
    assert "enter" not in many and many["1"] == "right" and len(many) == 8
    assert set(answer_keys(("X a", "Z left", "Z right"))) == {"1", "2", "3"}
