"""The bed mesh on the simulated machines: what it tells beside the truth, and a board that follows it."""

from __future__ import annotations

import shutil
import tomllib
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tomlkit

from tests.conftest import Onlooker, Rig, mended_tern, virtually
from ublet.benchmark.beds import made_up, run_made_up
from ublet.benchmark.coils import keep_in
from ublet.core.catalogue import TRIALS
from ublet.core.level.mesh.hand_trials import MeshByHand
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.level.mesh.trials import GridParameters, grid_of, zeroed
from ublet.core.machine.check import check_text
from ublet.core.questions import Question
from ublet.core.run import TrialFailed, TrialResult
from ublet.core.settings import Value
from ublet.session.headless import on_scenario
from ublet.session.jogging import go, to_the_end, touch
from ublet.session.library import boards, machine_path, scenario_path

GRID = ["columns=5", "rows=5"]


def value(report: Any, id: str) -> float:
    return float(next(finding["value"] for finding in report["findings"] if finding["id"] == id))


@pytest.mark.parametrize("seed", [0, 2, 4])
def test_a_probed_mesh_is_the_bed_within_what_it_claims(seed: int, tmp_path: Path) -> None:
    scenario, _ = made_up(tmp_path, seed, 2)
    report = run_made_up("bed-mesh", GRID, scenario, seed)
    assert report["outcome"] == "proven", report["why"]
    for finding in report["findings"]:
        if finding["id"] in ("range", "rms", "tilt_x", "tilt_y"):
            assert abs(finding["value"] - report["truth"][finding["id"]]) <= 2.5 * finding["uncertainty"], finding
    kept = {each["setting"]: each["after"] for each in report["proposals"]}
    heights = np.array(kept["mesh.heights_mm"])
    assert heights.shape == (5, 5) and kept["mesh.to_x_mm"] > kept["mesh.from_x_mm"]
    assert "Without any mesh a first layer" in report["why"]


async def homed(rig: Rig) -> None:
    """Every axis homed; Z with its probe over the middle."""
    connection = rig.session.connection
    for axis in ("x", "y"):
        await to_the_end(connection, await connection.controller.home(axis))
    await go(connection, {"x": 178.0, "y": 136.5}, 80.0)
    await to_the_end(connection, await connection.controller.home("z"))


