"""Trials of the leg Wire that concern switches: every endstop and the probe, pressed by hand."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ublet.core.machine.schema import MachineFile
from ublet.core.motion.inputs import Pressed, Verdict, input_words, judge, mends
from ublet.core.settings import Part
from ublet.core.trial import Bench, Finding, Need, Option, Progress, Question, TrialFailed, TrialResult, TrialSpec

SETTLE_S = 0.5
"""Time for a level to arrive after the builder has answered, s."""

PIN_S = 1.0


class NoParameters(Part):
    """Nothing to choose."""


async def inputs_by_hand(bench: Bench, aim: NoParameters) -> TrialResult:
    """Each switch in turn, pressed, held and let go, while every input is watched."""
    names = declared_inputs(bench.machine)
    missing = [name for name in names if name not in bench.inputs()]
    if not names or missing:
        raise TrialFailed(
            f"The board does not report {', '.join(missing) or 'any input'}: write the machine file to it first."
        )
    verdicts: dict[str, Verdict] = {}
    for number, name in enumerate(names):
        bench.progress(Progress(f"{input_words(name)}", number / len(names), None, f"{number + 1} of {len(names)}"))
        verdicts[name] = judge(name, await _press(bench, name))
    paths = [f"{name}.{key}" for name in names for key in ("socket", "normally_closed")]
    proposals = mends(verdicts, {path: bench.setting(path) for path in paths})
    findings = tuple(Finding(f"{name} edges", float(v.edges), None, "") for name, v in verdicts.items())
    bad = [verdict for verdict in verdicts.values() if not verdict.good]
    if not bad:
        bounces = [v.words for v in verdicts.values() if v.edges > 2]
        why = f"{len(names)} inputs follow the hand. {' '.join(bounces)}".strip()
        return TrialResult("proven", why, {}, findings)
    option = Option("mend", "then press them again", proposals, {})
    why = " ".join(verdict.words for verdict in bad)
    return TrialResult("failed", why, {}, findings, (option,) if proposals else (), "mend" if proposals else "")


async def _press(bench: Bench, name: str) -> Pressed | None:
    words = input_words(name)
    with_pin = name == "probe" and bench.machine.probe is not None and bench.machine.probe.kind == "pin"
    if with_pin:
        await bench.pin(True)
        await bench.rest(PIN_S)
        seen = await bench.ask(
            Question("The probe's pin was told to come down. Is it down?", ("yes", "no"), ("look", "pin"))
        )
        if seen == "no":
            await bench.pin(False)
            return None
    await bench.rest(SETTLE_S)
    before = bench.inputs()
    inductive = name == "probe" and bench.machine.probe is not None and bench.machine.probe.kind == "inductive"
    how = "Hold a piece of metal under the probe" if inductive else f"Press the {words} and hold it"
    part = name.rpartition(".")[2]
    press = Question(f"{how}.", ("held", "out of reach"), ("press", part))
    async with bench.by_hand(press, Question(f"Let the {words} go.", ("let go",), ("let go", part))) as answer:
        if answer == "held":
            await bench.rest(SETTLE_S)
            held = bench.inputs()
    if answer != "held":
        if with_pin:
            await bench.pin(False)
        return None
    await bench.rest(SETTLE_S)
    after = bench.inputs()
    if with_pin:
        await bench.pin(False)
        await bench.rest(PIN_S)
    return Pressed(before, held, after)


def declared_inputs(machine: MachineFile) -> tuple[str, ...]:
    """The inputs of a machine: its endstops, and a probe that has a signal."""
    probe = ("probe",) if machine.probe is not None and machine.probe.socket is not None else ()
    return (*(f"endstops.{name}" for name in machine.endstops), *probe)


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    count = len(declared_inputs(machine))
    return (Need(f"{count} inputs declared", count > 0),)


def _announce(machine: MachineFile, aim: Part) -> str:
    probe = machine.probe
    pin = " The probe's pin comes down and goes up." if probe is not None and probe.kind == "pin" else ""
    return f"You press each of {len(declared_inputs(machine))} switches by hand.{pin} No motor turns, nothing heats."


def _depends(aim: Part, known: Mapping[str, Any]) -> tuple[str, ...]:
    return tuple(
        path
        for path in known
        if path.startswith(("endstops.", "probe.")) and path.endswith((".socket", "normally_closed"))
    )


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "inputs-by-hand",
        "inputs by hand",
        "Every endstop and the probe pressed by hand: polarity, broken wires, mixed-up plugs, bounces.",
        NoParameters,
        inputs_by_hand,
        _announce,
        _depends,
        _needs,
        verify="inputs-by-hand",
        mends=True,
        asks=lambda aim: True,
    ),
)
