"""Over each dialect, a line that loses, spoils and doubles: whether anything is false, moved twice, heated unasked."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.dialect.language import Language
from ublet.core.settings import number_or
from ublet.firmware.clock import run_virtually
from ublet.link.errors import SILENCE_UNTRIED, BoardRefused, LinkLost
from ublet.session.headless import on_scenario
from ublet.session.jogging import to_the_end
from ublet.session.library import DATA
from ublet.session.session import Session
from ublet.simulated import SimulatedMachine
from ublet.world.scenario import load_scenario

MACHINE, BAUD, FRACTION = "wren-180", 115200, 0.01
WAYS = ("flip_rate", "drop_rate", "host_drop_rate", "double_rate")
TURNS, STEP_MM, NEAR_MM = 40, 1.0, 0.02
GAIN, WARM_C, NO_GAIN = "heaters.hotend.kp", 45.0, 2e-5


def bad_lines(episodes: int) -> dict[str, Any]:
    """For each shipped dialect: lines that were said, what was read falsely, moved too far, heated unasked (all 0 where
    it holds), and episodes that were ended because nobody could know whether a move was done. A language without
    numbers gets no doubled lines on the way there: its board would do them twice, and no host can know.
    """
    from ublet.session.dialects import dialects_for

    figures: dict[str, Any] = {}
    for name, one in dialects_for(DATA).items():
        assert one.language is not None
        counted = Counter[str](said=0, read_falsely=0, moved_twice=0, heated_unasked=0, ended=0)
        for seed in range(1, episodes + 1):
            with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
                run_virtually(_episode(Path(folder), one.language, seed, counted))
        figures[name] = dict(counted)
    return figures


async def _episode(folder: Path, language: Language, seed: int, counted: Counter[str]) -> None:
    for name in ("machines", "scenarios"):
        shutil.copytree(DATA / name, folder / name)
    scenario, machine = folder / "scenarios" / f"{MACHINE}.toml", folder / "machine.toml"
    ways = (*WAYS, "host_double_rate") if language.framing.numbered else WAYS
    link = "\n".join([f"baud = {BAUD}", *(f"{way} = {FRACTION}" for way in ways)])
    text = scenario.read_text(encoding="utf-8")
    scenario.write_text(re.sub(r"^\[link\]\nbaud = .*$", f"[link]\n{link}", text, flags=re.MULTILINE), encoding="utf-8")
    assert load_scenario(scenario).link.drop_rate == FRACTION
    shutil.copy(folder / "machines" / f"{MACHINE}.toml", machine)
    random = np.random.default_rng([seed, 115])
    try:
        async with on_scenario(scenario, machine, seed, lambda progress: None, None, language) as (session, watcher):
            assert watcher.simulated is not None
            await session.connection.first_readings()
            for _ in range(TURNS):
                await _turn(session, watcher.simulated, random, counted)
    except LinkLost:
        counted["ended"] += 1


async def _turn(
    session: Session, simulated: SimulatedMachine, random: np.random.Generator, counted: Counter[str]
) -> None:
    """A move, a gain changed and read again, a heater warmed and left cold: each compared with the board itself."""
    controller, board, spun = session.connection.controller, simulated.board, simulated.world.mechanics.spun
    before, way = dict(spun), STEP_MM * float(random.choice([-1, 1]))
    try:
        await to_the_end(session.connection, await controller.move("x", way, 20.0))
    finally:
        moved = max((abs(mm - before.get(role, 0.0)) for role, mm in spun.items()), default=0.0)
        counted["moved_twice"] += moved > STEP_MM + NEAR_MM
    gain = round(float(random.uniform(0.01, 0.05)), 4)
    await controller.write({GAIN: gain})
    read = (await controller.read([GAIN]))[GAIN].live
    counted["read_falsely"] += sum(abs(number_or(of, 0.0) - gain) > NO_GAIN for of in (read, board.layers.live[GAIN]))
    drives = board.heat.drives
    counted["heated_unasked"] += drives["hotend"].target_c is not None
    try:
        await controller.target("hotend", WARM_C)
        counted["read_falsely"] += drives["hotend"].target_c != WARM_C
    except BoardRefused as refusal:
        if refusal.code != SILENCE_UNTRIED:
            raise
    await controller.target("hotend", None)
    counted["heated_unasked"] += drives["hotend"].target_c is not None
    counted["said"] += 5