def test_the_nozzle_keeps_its_height_over_a_bed_whose_mesh_is_live(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            connection, world = rig.session.connection, rig.world
            await homed(rig)
            x, y = np.linspace(34, 246, 7), np.linspace(34, 226, 7)
            bed = np.array([[world.bed.height(at, deep) for at in x] for deep in y])
            values: dict[str, Value] = {
                "mesh.heights_mm": tuple(tuple(row) for row in (bed - bed[3, 3]).round(4).tolist()),
                **{"mesh.from_x_mm": 34.0, "mesh.to_x_mm": 246.0, "mesh.from_y_mm": 34.0, "mesh.to_y_mm": 226.0},
            }

            async def gaps() -> list[float]:
                found = []
                await go(connection, {"z": 1.0}, 5.0)
                for place in ((60, 60), (140, 130), (220, 60), (210, 200), (60, 200), (140, 130)):
                    await go(connection, {"x": place[0], "y": place[1]}, 80.0)
                    found.append(world.gap_mm)
                return found

            without = await gaps()
            await connection.write_live(values)
            followed = await gaps()
            assert np.ptp(without) > 0.3 and np.ptp(followed) < 0.15 * np.ptp(without), (without, followed)
            assert connection.channel("axes.z.mm") == pytest.approx(1.0), "what is told knows nothing of it"
            laid_on: dict[str, Value] = {"mesh.correction_mm": ((0.1, 0.1), (0.1, 0.1)), "mesh.shift_mm": 0.05}
            await connection.write_live(laid_on)
            higher = (np.array(await gaps()) - followed).tolist()
            assert higher == pytest.approx([0.9 * 0.15] * 6, abs=0.01), "both lie on it, and fade with it"
            await connection.write_live({"mesh.correction_mm": (), "mesh.shift_mm": 0.0})
            await go(connection, {"x": 220.0, "y": 200.0}, 80.0)
            low = world.mechanics.where["z"]
            await go(connection, {"z": 30.0}, 10.0)
            faded = 30.0 - 1.0 - (world.mechanics.where["z"] - low)
            expected = world.bed.height(220, 200) - bed[3, 3]
            assert faded == pytest.approx(expected * 0.9, abs=0.02), "it has faded out on the way up"
            await connection.write_live({"mesh.follows": False})
            await go(connection, {"z": 1.0}, 10.0)
            assert await gaps() == pytest.approx(without, abs=0.01)

    virtually(work)


def test_a_touch_takes_back_what_is_followed_and_tells_the_bed(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            connection = rig.session.connection
            await homed(rig)
            await connection.write_live({"axes.z.soft_limits": False})
            await go(connection, {"z": 8.0}, 5.0)
            await go(connection, {"x": 250.0, "y": 180.0}, 80.0)
            rows = []
            for height in (0.0, 0.4):
                heights = tuple((height,) * 7 for _ in range(7))
                ends: dict[str, Value] = {"mesh.from_x_mm": 34.0, "mesh.to_x_mm": 246.0}
                ends |= {"mesh.from_y_mm": 34.0, "mesh.to_y_mm": 226.0, "mesh.heights_mm": heights}
                await connection.write_live(ends)
                await go(connection, {"z": 6.0}, 5.0)
                await connection.controller.pin(True)
                rows.append(await touch(connection, -4.0, 2.0))
                await connection.controller.pin(False)
                await go(connection, {"z": 8.0}, 5.0)
            assert rows[0] is not None and rows[1] == pytest.approx(rows[0], abs=0.03)

    virtually(work)


def test_by_hand_a_mesh_of_wren_is_the_bed_within_what_is_felt() -> None:
    report = run_made_up("bed-mesh-by-hand", GRID, scenario_path("wren-180"), 1)
    assert report["outcome"] == "proven"
    for id in ("range", "rms", "tilt_x", "tilt_y"):
        assert value(report, id) == pytest.approx(report["truth"][id], abs=0.025), id


def test_a_mesh_by_hand_goes_back_skips_stops_and_goes_on_another_day(tmp_path: Path) -> None:
    copied = tmp_path / "wren-180.toml"
    shutil.copyfile(machine_path("wren-180"), copied)
    spec, aim = TRIALS["bed-mesh-by-hand"], MeshByHand(columns=3, rows=3)

    async def work() -> None:
        async with on_scenario(scenario_path("wren-180"), copied, 1, lambda progress: None) as (session, builder):
            answer, dragged, others = builder.answer, 0, {2: "back", 4: "skip", 6: "stop here"}

            async def moody(question: Question) -> str:
                nonlocal dragged
                given = await answer(question)
                if given != "it drags":
                    return given
                dragged += 1
                return others.get(dragged, given)

            builder.answer = moody  # type: ignore[method-assign]
            cut = await session.run(spec, aim, builder)
            # 1 drags, 2 goes back to it, 3 drags, 4 skips, 5 drags, 6 stops: two points have a height
            assert cut.ran.result.outcome == "halted" and "2 of 9 points are kept" in cut.ran.result.why
            half = session.trials.resumable(spec, aim)
            assert half is not None and half.checkpoint.words == "2 of 9 points done"
            others, dragged = {}, 0
            done = await session.run(spec, aim, builder, go_on=True)
            assert done.ran.result.outcome == "proven", done.ran.result.why
            assert dragged == 6, "what was done before is not asked again"
            points = done.ran.result.finding("points")
            assert points is not None and points.value == 9, "the one that was left out is filled from its neighbours"

    virtually(work)


def checked(tmp_path: Path, change: dict[str, Any]) -> Any:
    """A mesh kept, the bed changed, five touches."""
    scenario, _ = made_up(tmp_path, 2, 2)
    machine = tmp_path / "bed-2-2.toml"
    keep_in(machine, run_made_up("bed-mesh", GRID, scenario, 2))
    tables = tomllib.loads(scenario.read_text(encoding="utf-8"))
    for table, values in change.items():
        tables[table].update(values)  # type: ignore[union-attr]
    scenario.write_text(tomlkit.dumps(tables), encoding="utf-8")
    return run_made_up("mesh-check", [], scenario, 5)


def test_five_touches_tell_whether_the_live_mesh_still_holds(tmp_path: Path) -> None:
    same = checked(tmp_path, {})
    assert same["outcome"] == "proven" and "still holds" in same["why"]
    warped = checked(tmp_path, {"bed": {"bow_mm": 0.4}})
    assert warped["outcome"] == "failed" and "no longer holds: another shape" in warped["why"]
    scenario, _ = made_up(tmp_path, 0, 2)
    none = run_made_up("mesh-check", [], scenario, 0)
    assert none["outcome"] == "failed" and "No mesh is live" in none["why"]


def test_a_board_whose_image_leaves_out_the_mesh_says_so_and_follows_none(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            rig.board.slots.running = replace(rig.board.slots.running, modules=("heat", "motion"))
            rig.board.reset()
            await rig.session.connection.connect()
            entered = await rig.session.run(TRIALS["bed-mesh"], TRIALS["bed-mesh"].parameters(), Onlooker())
            assert "without the module mesh" in entered.ran.result.why and entered.number is None
            assert "mesh" not in rig.session.connection.can

    virtually(work)


def test_a_place_of_reference_outside_and_a_mesh_of_another_bed_are_named() -> None:
    text = machine_path("tern-280").read_text(encoding="utf-8")
    outside = check_text(text.replace("[mesh]\n", "[mesh]\nzero_x_mm = 500\n"), boards()).machine
    assert outside is not None
    with pytest.raises(TrialFailed, match=r"mesh\.zero_x_mm = 500 lies outside .* 34 to 246 mm"):
        grid_of(outside, GridParameters())
    rows = ", ".join(["[" + ", ".join(["0.0"] * 7) + "]"] * 7)
    foreign = f"[mesh]\nfrom_x_mm = 0\nto_x_mm = 400\nfrom_y_mm = 10\nto_y_mm = 200\nheights_mm = [{rows}]\n"
    found = check_text(text.replace("[mesh]\n", foreign), boards())
    assert any("of another bed" in each.mend for each in found.errors), [each.mend for each in found.errors]


def test_heights_are_zero_at_the_place_of_reference() -> None:
    text = machine_path("tern-280").read_text(encoding="utf-8")
    machine = check_text(text.replace("[mesh]\n", "[mesh]\nzero_x_mm = 60\nzero_y_mm = 200\n"), boards()).machine
    assert machine is not None
    x, y = np.linspace(34, 246, 7), np.linspace(34, 226, 7)
    mesh = zeroed(machine, Mesh(x, y, 0.001 * x[None, :] + 0.002 * y[:, None]))
    assert mesh.over([60.0], [200.0])[0, 0] == pytest.approx(0, abs=1e-9) and mesh.heights.max() > 0.1


class Cutting(Onlooker):
    """Lets so many points be touched, then cancels."""

    def __init__(self, rig: Rig, points: int) -> None:
        super().__init__()
        self.rig, self.points = rig, points

    def row(self, series: str, columns: tuple[str, ...], row: tuple[float, ...]) -> None:
        if series == "meshed":
            self.points -= 1
            if not self.points:
                self.rig.session.runner.cancel()


def test_a_mesh_that_is_cut_off_goes_on_where_it_was_and_not_over_other_places(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            session, spec = rig.session, TRIALS["bed-mesh"]
            whole = spec.parameters(columns=3, rows=3)
            assert (await session.run(spec, whole, Cutting(rig, 7))).ran.result.outcome == "halted"
            half = session.trials.resumable(spec, whole)
            assert half is not None and half.checkpoint.words == "2 of 3 rows touched"
            text = rig.file.read_text(encoding="utf-8")
            moved = text.replace("[mesh]\n", "[mesh]\nzero_x_mm = 120\n")
            assert moved != text
            rig.file.write_text(moved, encoding="utf-8")
            session.look_at_disk()
            assert session.trials.resumable(spec, whole) is None, "it rests on where heights are zero"
            rig.file.write_text(text, encoding="utf-8")
            session.look_at_disk()
            looks = Onlooker()
            result = (await session.run(spec, whole, looks, go_on=True)).ran.result
            assert result.outcome == "proven", result.why
            heights = np.array(next(p.after for p in result.proposals if p.setting == "mesh.heights_mm"))
            assert heights.shape == (3, 3)
            assert not [p for p in result.proposals if p.setting in ("mesh.columns", "mesh.rows")], "that is declared"
            live = [p.after for p in result.proposals if p.setting.startswith(("mesh.from", "mesh.to"))]
            x, y = np.linspace(live[0], live[1], 3), np.linspace(live[2], live[3], 3)  # type: ignore[call-overload]
            true = np.array([[rig.world.bed.height(a, b) for a in x] for b in y])
            assert np.ptp((heights - true) - (heights - true)[1, 1]) < 0.06

    virtually(work)


@pytest.mark.parametrize(
    ("before", "after", "words"),
    [
        ("", "", "it agrees with the live mesh"),
        (
            "at_mm = -1\nspread_mm = 0.01",
            "at_mm = -1.2\nspread_mm = 0.01",
            "mm higher than the live mesh says, at all three points alike",
        ),
        ("off_mm = 0.22", "off_mm = 0.72", "The bed is tilted"),
    ],
)
def test_a_gauge_at_three_points_tells_a_knock_from_a_bed_that_is_as_it_was(
    before: str, after: str, words: str, tmp_path: Path
) -> None:
    machine, scenario, store = tmp_path / "wren-180.toml", tmp_path / "scenarios" / "w.toml", tmp_path / "store.json"
    shutil.copyfile(machine_path("wren-180"), machine)
    scenario.parent.mkdir()
    (tmp_path / "machines").mkdir()
    shutil.copyfile(machine_path("wren-180"), tmp_path / "machines" / "wren-180.toml")
    text = scenario_path("wren-180").read_text(encoding="utf-8")
    assert before in text

    async def kept(*names: str) -> TrialResult:
        async with on_scenario(scenario, machine, 1, lambda progress: None, store) as (session, builder):
            for name in names:
                spec = TRIALS[name]
                entered = await session.run(spec, spec.parameters(material="pla"), builder)
                result = entered.ran.result
                if result.choice is not None and result.proposals:
                    await session.keep(result.choice, entered.number, spec.station)
            await session.save()
        return result

    scenario.write_text(text, encoding="utf-8")
    virtually(lambda: kept("z-offset", "bed-mesh-by-hand"))
    scenario.write_text(text.replace(before, after), encoding="utf-8")
    result = virtually(lambda: kept("bed-check-by-hand"))
    assert words in result.why and (result.outcome == "proven") is (before == after)
    assert len(result.remedies) == (before != after)
    shift = next(finding for finding in result.findings if finding.id == "shift")
    if "at_mm" in before:
        assert shift.uncertainty and abs(shift.value - 0.2) < 2 * shift.uncertainty
