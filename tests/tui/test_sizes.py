"""Every bench at every size, in both themes, idle, asked and running: nothing is drawn that ends the app."""

from __future__ import annotations

import asyncio
import itertools
import random
from pathlib import Path

import pytest

from tests.conftest import Rig, tern_scenario, virtually
from tests.tui.pilot import opened
from ublet.core.questions import Question
from ublet.core.route import ROUTE
from ublet.tui.benches import BENCHES
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch
from ublet.world.builder import ScriptedBuilder

COUNT = 24
EDGES = [1, 2, 3, 5, 6, 7, 8, 39, 40, 41, 79, 80, 81, 240]
EVERY = list(itertools.product(range(1, 241), range(1, 71)))
"""All of them are drawn by hand now and then; a test takes the edges and a seeded handful."""


def sizes(count: int, seed: int) -> list[tuple[int, int]]:
    edges = [(width, height) for width in EDGES for height in (1, 2, 3, 4, 5, 6, 7, 8, 23, 24, 70)]
    return random.Random(seed).sample(edges, count // 2) + random.Random(seed + 1).sample(EVERY, count // 2)


PICTURED = [
    kind
    for kind, bench in BENCHES.items()
    if issubclass(bench, TrialBench) and bench.picture is not TrialBench.picture  # the others draw charts
]


@pytest.mark.parametrize("kind", PICTURED)
def test_every_picture_of_a_trial_is_drawn_at_every_size(kind: str, folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            builder = ScriptedBuilder(rig.scenario, rig.hands)
            bench = BENCHES[kind](rig.session)
            assert isinstance(bench, TrialBench)
            drawn = {"idle": 0, "asked": 0, "running": 0}

            def draw(state: str) -> None:
                for width, height in sizes(COUNT, len(state)):
                    bench.picture()(rig.session, bench.watched, width, height)
                    drawn[state] += 1

            async def answer(question: Question) -> str:
                if drawn["asked"] < 2 * COUNT:
                    bench.question = (question, asyncio.get_running_loop().create_future())
                    draw("asked")
                    bench.question = None
                return await builder.answer(question)

            draw("idle")
            bench.watched = TrialWatch(answer, lambda question: True, lambda: 0.0)
            running = asyncio.ensure_future(rig.session.run(bench.spec, bench.aim, bench.watched))
            for _ in range(2):
                await asyncio.sleep(30)
                draw("running")
            rig.session.runner.cancel()
            await running
            assert drawn["idle"] == COUNT and drawn["running"] == 2 * COUNT

    virtually(work)


def test_every_bench_stands_every_terminal(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with opened(folder, monkeypatch) as there:
            app = there.app
            built = list(ROUTE)
            for number, station in enumerate([*built[0::2], *built[1::2]]):
                await app._show_station(station)
                if number == len(built) // 2:
                    app.action_theme()
                for width, height in (((240, 70), (100, 30), (1, 1), (81, 23))[number % 4], (80, 24)):
                    await there.resize(width, height)
                    assert app.bench is not None
                    app.bench.refresh_state()
                    app.bench.beat()
                    await asyncio.sleep(0.01)
                    assert len(there.text().split("\n")) == height
                shown = there.text()
                assert len(shown.split("\n")) == 24 and "F8 HALT" in shown

    virtually(work)
