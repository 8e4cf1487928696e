"""A sheet on a simulated bed: where it stands, how it follows, and that no heat is lost between the two."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.conftest import tern_scenario
from ublet.world.heat import STEP_S, Plant, holding_w, linearise, loss_w

BED = tern_scenario().plants["bed"].truth()
ROOM = 23.0


def test_it_stands_where_its_losses_put_it_and_the_bed_needs_that_much_more() -> None:
    plant = Plant(BED, ROOM)
    duty = holding_w(BED, 60.0, 0.0, ROOM) / BED.power_w
    for _ in range(int(6000 / STEP_S)):
        plant.step(duty, 0.0, ROOM)
    assert plant.block_c == pytest.approx(60.0, abs=0.1)
    assert plant.surface_c - ROOM == pytest.approx(BED.surface_share * (plant.block_c - ROOM), abs=0.01)
    through = BED.surface_w_k * (plant.block_c - plant.surface_c)
    assert duty * BED.power_w == pytest.approx(loss_w(BED, plant.block_c, 0.0, ROOM) + through, rel=1e-3)


def test_it_follows_a_block_that_is_held_with_its_own_time_constant() -> None:
    plant = Plant(replace(BED, capacity_j_k=20_000.0, loss_w_k=0.005, radiating_cm2=0.0), ROOM)
    plant.block_c = plant.cartridge_c = 60.0
    seen = []
    for _ in range(int(60 / STEP_S)):
        plant.step(0.0, 0.0, ROOM)
        seen.append(plant.surface_c)
    end = ROOM + BED.surface_share * (plant.block_c - ROOM)
    expected = end - (end - ROOM) * math.exp(-60 / BED.surface_lag_s)
    assert seen[-1] == pytest.approx(expected, abs=0.3) and np.all(np.diff(seen) > 0)


def test_no_heat_is_lost_between_block_and_sheet() -> None:
    alone = replace(BED, loss_w_k=0.005, radiating_cm2=0.0, surface_loss_w_k=0.0)
    plant = Plant(alone, ROOM)
    given = 0.0
    for _ in range(int(120 / STEP_S)):
        plant.step(0.5, 0.0, ROOM)
        given += 0.5 * alone.power_w * STEP_S
    stored = sum(
        capacity * (celsius - ROOM)
        for capacity, celsius in (
            (alone.cartridge_j_k, plant.cartridge_c),
            (alone.capacity_j_k, plant.block_c),
            (alone.surface_j_k, plant.surface_c),
        )
    )
    assert stored == pytest.approx(given, rel=0.01)


def test_without_a_sheet_the_surface_is_the_block_and_the_plant_what_it_was() -> None:
    bare = replace(BED, surface_j_k=0.0, surface_w_k=0.0, surface_loss_w_k=0.0)
    assert (bare.surface_lag_s, bare.surface_share) == (0.0, 1.0)
    assert holding_w(bare, 60.0, 0.0, ROOM) == loss_w(bare, 60.0, 0.0, ROOM)
    plant = Plant(bare, ROOM)
    for _ in range(200):
        plant.step(1.0, 0.0, ROOM)
    assert plant.surface_c == plant.block_c > ROOM
    chord = loss_w(bare, 60.0, 0.0, ROOM) / (60.0 - ROOM)
    assert linearise(bare, 60.0, ROOM).gain_c == pytest.approx(bare.power_w / chord)
    tangent = loss_w(bare, 60.5, 0.0, ROOM) - loss_w(bare, 59.5, 0.0, ROOM)
    stored = (bare.capacity_j_k + bare.cartridge_j_k) / tangent
    assert linearise(bare, 60.0, ROOM).time_constant_s == pytest.approx(stored, rel=0.02)
