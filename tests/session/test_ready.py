"""A demonstration that is ready: what levelling and shaking stand on is proven, and nothing waits to be saved."""

from __future__ import annotations

from pathlib import Path

from ublet.session.demo import prepare
from ublet.session.ready import make_ready
from ublet.session.session import beside_ledger
from ublet.session.standings import standings

STATIONS = (
    "inputs by hand",
    "heaters paired",
    "fans",
    "motors",
    "directions",
    "homing",
    "travel limits",
    "sensors at rest",
    "hotend control",
    "bed control",
)


def test_it_is_proven_up_to_the_legs_that_one_wants_to_see(tmp_path: Path) -> None:
    machine, scenario = prepare("tern-ready", tmp_path)
    said: list[str] = []
    make_ready(machine, scenario, tmp_path / "board-store.json", said.append)
    with beside_ledger(machine) as session:
        states = {name: (station.state, station.reason) for name, station in standings(session).items()}
    assert {name: states[name][0] for name in STATIONS} == dict.fromkeys(STATIONS, "proven"), states
    assert said[0] == "writing the image" and len(said) == 13
    said.clear()
    make_ready(machine, scenario, tmp_path / "board-store.json", said.append)
    assert not said, "what is ready is not walked again"
