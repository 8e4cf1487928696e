"""By hand at the machine: motors let go, filament when it is hot, a touch; each refused with its reason."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, virtually
from tests.session.test_wire_trials import RIGHT
from ublet.core.catalogue import TRIALS
from ublet.session import manual
from ublet.session.document import Document
from ublet.session.jogging import jog
from ublet.session.library import machine_path
from ublet.world.scenario import parse_scenario

PATIENCE_S = 600
"""A hotend is at its temperature within so many seconds."""


async def _hot(rig: Rig) -> None:
    await manual.warm_nozzle(rig.session, "pla")
    for _ in range(PATIENCE_S):
        if not manual.why_cold(rig.session, "pla"):
            return
        await rig.session.connection.next_samples()
    raise AssertionError("it did not get warm")


def test_motors_that_are_off_do_not_know_where_they_stand(tmp_path: Path) -> None:
    async def work() -> tuple[dict[str, float | None], dict[str, float | None], str]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            homing = TRIALS["homing"]
            await rig.session.run(homing, homing.parameters(), Onlooker())
            connection = rig.session.connection
            before = {axis: connection.channel(f"axes.{axis}.mm") for axis in "xyz"}
            said = await manual.motors_off(rig.session)
            return before, {axis: connection.channel(f"axes.{axis}.mm") for axis in "xyz"}, said

    before, after, said = virtually(work)
    assert before["x"] is not None and after == {"x": None, "y": None, "z": None}
    assert said.startswith("Motors off: carriages can be moved by hand")


def test_filament_moves_only_at_its_temperature_and_by_its_lengths(tmp_path: Path) -> None:
    async def work() -> list[float]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            session, filament = rig.session, rig.world.filament
            with pytest.raises(manual.NotNow, match=r"the hotend is at 2\d °C: pla moves from \d+ on"):
                await manual.move_filament(session, "pla", 10.0)
            await _hot(rig)
            amounts, before = [], filament.fed_mm
            for deed in (
                manual.move_filament(session, "pla", 10.0),
                manual.move_filament(session, "pla", -10.0),
                manual.load(session, "pla"),
                manual.purge(session, "pla"),
            ):
                await deed
                amounts.append(filament.fed_mm - before)
                before = filament.fed_mm
            assert rig.board.heat.drives["hotend"].target_c, "it stays warm until it is switched off"
            await session.runner.all_off()
            assert rig.everything_is_off()
            return amounts

    pushed, pulled, loaded, purged = virtually(work)
    assert pushed > 8.0 and pulled <= 0.0
    assert loaded == pytest.approx(6 * pushed, rel=0.03) and purged > pushed


def test_lengths_follow_the_tube_unless_they_are_declared() -> None:
    wren = Document(machine_path("wren-180")).machine
    assert wren.extruder is not None
    far = manual.filament_moves(wren)
    assert far.load_mm == 420 + manual.MELT_MM and far.unload_mm > far.load_mm
    extruder = wren.extruder.model_copy(update={"load_mm": 500.0, "unload_mm": 510.0})
    declared = wren.model_copy(update={"extruder": extruder})
    assert manual.filament_moves(declared) == manual.FilamentMoves(500, 510, far.purge_mm)


def test_a_touch_needs_a_homed_z_and_nothing_is_done_without_a_link(tmp_path: Path) -> None:
    async def work() -> tuple[str, str]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            with pytest.raises(manual.NotNow, match="Z does not know where it stands"):
                await manual.touch_here(rig.session)
            homing = TRIALS["homing"]
            await rig.session.run(homing, homing.parameters(), Onlooker())
            await jog(rig.session.connection, "z", 5.0, 5.0)
            begin = rig.session.connection.channel("axes.z.mm")
            said = await manual.touch_here(rig.session)
            assert rig.session.connection.channel("axes.z.mm") == pytest.approx(begin, abs=0.05)
            await rig.session.connection.close()
            with pytest.raises(manual.NotNow, match="there is no link"):
                await manual.motors_off(rig.session)
            return said, manual.why_not(rig.session)

    said, why = virtually(work)
    assert said.startswith("It triggered at Z ") and 0.5 < float(said.split()[-2]) < 3, (
        "the probe is met above the nozzle's zero"
    )
    assert why == "there is no link to the board"
