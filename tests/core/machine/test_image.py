"""Images and modules: sizes to the byte, digests, what would free enough, what a board refuses."""

from __future__ import annotations

import hashlib
from dataclasses import replace

import cbor2
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import machine_text, tern
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import GONE, Edit, edited
from ublet.core.machine.effective import board_settings
from ublet.core.machine.image import (
    Head,
    ImageError,
    build_image,
    decode_image,
    encode_image,
    module_plan,
    version_of,
    why_not,
)
from ublet.core.machine.modules import OPTIONAL, ModulePlan
from ublet.core.machine.schema import MachineFile
from ublet.session.library import DATA, boards

LARCH = boards()["larch-6"]


def changed(edits: dict[str, Edit]) -> MachineFile:
    machine = check_text(edited(machine_text(), edits), boards()).machine
    assert machine is not None
    return machine


def test_an_image_is_cbor_that_says_what_it_is_and_its_digest_is_sha256() -> None:
    image, plan = build_image(tern(), LARCH)
    tree = cbor2.loads(image.data)
    assert tree["format"] == "ublet-image" and tree["board"] == "larch-6"
    assert dict(tree["settings"])["axes.x.steps_per_mm"] == 160
    assert image.digest == hashlib.sha256(image.data).hexdigest()
    assert len(image.data) == plan.used_bytes <= plan.slot_bytes
    again = decode_image(image.data)
    assert (again.head, again.settings, set(again.modules)) == (image.head, image.settings, set(image.modules))
    assert list(again.settings) == list(board_settings(tern()))
    assert build_image(tern(), LARCH)[0].digest == image.digest
    assert build_image(changed({"axes.z.maximum_feed_mm_s": 14}), LARCH)[0].digest != image.digest


@pytest.mark.parametrize("path", sorted((DATA / "machines").glob("*.toml")), ids=lambda path: path.stem)
def test_the_plan_is_right_to_the_byte_without_building(path: object) -> None:
    from pathlib import Path

    assert isinstance(path, Path)
    machine = check_text(path.read_text(encoding="utf-8"), boards()).machine
    assert machine is not None
    board = boards()[machine.board.model]
    image, _ = build_image(machine, board, b"\x08\x01\xff")
    assert module_plan(machine, board, b"\x08\x01\xff").used_bytes == len(image.data)


@settings(max_examples=30, deadline=None)
@given(st.lists(st.sampled_from([name for name, _ in OPTIONAL]), unique=True), st.integers(60_000, 300_000))
def test_what_would_free_enough_does_and_nothing_smaller_is_passed_over(names: list[str], slot: int) -> None:
    machine = changed({f"modules.{name}": True for name in names})
    plan = replace(module_plan(machine, LARCH), slot_bytes=slot)
    directions = plan.would_free(50)
    for direction in directions:
        assert sum(module.bytes for module in direction) >= plan.overflow_bytes > 0
        assert all(sum(m.bytes for m in direction) - module.bytes < plan.overflow_bytes for module in direction)
    singles = [m for m in plan.modules if m.included and m.optional and m.bytes >= plan.overflow_bytes]
    if plan.overflow_bytes:
        assert {direction[0].name for direction in directions if len(direction) == 1} >= {m.name for m in singles[:1]}


def test_modules_follow_what_is_declared_and_what_is_wanted() -> None:
    def included(plan: ModulePlan) -> set[str]:
        return {module.name for module in plan.modules if module.included}

    plain = included(module_plan(tern(), LARCH))
    assert {
        "core",
        "kinematics-corexy",
        "probe",
        "mesh",
        "lifts",
        "counters",
        "advance",
    } <= plain and "arcs" not in plain
    unsaid = {"modules.shaping": GONE}
    assert "shaping" not in included(module_plan(changed(unsaid), LARCH))
    assert "shaping" in included(module_plan(changed({"axes.x.shaper.kind": "zv", **unsaid}), LARCH))
    assert "advance" in included(module_plan(changed({"extruder.advance_s": 0.04, **unsaid}), LARCH))
    left_out = module_plan(changed({"modules.mesh": False}), LARCH)
    assert "mesh" not in included(left_out)
    assert "though a mesh is declared" in next(m.why for m in left_out.modules if m.name == "mesh")


def test_a_module_that_is_not_made_for_a_board_is_named() -> None:
    bare = LARCH.model_copy(update={"modules": {k: v for k, v in LARCH.modules.items() if k != "probe"}})
    with pytest.raises(ImageError, match="no module “probe”"):
        build_image(tern(), bare)


@pytest.mark.parametrize(
    ("board", "firmware", "words"),
    [
        ("larch-6", (1, 1, 0), None),
        ("larch-6", (2,), None),
        ("larch-6", (1, 0, 9), "older"),
        ("alder-4", (9,), "for alder-4"),
    ],
)
def test_what_a_board_refuses(board: str, firmware: tuple[int, ...], words: str | None) -> None:
    reason = why_not(Head("larch-6", (1, 1, 0), ""), Head(board, firmware, ""))
    assert reason is None if words is None else words in (reason or "")


@settings(max_examples=100, deadline=None)
@given(st.binary(max_size=200))
def test_bytes_that_are_no_image_are_told(data: bytes) -> None:
    with pytest.raises(ImageError):
        decode_image(data)


def test_an_image_cut_or_changed_is_told_or_has_another_digest() -> None:
    good = encode_image(Head("larch-6", (1,), "T"), {"a.b": 1}, {"core": b"x" * 40})
    for at in range(0, len(good), 7):
        with pytest.raises(ImageError):
            decode_image(good[:at])
    assert version_of("1.10.x") == (1, 10, 0) and Head("", (1, 10), "").version == "1.10"
