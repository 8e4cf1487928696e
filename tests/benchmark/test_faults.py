"""Planted faults are named by the route, and a machine without one is accused of nothing."""

from __future__ import annotations

import sys

import numpy as np
import pytest

from ublet.benchmark.faults import FAULTS, faults, good_text
from ublet.world.scenario import parse_scenario

CHEAP = ("endstops exchanged", "a motor turned round")


def test_every_fault_changes_the_scenario_and_leaves_it_valid() -> None:
    good = parse_scenario(good_text())
    for fault in FAULTS:
        for seed in range(3):
            assert parse_scenario(fault.plant(good_text(), np.random.default_rng(seed))) != good, fault.name


def test_two_of_them_are_named_and_nothing_is_accused(monkeypatch: pytest.MonkeyPatch) -> None:
    module = sys.modules[faults.__module__]
    monkeypatch.setattr(module, "FAULTS", tuple(fault for fault in FAULTS if fault.name in CHEAP))
    monkeypatch.setattr(module, "UNTIL", "homing")
    figures = faults(1, 1)
    assert (figures["planted"], figures["named"], figures["accused"], figures["fell_short"]) == (2, 2, [], [])


def test_what_is_not_named_falls_short(monkeypatch: pytest.MonkeyPatch) -> None:
    module = sys.modules[faults.__module__]
    monkeypatch.setattr(module, "FAULTS", tuple(fault for fault in FAULTS if fault.name == CHEAP[1]))
    monkeypatch.setattr(module, "UNTIL", "motors")  # nobody looks at directions
    figures = faults(1, 0)
    assert figures["named"] == 0 and figures["not_named"] and figures["fell_short"] == ["named 0 of 1"]
