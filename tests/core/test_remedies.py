"""Ways out name what is there: stations, trials, parameters and settings that exist; and they last."""

from __future__ import annotations

import ast
import json
from pathlib import Path

import pytest

import ublet
from tests.conftest import tern
from ublet.core.catalogue import TRIALS
from ublet.core.machine.schema import SETTINGS
from ublet.core.remedies import level_first, material_remedy
from ublet.core.remedy import ByHand, ChangeParameter, ChangeSetting, GoTo, StartAgain, remedy_as_json, remedy_of
from ublet.core.route import AFTER, ROUTE, stands_on
from ublet.core.settings import Known
from ublet.session.document import Document
from ublet.session.library import machine_path

STATIONS = {station.name: station for station in ROUTE}
SOURCE = Path(ublet.__file__).parent


def calls(name: str) -> list[tuple[str, list[object]]]:
    """Every call of a class in the source: where, and its arguments that are plain words (else None)."""
    found = []
    for file in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == name:
                words = [arg.value if isinstance(arg, ast.Constant) else None for arg in node.args]
                found.append((f"{file.relative_to(SOURCE)}:{node.lineno}", words))
    return found


def test_every_station_and_trial_that_is_named_exists() -> None:
    named = calls("GoTo")
    assert len(named) > 30
    for where, words in named:
        station = words[0]
        assert station is None or station in STATIONS, where
        trial = words[2] if len(words) > 2 else None
        if isinstance(trial, str) and isinstance(station, str):
            assert trial in STATIONS[station].trials, where


def test_every_parameter_that_is_named_is_one_of_a_trial() -> None:
    parameters = {declared.path for spec in TRIALS.values() for declared in spec.declared()}
    named = calls("ChangeParameter")
    assert len(named) > 20
    assert {words[0] for _, words in named if words[0] is not None} <= parameters


def test_every_setting_that_is_named_is_declared_or_a_table() -> None:
    known = Known(SETTINGS)
    tables = {"extruder", "heaters", "materials", "mesh", "accelerometer", "bed.screws", "program.words"}
    for where, words in calls("ChangeSetting"):
        path = words[0]
        assert path is None or path in tables or known.find(str(path)) is not None, where


@pytest.mark.parametrize(
    "remedy",
    [
        GoTo("bed mesh", "probe it", "bed-mesh", "bed"),
        ChangeParameter("columns", "more"),
        ChangeSetting("mesh.margin_mm", "smaller"),
        ByHand("tighten it"),
        StartAgain(goes_on=True),
    ],
)
def test_they_go_through_json_and_back(remedy: object) -> None:
    assert remedy_of(json.loads(json.dumps(remedy_as_json(remedy)))) == remedy  # type: ignore[arg-type]


def test_a_tilt_is_mended_by_what_lifts_the_bed() -> None:
    near, far = level_first(tern()), level_first(tern(), tilt_mm=30.0)
    assert isinstance(near, GoTo) and (near.station, near.trial) == ("lead screws", "lead-screws")
    assert isinstance(far, GoTo) and far.trial == "lead-screws-by-hand"
    wren = Document(machine_path("wren-180")).machine
    corners = level_first(wren)
    assert isinstance(corners, GoTo) and corners.trial == "bed-corners-by-hand"
    assert isinstance(level_first(wren, but_screws=True), ByHand)
    assert material_remedy(wren).words == "parameter material: one of pla"


def test_a_station_stands_only_on_what_comes_before_it() -> None:
    order = [station.name for station in ROUTE]
    for name, before in AFTER.items():
        assert all(order.index(first) < order.index(name) for first in before), name
    assert [station.name for station in stands_on("homing")] == ["inputs by hand", "motors", "directions"]
    hot = {station.name for station in stands_on("bed mesh", ("bed",))}
    assert {"bed control", "heaters paired", "lead screws", "Z offset"} <= hot
    assert "bed control" not in {station.name for station in stands_on("bed mesh")}
