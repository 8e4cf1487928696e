"""Meshes that were taken: named, told apart, chosen for a print, and made live."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Rig, mended_tern, virtually
from ublet.core.catalogue import TRIALS
from ublet.core.evidence import Dependency
from ublet.core.facts import Fact
from ublet.core.level.mesh.live import HEIGHTS, live_mesh
from ublet.core.run import Finding, Option, Proposal, TrialResult
from ublet.ledger.entries import Opening
from ublet.session.chain import ChainLink, chain
from ublet.session.meshes import (
    NothingLive,
    at_start,
    compared,
    correction_at,
    difference_words,
    loading,
    none_live,
    raising,
    rename,
    take_off,
    taken,
)

COUNT = 5


def took(rig: Rig, heights: np.ndarray, bed_c: float, sheet: str) -> None:
    """A mesh is in the ledger as a run would have left it."""
    session = rig.session
    live = {path: each.live for path, each in session.connection.layers.items()}
    facts = tuple(session.ledger.facts_in_force())
    recorded = session.ledger.open_run(
        Opening("2026-01-02T03:04:05", "bed-mesh", "bed mesh", {}, {}, "", "larch-6", live, facts, None, {}, None)
    )
    heights_mm = tuple(tuple(row) for row in heights.round(4).tolist())
    wanted = {
        HEIGHTS: heights_mm,
        "mesh.columns": COUNT,
        "mesh.rows": COUNT,
        "mesh.from_x_mm": 34.0,
        "mesh.to_x_mm": 246.0,
    }
    wanted |= {"mesh.from_y_mm": 34.0, "mesh.to_y_mm": 226.0}
    proposals = tuple(Proposal(path, live[path], after, "mm", "") for path, after in wanted.items())
    rests = (
        Dependency("fact", "surface", sheet),
        Dependency("setting", "probe.offset_x_mm", live["probe.offset_x_mm"], 0.5),
    )
    findings = (Finding("rms", 0.05, 0.004, "mm"),)
    result = TrialResult(
        "proven", "", {"bed_c": bed_c}, findings, (Option("this mesh", "", proposals, {}),), "this mesh"
    )
    recorded.end(result, 100.0, rests)


def test_a_print_loads_the_newest_of_its_sheet_and_warmth_that_still_holds(folder: Path) -> None:
    random = np.random.default_rng(1)
    bed = random.normal(0, 0.03, (COUNT, COUNT))
    u = np.linspace(-1, 1, COUNT)
    bow = 0.05 * (u[None, :] ** 2 + u[:, None] ** 2)

    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            session = rig.session
            assert at_start(session, taken(session))[0] is None
            session.ledger.report_fact(Fact("surface", "", "smooth", "2026-01-01T00:00:00"))
            took(rig, bed, 60.0, "smooth")
            took(rig, bed + bow, 100.0, "smooth")
            took(rig, bed + 0.1, 60.0, "rough")
            took(rig, bed + random.normal(0, 0.002, bed.shape), 61.0, "smooth")
            known = taken(session)
            assert [each.name for each in known] == ["smooth, 60 °C", "rough, 60 °C", "smooth, 100 °C", "smooth, 60 °C"]
            best, why = at_start(session, known)
            assert best is known[0] and "nothing that it rests on has changed" in why
            assert at_start(session, known, "petg")[0] is None and "petg" in at_start(session, known, "petg")[1]
            same, hot = compared(known[0], known[3]), compared(known[2], known[3])
            assert same.verdict == "same" and "same within" in difference_words(known[0], known[3], same)
            assert hot.verdict == "shape" and "warmer" in difference_words(known[2], known[3], hot)
            other = compared(known[1], known[3])
            assert other.verdict == "shift" and "Another sheet" in difference_words(known[1], known[3], other)
            assert not any(each.live for each in known)
            await session.keep(loading(session, known[2]), known[2].run)
            live = live_mesh(session.live)
            assert live is not None and np.allclose(live.heights, known[2].mesh.heights)
            assert [each.live for each in taken(session)] == [False, False, True, False]
            again = loading(session, known[2]).proposals
            assert len(again) == 5 and all(each.before == each.after for each in again)
            session.ledger.report_fact(Fact("surface", "", "steel", "2026-01-01T00:00:00"))
            none, why = at_start(session, taken(session))
            assert none is None and "on steel" in why
            session.ledger.report_fact(Fact("surface", "", "smooth", "2026-01-01T00:00:00"))
            await session.connection.write_live({"probe.offset_x_mm": 3.0})
            none, why = at_start(session, taken(session))
            assert none is None and "no longer holds" in why and "offset_x_mm" in why

    virtually(work)


def test_a_mesh_has_a_name_of_ones_own_goes_off_the_list_and_none_may_be_live(folder: Path) -> None:
    bed = np.random.default_rng(2).normal(0, 0.03, (COUNT, COUNT))

    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            session = rig.session
            session.ledger.report_fact(Fact("surface", "", "smooth", "2026-01-01T00:00:00"))
            took(rig, bed, 60.0, "smooth")
            took(rig, bed + 0.1, 60.0, "smooth")
            newest, older = taken(session)
            rename(session, newest, "  after   the move ")
            assert [mesh.name for mesh in taken(session)] == ["after the move", older.name]
            rename(session, newest, "")
            assert taken(session)[0].name == newest.usual_name
            take_off(session, newest)
            assert [mesh.run for mesh in taken(session)] == [older.run]
            assert session.ledger.latest("bed-mesh") is not None, "its run stays"
            best, _ = at_start(session, taken(session))
            assert best is not None and best.run == older.run, "a print is not offered it either"
            take_off(session, newest, back=True)
            assert len(taken(session)) == 2
            await session.keep(loading(session, older), older.run)
            assert live_mesh(session.live) is not None
            await session.keep(none_live(session), None)
            assert live_mesh(session.live) is None and not any(mesh.live for mesh in taken(session))
            await session.keep(loading(session, older), older.run)
            assert live_mesh(session.live) is not None, "and one comes back"

    virtually(work)


def test_a_first_layer_stands_on_a_mesh_that_is_live_and_as_warm(folder: Path) -> None:
    bed = np.random.default_rng(3).normal(0, 0.03, (COUNT, COUNT))

    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            session, spec = rig.session, TRIALS["first-layer"]

            def link(material: str) -> ChainLink:
                links = chain(session, spec, spec.parameters(material=material))
                return next(link for link in links if link.station.name == "bed mesh")

            assert link("pla").state == "open"
            session.ledger.report_fact(Fact("surface", "", "smooth", "2026-01-01T00:00:00"))
            took(rig, bed, 60.0, "smooth")
            mesh = taken(session)[0]
            assert link("pla").state == "stale" and link("pla").reason.endswith("is for it and not live: load it (m)")
            await session.keep(loading(session, mesh), mesh.run)
            assert link("pla").met and link("").met, "the first material"
            hot = link("asa")
            assert not hot.met and "near asa's 105 °C (only at 60): probe one as warm" in hot.reason
            await session.keep(none_live(session), None)
            assert not link("pla").met

    virtually(work)


def test_the_nozzle_is_raised_at_a_place_and_a_print_follows_that(folder: Path) -> None:
    bed = np.random.default_rng(3).normal(0, 0.03, (COUNT, COUNT))

    async def work() -> None:
        async with Rig(folder, mended_tern()) as rig:
            session = rig.session
            with pytest.raises(NothingLive, match="No mesh is live"):
                raising(session, (100.0, 100.0), 0.02)
            took(rig, bed, 60.0, "smooth")
            stored = taken(session)[0]
            await session.keep(loading(session, stored), stored.run)
            place = (float(stored.mesh.x[1]), float(stored.mesh.y[3]))
            follower = rig.board.mover.following
            before = follower._height(*place)
            for _ in range(3):
                await session.keep(raising(session, (place[0] + 2, place[1] - 2), 0.02), None)
            assert correction_at(session, place) == pytest.approx(0.06)
            assert follower._height(*place) - before == pytest.approx(0.06, abs=0.002)
            elsewhere = (float(stored.mesh.x[4]), float(stored.mesh.y[0]))
            assert correction_at(session, elsewhere) == pytest.approx(0.0, abs=1e-9)
            await session.keep(raising(session, place, -0.06), None)
            assert follower._height(*place) == pytest.approx(before, abs=1e-6), "and back again"

    virtually(work)
