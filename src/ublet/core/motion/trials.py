"""Trials of the leg Wire that concern switches: every endstop and the probe, pressed by hand."""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.acts import PressSwitch, ReleaseSwitch
from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.inputs import InputVerdict, Pressed, input_words, judge, judge_wheel, mends
from ublet.core.observations import LookAtPin
from ublet.core.questions import Confirm, Question
from ublet.core.remedies import WRITE
from ublet.core.remedy import ByHand, StartAgain
from ublet.core.run import Finding, Option, Progress, Stream, TrialFailed, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import Need, TrialSpec, facts
from ublet.core.trial_times import TrialTimes

SETTLE_S = 0.5
"""Time for a level to arrive after the builder has answered, s."""

PIN_S = 1.0


class NoParameters(Part):
    """Nothing to choose."""


async def inputs_by_hand(bench: Bench, aim: NoParameters) -> TrialResult:
    """Each switch in turn, pressed, held and let go, while every input is watched."""
    names = declared_inputs(bench.machine)
    missing = [name for name in names if name not in bench.probe.inputs()]
    if not names or missing:
        raise TrialFailed(
            f"The board does not report {', '.join(missing) or 'any input'}: write the machine file to it first.", WRITE
        )
    verdicts: dict[str, InputVerdict] = {}
    for number, name in enumerate(names):
        bench.progress(Progress(f"{input_words(name)}", number / len(names), None, f"{number + 1} of {len(names)}"))
        pressed = await _press(bench, name)
        turns = name == "filament" and bench.machine.filament is not None and bench.machine.filament.kind == "wheel"
        verdicts[name] = judge_wheel(name, pressed) if turns else judge(name, pressed)
        _note(bench, number, pressed)
    paths = [f"{name}.{key}" for name in names for key in ("socket", "normally_closed")]
    proposals = mends(verdicts, {path: bench.settings.shown(path) for path in paths})
    findings = tuple(
        Finding("edges", float(v.edges), subject={"input": name.rpartition(".")[2]}, words=f"{input_words(name)} edges")
        for name, v in verdicts.items()
    )
    bad = [verdict for verdict in verdicts.values() if not verdict.good]
    if not bad:
        bounces = [v.words for v in verdicts.values() if v.edges > 2]
        why = f"{len(names)} inputs follow the hand. {' '.join(bounces)}".strip()
        return TrialResult("proven", why, {}, findings)
    option = Option("mend", "then press them again", proposals, {})
    why = " ".join(verdict.words for verdict in bad)
    wired = () if proposals else (ByHand("check plug, wire and switch of each that is named"), StartAgain())
    kept = (option,) if proposals else ()
    return TrialResult("failed", why, {}, findings, kept, "mend" if proposals else "", wired)


def _note(bench: Bench, number: int, pressed: Pressed | None) -> None:
    """Every input as it read while one was worked: before, held, after."""
    moments = (pressed.before, pressed.held, pressed.after) if pressed is not None else ()
    for moment, inputs in enumerate(moments):
        for input_name, state in enumerate(inputs.values()):
            row = (float(number), float(moment), float(input_name), float(state.triggered), float(state.edges))
            bench.record.row("levels", row)


async def _press(bench: Bench, name: str) -> Pressed | None:
    words = input_words(name)
    with_pin = name == "probe" and bench.machine.probe is not None and bench.machine.probe.kind == "pin"
    if with_pin:
        await bench.probe.pin(True)
        await bench.clock.rest(PIN_S)
        seen = await bench.builder.ask(
            Question("The probe's pin was commanded down. Is it down?", ("yes", "no"), LookAtPin())
        )
        if seen == "no":
            await bench.probe.pin(False)
            return None
    await bench.clock.rest(SETTLE_S)
    before = bench.probe.inputs()
    metal = name == "probe" and bench.machine.probe is not None and bench.machine.probe.senses_metal
    how = "Hold a piece of metal under the probe" if metal else f"Press the {words} and hold it"
    filament = bench.machine.filament
    if name == "filament" and filament is not None:
        how = "Pull the filament out of its sensor, or work its lever as if it were out"
        how = "Pull some centimetres of filament through its sensor" if filament.kind == "wheel" else how
    part = name.rpartition(".")[2]
    press = Confirm(f"{how}.", ("held", "out of reach"), PressSwitch(part))
    async with bench.builder.by_hand(
        press, Confirm(f"Let the {words} go.", ("let go",), ReleaseSwitch(part))
    ) as answer:
        if answer == "held":
            await bench.clock.rest(SETTLE_S)
            held = bench.probe.inputs()
    if answer != "held":
        if with_pin:
            await bench.probe.pin(False)
        return None
    await bench.clock.rest(SETTLE_S)
    after = bench.probe.inputs()
    if with_pin:
        await bench.probe.pin(False)
        await bench.clock.rest(PIN_S)
    return Pressed(before, held, after)


def declared_inputs(machine: MachineFile) -> tuple[str, ...]:
    """The inputs of a machine: its endstops, a probe that has a signal, and what sees the filament."""
    probe = ("probe",) if machine.probe is not None and machine.probe.socket is not None else ()
    filament = ("filament",) if machine.filament is not None else ()
    return (*(f"endstops.{name}" for name in machine.endstops), *probe, *filament)


def _needs(machine: MachineFile, aim: Part, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    count = len(declared_inputs(machine))
    return (Need(f"{count} inputs declared", count > 0),)


def _announce(machine: MachineFile, aim: Part) -> str:
    probe = machine.probe
    pin = " The probe's pin comes down and goes up." if probe is not None and probe.kind == "pin" else ""
    return f"You press each of {len(declared_inputs(machine))} switches by hand.{pin} No motor turns, nothing heats."


def _lasts(machine: MachineFile, aim: NoParameters, times: TrialTimes) -> float:
    return 2.0 * (len(machine.endstops) + (machine.probe is not None and machine.probe.kind != "nozzle"))


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "inputs-by-hand",
        "inputs by hand",
        "Every endstop and the probe pressed by hand: polarity, broken wires, mixed-up plugs, bounces.",
        NoParameters,
        inputs_by_hand,
        (Stream("levels", ("pressed", "moment", "input", "triggered", "edges"), ("", "", "", "", ""), number="i4"),),
        _announce,
        _needs,
        verify="inputs-by-hand",
        mends=True,
        asks=lambda aim: True,
        lasts=_lasts,
        uses=lambda machine: ("probe",) if machine.probe is not None and machine.probe.kind == "pin" else (),
        facts=facts("plugs"),
    ),
)
