"""The outline of a machine file, the settings of a part, search, wiring."""

from __future__ import annotations

import tomllib

from tests.conftest import machine_text
from ublet.core.machine.check import check_text
from ublet.core.machine.edit import edited, with_part
from ublet.core.machine.outline import outline, properties, search, start_values
from ublet.core.machine.schema import SETTINGS
from ublet.core.machine.wiring import assignment, plug_list, plugs, state_of
from ublet.core.settings import flatten
from ublet.session.library import boards

TREE = tomllib.loads(machine_text())
LARCH = boards()["larch-6"]


def test_every_given_value_is_a_property_of_exactly_one_part_of_the_outline() -> None:
    nodes = [node for node in outline(TREE) if node.sort != "group"]
    paths = [item.path for node in nodes if node.present for item in properties(TREE, node.path)]
    assert len(paths) == len(set(paths))
    assert set(flatten(TREE)) <= set(paths)
    assert {SETTINGS.find(path) is not None for path in paths} == {True}


def test_optional_and_named_parts_are_told_apart() -> None:
    sorts = {node.path: (node.sort, node.present) for node in outline(TREE)}
    assert sorts["probe"] == ("optional", True) and sorts["endstops"] == ("group", True)
    assert sorts["endstops.x"] == ("named", True) and sorts["axes.x.homing"] == ("part", True)
    without = {node.path: node.present for node in outline({})}
    assert without["probe"] is False and without["machine"] is True and "endstops.x" not in without


def test_search_finds_by_key_and_by_help_keys_first() -> None:
    found = [item.path for item in search("feed", TREE)]
    assert found[:3] == ["axes.x.maximum_feed_mm_s", "axes.y.maximum_feed_mm_s", "axes.z.maximum_feed_mm_s"]
    assert [item.path for item in search("nozzle nearer", TREE)] == [
        "bed.offset_z_mm",
        "probe.offset_z_mm",
        "mesh.shift_mm",
    ]
    assert search("zebra", TREE) == ()


def test_a_new_part_starts_with_what_is_free_and_can_be_used() -> None:
    for part in (
        "endstops.z",
        "sensors.chamber",
        "fans.extra",
        "materials.tpu",
        "heaters.hotend.gains.new",
        "bed.screws.q",
    ):
        text = with_part(machine_text(), part, start_values(TREE, part, LARCH))
        checked = check_text(text, boards())
        assert not checked.errors, (part, checked.errors)
    assert start_values(TREE, "endstops.z", LARCH)["socket"] == "I4"
    assert start_values(TREE, "fans.extra", LARCH)["socket"] == "F4"


def test_plugs_and_their_states() -> None:
    at = plugs(TREE)
    assert [plug.words for plug in at["M4"]] == ["Z right"] and [plug.words for plug in at["P1"]] == ["probe servo"]
    states = {name: state_of(name, at, LARCH) for name in LARCH.sockets}
    assert states["I4"] == "free" and states["I1"] == "used"
    double = tomllib.loads(edited(machine_text(), {"endstops.y.socket": "I1", "fans.part.socket": "I4"}))
    at = plugs(double)
    assert state_of("I1", at, LARCH) == "doubly used" and state_of("I4", at, LARCH) == "wrong kind"


def test_plugging_in_swaps_with_what_sat_there() -> None:
    plug = next(plug for plug in plug_list(TREE) if plug.path == "axes.z.motors.left.socket")
    assert assignment(TREE, plug, "M5") == {
        "axes.z.motors.left.socket": "M5",
        "axes.z.motors.back.socket": "M3",
    }
    fan = next(plug for plug in plug_list(TREE) if plug.path == "fans.part.socket")
    assert assignment(TREE, fan, "F4") == {"fans.part.socket": "F4"}
