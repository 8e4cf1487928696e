"""Single faults planted in a machine that is wired right: whether the route names them, and accuses nothing without."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

UNTIL = "speed limits"
"""The legs Wire and Move, where wires, plugs, directions and lengths are found; heat and level have figures of their
own.
"""

LEAST = 0.95


@dataclass(frozen=True)
class PlantedFault:
    """A fault: how the scenario's text gets it, and what names it: a pattern in what was mended, in the reasons of what
    failed, or in what is left open.
    """

    name: str
    plant: Callable[[str, np.random.Generator], str]
    names_it: str


def _swap(text: str, a: str, b: str) -> str:
    assert a in text and b in text
    return text.replace(a, "\0").replace(b, a).replace("\0", b)


def _once(text: str, before: str, after: str) -> str:
    assert before in text, before
    return text.replace(before, after, 1)


def _in_table(text: str, table: str, line: str) -> str:
    """A line more in a table of the scenario."""
    return _once(text, f"[{table}]\n", f"[{table}]\n{line}\n")


def _polarity(text: str, random: np.random.Generator) -> str:
    head, table, rest = text.partition(f"[switches.{random.choice(['x', 'y'])}]")
    return head + table + rest.replace("normally_closed = true", "normally_closed = false", 1)


def _length(text: str, random: np.random.Generator) -> str:
    factor = float(random.choice([0.5, 0.8, 1.25, 2.0]))
    if random.random() < 0.5:
        return text.replace("turn_mm = 4\n", f"turn_mm = {4 * factor:g}\n")
    return text.replace("turn_mm = 40\n", f"turn_mm = {40 * factor:g}\n")


FAULTS = (
    PlantedFault(
        "endstops exchanged", lambda t, r: _swap(t, 'socket = "I1"', 'socket = "I2"'), r"endstops\.[xy]\.socket"
    ),
    PlantedFault("a switch of the other kind", _polarity, r"endstops\.[xy]\.normally_closed"),
    PlantedFault(
        "a switch that sticks",
        lambda t, r: _in_table(t, f"switches.{r.choice(['x', 'y'])}", 'fault = "stuck"'),
        r"[XY] endstop",
    ),
    PlantedFault(
        "a broken wire at a switch",
        lambda t, r: _in_table(t, f"switches.{r.choice(['x', 'y'])}", 'fault = "broken-wire"'),
        r"[XY] endstop",
    ),
    PlantedFault(
        "heaters exchanged",
        lambda t, r: (
            _swap(t, 'H1 = "hotend"', 'H2 = "bed"')
            .replace('H2 = "bed"', 'H1 = "bed"', 1)
            .replace('H1 = "hotend"', 'H2 = "hotend"', 1)
        ),
        r"heaters\.(hotend|bed)\.socket|each other",
    ),
    PlantedFault("a heater that is dead", lambda t, r: t + DEAD.format(r.choice(["hotend", "bed"])), r"hotend|bed"),
    PlantedFault(
        "fans exchanged",
        lambda t, r: _once(_once(t, 'F1 = "part"', 'F1 = "board"'), 'F3 = "board"', 'F3 = "part"'),
        r"fans\.\w+\.socket",
    ),
    PlantedFault(
        "a motor turned round",
        lambda t, r: _in_table(t, f"motors.{r.choice(['M1', 'M2'])}", "reversed = true"),
        r"motors\.\w+\.reversed",
    ),
    PlantedFault(
        "lifts exchanged", lambda t, r: _swap(t, 'role = "z.left"', 'role = "z.back"'), r"axes\.z\.motors\.\w+\.socket"
    ),
    PlantedFault(
        "a wire broken at a motor",
        lambda t, r: _in_table(t, f"motors.{r.choice(['M1', 'M2', 'M3', 'M6'])}", "open = true"),
        r"motor|turned|wire",
    ),
    PlantedFault("another pulley or screw", _length, r"steps_per_mm|pulley_teeth|screw_lead_mm"),
    PlantedFault(
        "a switch that was moved",
        lambda t, r: re.sub(r"at_mm = -4\.1", f"at_mm = {float(r.uniform(-12, -5.5)):.1f}", t),
        r"axes\.x\.(minimum|maximum)_mm|X did not find its end",
    ),
)
DEAD = '\n[[events]]\nkind = "heater-dead"\nof = "{}"\nat_s = 0\n'


def good_text() -> str:
    """The scenario that faults are planted in: wires, switches, fans and ends as its machine file says."""
    from ublet.benchmark.wired import well_wired
    from ublet.session.library import scenario_path

    text = well_wired(scenario_path("tern-280").read_text(encoding="utf-8"))
    for before, after in (
        ('F2 = "board"\nF3 = "hotend"', 'F2 = "hotend"\nF3 = "board"'),
        ("at_mm = -5.2", "at_mm = -4.1"),
    ):
        text = _once(text, before, after)
    return text


def faults(each: int, good: int) -> dict[str, Any]:
    """Machines with each fault, and machines without one: how many of each."""
    planted = [(fault, seed) for fault in FAULTS for seed in range(each)]
    unnamed: list[str] = []
    text = good_text()
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as folder:
        for fault, seed in planted:
            random = np.random.default_rng([seed, FAULTS.index(fault)])
            named, said = _walked(Path(folder), fault.plant(text, random), seed + 1)
            if not re.search(fault.names_it, named):
                unnamed.append(f"{fault.name}, seed {seed}: {said[:160]}")
        accused = []
        for seed in range(good):
            named, _ = _walked(Path(folder), text, 100 + seed)
            if named.strip():
                accused.append(f"seed {seed}: {named[:160]}")
    count = len(planted)
    short = [f"named {count - len(unnamed)} of {count}"] if len(unnamed) > (1 - LEAST) * count else []
    short += [f"accused without a fault: {len(accused)} of {good}"] if accused else []
    return {
        "planted": count,
        "named": count - len(unnamed),
        "not_named": unnamed,
        "good": good,
        "accused": accused,
        "fell_short": short,
    }


def _walked(folder: Path, text: str, seed: int) -> tuple[str, str]:
    """What the route named on a machine, in a line for each, and what it said in all."""
    from ublet.session.commissioning import commission
    from ublet.session.library import DATA

    shutil.copytree(DATA / "machines", folder / "machines", dirs_exist_ok=True)
    (folder / "scenarios").mkdir(exist_ok=True)
    scenario = folder / "scenarios" / "faulted.toml"
    scenario.write_text(text, encoding="utf-8")
    report = commission(scenario, seed, lambda progress: None, until=UNTIL)
    mended = [change["setting"] for change in report["mended"] if "setting" in change]
    failed = [row["why"] for row in report["stations"] if row["outcome"] != "proven"]
    named = "\n".join([*mended, *failed])
    return named, " ".join([named, *report["open"][:2]])
