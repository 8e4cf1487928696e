"""Screws that are turned while a first layer prints: told by their letter, counted in the verdict."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.session.test_wire_trials import run
from ublet.core.acts import TurnScrew
from ublet.core.level.support.tramming import Tramming, screw_controls
from ublet.core.machine.check import check_text
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Live
from ublet.core.units import NotAQuantity
from ublet.session.library import boards, machine_path, scenario_path
from ublet.tui.trial.question import keys_of
from ublet.world.bed import TrueBed
from ublet.world.bed_parts import BedTruth

WREN = scenario_path("wren-180").read_text(encoding="utf-8")
SCREWS = ("left-front", "right-front", "left-back", "right-back")


@pytest.fixture(scope="module")
def machine() -> MachineFile:
    checked = check_text(machine_path("wren-180").read_text(encoding="utf-8"), boards()).machine
    assert checked is not None
    return checked


def test_every_screw_has_a_letter_and_its_capital_turns_it_back(machine: MachineFile) -> None:
    controls = screw_controls(machine.bed.screws)
    asked = Live("", ("stop",), controls={"nearer 0.05": "-", **{word: c.does for word, c in controls.items()}})
    keys = keys_of(asked)
    assert keys["1"] == "nearer 0.05" and keys["2"] == "stop"
    assert keys["a"] == "a left-front clockwise" and keys["A"] == "A left-front back"
    assert asked.taken("b") == "b right-front clockwise" and asked.taken("B") == "B right-front back"
    with pytest.raises(NotAQuantity):
        asked.taken("z")
    assert controls["a left-front clockwise"].act == TurnScrew("left-front", 0.125)
    assert controls["a left-front clockwise"].does == "1/8, lowers 0.09 mm"
    assert screw_controls({}) == {}


@pytest.mark.parametrize("seed", range(6))
def test_what_a_turn_does_elsewhere_is_what_the_bed_does(machine: MachineFile, seed: int) -> None:
    random = np.random.default_rng(seed)
    bed = TrueBed(BedTruth(neighbours=0.0), machine, (), random)
    tramming = Tramming(dict(machine.bed.screws))
    controls = list(screw_controls(machine.bed.screws).values())
    places = [(float(x), float(y)) for x, y in random.uniform((10, 10), (170, 150), (5, 2))]
    before = [bed.height(*place) for place in places]
    for control in random.choice(np.array(controls, dtype=object), 4):
        bed.turn_screw(control.screw, control.turns)
        tramming.turn(control, 3)
    for place, mm in zip(places, before, strict=True):
        assert tramming.since_mm(2, place) == pytest.approx(bed.height(*place) - mm, abs=1e-6)
        assert tramming.since_mm(3, place) == 0.0, "a patch that was printed after that shows it already"


def corner_off(mm: float, builder: str) -> str:
    """Wren with one corner off, its bed flat otherwise, and a builder."""
    fed = WREN.replace("turn_mm = 33.0\nmicrosteps = 8", "turn_mm = 33.3")  # the feed is right, as it is by then
    text = fed.replace("bow_mm = 0.04\nbow_mm_k = 0.0014", "bow_mm = 0").replace(
        "mm = 0.03\nalong_x", "mm = 0\nalong_x"
    )
    for name, off in (("left-front", 0.22), ("right-front", -0.31), ("left-back", -0.12), ("right-back", 0.27)):
        assert f"[bed.screws.{name}]\noff_mm = {off}" in text
        new = mm if name == "left-front" else 0.0
        text = text.replace(
            f"[bed.screws.{name}]\noff_mm = {off}", f"[bed.screws.{name}]\noff_mm = {new}\nspring_mm = 4"
        )
    return text.replace("spring_mm = 4\nspring_mm = 0.5", "spring_mm = 4") + f"\n[builder]\n{builder}\n"


def test_a_corner_that_is_trammed_while_it_prints_is_counted(folder: Path) -> None:
    quiet = run("first-layer", folder, corner_off(-0.3, "trams = false"))[1]
    trammed = run("first-layer", folder, corner_off(-0.3, "trams = true"))[1]
    raised = {f["id"]: f["value"] for f in trammed["findings"] if f["id"].startswith("turned")}
    assert not any(f["id"].startswith("turned") for f in quiet["findings"])
    assert raised["turned.left-front"] > 0.08 and "Screws were turned while it printed" in trammed["why"]
    assert any("station bed mesh" in way for way in trammed["ways_out"])
    assert "differ from the middle as a tilt does" in quiet["why"] and "tilt" not in trammed["why"]
