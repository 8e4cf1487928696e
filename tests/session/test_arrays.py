"""Arrays as values: in file, image, store and live, in the draft, in a save and in its settlement after a crash."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Rig, machine_text, tern_scenario, virtually
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import edited
from ublet.core.machine.image import build_image, decode_image
from ublet.core.run import Option, Proposal
from ublet.core.settings import flatten
from ublet.firmware.store import Store
from ublet.session.document import Document
from ublet.session.draft import Draft
from ublet.session.library import boards
from ublet.session.saving import LedgerError, SaveFailed

PATH = "mesh.heights_mm"
MESH = tuple(tuple(round(0.01 * row - 0.02 * column, 3) for column in range(7)) for row in range(7))
OTHER = tuple(tuple(number + 0.05 for number in row) for row in MESH)
TRAIN = ((0.0, 0.6), (0.0123, 0.4))


def keep(value: object) -> Option:
    return Option("mend", "", (Proposal(PATH, (), value, "mm", "flat"),), {})  # type: ignore[arg-type]


def test_an_array_goes_into_the_file_with_its_comments_kept_and_comes_back() -> None:
    text = edited(machine_text(), {PATH: MESH, "axes.x.shaper.train": TRAIN})
    checked = check_text(text, boards())
    assert checked.errors == () and checked.machine is not None and checked.machine.mesh is not None
    assert checked.machine.mesh.heights_mm == MESH and checked.machine.axes.x.shaper.train == TRAIN
    assert text.count("#") == machine_text().count("#") and "\n    [-0.12, " not in text
    assert sum(line.strip().startswith("[") and line.strip().endswith("],") for line in text.split("\n")) >= 7
    assert edited(text, {PATH: None, "axes.x.shaper.train": None}).count("heights_mm") == 0


@pytest.mark.parametrize(
    ("written", "found"),
    [
        ("[[0.1, 0.2], [0.3]]", "rows are not equally long"),
        ("[0.1, 0.2]", "heights_mm"),
        ('[["a", 0.2], [0.3, 0.4]]', "found 'a'"),
        ("[[99.0, 0.2], [0.3, 0.4]]", "99.0 in it"),
        ("[[nan, 0.2], [0.3, 0.4]]", "no number"),
        ("7", "found 7"),
    ],
)
def test_a_wrong_array_is_one_clear_error_with_its_line(written: str, found: str) -> None:
    text = machine_text().replace("[mesh]\n", f"[mesh]\nheights_mm = {written}\n")
    (problem,) = check_text(text, boards()).errors
    sentence = problem.sentence("f")
    assert problem.key == PATH and found in sentence and "leave" in sentence
    assert text.split("\n")[problem.line - 1].startswith("heights_mm")


def test_an_impulse_train_must_be_one() -> None:
    for impulses, found in ((((0.1, 1.0),), "do not rise from 0"), (((0.0, 0.5), (0.01, 0.4)), "sum to 0.9")):
        text = edited(machine_text(), {"axes.y.shaper.train": impulses})
        (problem,) = check_text(text, boards()).errors
        assert found in problem.found and problem.key == "axes.y.shaper.train"


def test_the_image_and_the_store_carry_arrays(folder: Path) -> None:
    machine = check_text(edited(machine_text(), {PATH: MESH}), boards()).machine
    assert machine is not None
    image, _ = build_image(machine, boards()["larch-6"])
    assert decode_image(image.data).settings[PATH] == MESH
    store = Store(folder / "s.json", {})
    store.change({PATH: MESH})
    assert Store(folder / "s.json", {}).values[PATH] == MESH


def test_kept_saved_and_read_back_in_every_layer(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), folder / "store.json") as rig:
            session = rig.session
            before = session.connection.layers[PATH]
            assert (before.image, before.stored, before.live) == ((), None, ())
            await session.keep(keep(MESH), None)
            (unsaved,) = [item for item in session.unsaved() if item.setting == PATH]
            assert unsaved.after == MESH and unsaved.file == ()
            assert await session.save({PATH}) == 1
            layers = session.connection.layers[PATH]
            assert layers.stored == layers.live == MESH and session.document.value(PATH) == MESH
            assert json.loads((folder / "store.json").read_text())[PATH] == [list(row) for row in MESH]
            saved = session.ledger.last_change(PATH, "save")
            assert saved is not None and saved.after == MESH
            await session.keep(keep(OTHER), None)
            assert len(await session.drop()) == 1 and session.connection.layers[PATH].live == MESH

    virtually(work)


def test_a_save_of_an_array_that_was_cut_off_is_settled(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        store = folder / "store.json"
        async with Rig(folder, tern_scenario(), store) as rig:
            await rig.session.keep(keep(MESH), None)

            def dies(changes: object) -> None:
                raise LedgerError("gone")

            monkeypatch.setattr(rig.session.ledger, "end_save", dies)
            await rig.session.save({PATH})
            assert rig.session.ledger.pending_save() is not None
        before = machine_text()
        rig.file.write_text(before, encoding="utf-8")  # as if the file had not been renamed into place
        async with Rig(folder, tern_scenario(), store) as again:
            await again.session.settle()
            assert again.session.document.value(PATH) == MESH and again.session.ledger.pending_save() is None

    virtually(work)


@pytest.mark.parametrize("value", [[[1.0, 2.0], [3.0]], [1.0], [[99.0]], [["a"]], [[True]], "x", [[]]])
def test_the_board_takes_no_other_arrays(folder: Path, value: object) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            with pytest.raises(Exception, match="allowed"):
                await rig.session.connection.call("settings.write", values={PATH: value})
            assert rig.board.layers.live[PATH] == ()

    virtually(work)


def test_the_draft_and_the_differences_know_arrays(folder: Path) -> None:
    path = folder / "m.toml"
    path.write_text(machine_text(), encoding="utf-8")
    draft = Draft(Document(path))
    draft.set(PATH, MESH)
    (change,) = draft.changes()
    assert (change.path, change.after) == (PATH, MESH) and draft.given(PATH) == MESH
    assert [problem.key for problem in draft.try_value(PATH, ((0.1, 0.2), (0.3,)))] == [PATH]
    assert draft.write() == 1 and flatten({"a": [[1, 2]]}) == {"a": ((1, 2),)}
    draft.set(PATH, tuple(tuple(n + 1e-9 for n in row) for row in MESH))
    assert draft.changes() == [], "a change below what is stored is none"
    assert isinstance(SaveFailed("x"), Exception)
