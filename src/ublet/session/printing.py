"""A print of one's own on an open machine: the text read from its file, checked and timed by what is live."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO

from ublet.core.machine.effective import effective
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.print_plan import MeltLimits, PrintPlan, PrintSegments, plan_of, reader_for
from ublet.core.motion.print_text import TooMany
from ublet.core.motion.program import Program
from ublet.core.settings import Value, number_or
from ublet.core.trouble import Trouble
from ublet.core.units import duration, show
from ublet.core.words import counted
from ublet.session.patterns import start_of

LARGEST_BYTES = 400_000_000
"""A larger text is not read: its moves would fill the memory."""

SNIFFED_BYTES = 4096

BYTE_MARKS = {b"\xff\xfe": "UTF-16", b"\xfe\xff": "UTF-16"}


class PrintError(Trouble):
    """A print text cannot be read; the message says why, and what would be."""


def read_plan(
    path: Path,
    machine: MachineFile,
    live: Mapping[str, Value],
    steps_per_s: float,
    material: str = "",
    start: Mapping[str, float] | None = None,
    on_progress: Callable[[float], None] = lambda fraction: None,
) -> PrintPlan:
    """Read a text whole, check it and time it.

    Args:
        live: settings by path, of the board or of the file. material: which is loaded; empty: the first. start: where
            the nozzle stands, mm; left out: at the lowest corner, above the bed.

    Raises:
        PrintError: it cannot be read, is no text, or is too large; there is no such material.
    """
    melt = melt_limits(machine, live, material)
    here = {**start_of(machine), **(start or {})}
    at = (here["x"], here["y"], here["z"])
    try:
        size = path.stat().st_size
        if size > LARGEST_BYTES:
            raise PrintError(
                f"{path} has {size / 1e6:,.0f} MB: a print text may have {LARGEST_BYTES / 1e6:g} MB at the most. Split "
                "it, or let the program that makes it write coarser curves."
            )
        with path.open("rb") as file:
            _must_be_text(path, file)
            text = reader_for(machine, at).read(_lines(file, size, on_progress))
    except OSError as error:
        raise PrintError(f"{path} cannot be read: {error.strerror or error}") from error
    except TooMany as error:
        raise PrintError(f"{path}: {error}") from error
    return plan_of(text, machine, Caps(live, steps_per_s), at, melt)


def melt_limits(machine: MachineFile, live: Mapping[str, Value], material: str) -> MeltLimits:
    """What the loaded material needs and can take.

    Raises:
        PrintError: there is no such material.
    """
    name = material or next(iter(machine.materials), "")
    if name and name not in machine.materials:
        raise PrintError(f"no material “{name}” is declared; known: {', '.join(machine.materials)}")
    least = number_or(live.get("extruder.least_c"), 0.0)
    if not name:
        return MeltLimits("the filament", least, None, least)
    declared = machine.materials[name]
    return MeltLimits(name, max(least, declared.least_nozzle_c), declared.largest_flow_mm3_s, declared.nozzle_c)


def plan_for_file(
    path: Path,
    machine: MachineFile,
    steps_per_s: float,
    material: str = "",
    on_progress: Callable[[float], None] = lambda f: None,
) -> PrintPlan:
    """The same by the values of a machine file alone, where no board is linked.

    Raises:
        PrintError: see ``read_plan``.
    """
    return read_plan(path, machine, effective(machine), steps_per_s, material, None, on_progress)


def print_report(plan: PrintPlan) -> dict[str, Any]:
    """A plan as the JSON that scripts rely on."""
    return {
        "lines": plan.text.lines,
        "layers": len(plan.layers),
        "duration_s": round(plan.duration_s, 3),
        "filament_mm": round(plan.filament_mm, 3),
        **{f"{axis}_mm": list(plan.span_mm.get(axis, (0.0, 0.0))) for axis in "xyz"},
        "problems": [{"line": problem.line, "text": problem.text} for problem in (*plan.problems, *plan.advice)],
        "left_out": dict(plan.text.left_out),
        "fits": plan.fits,
        "capped": dict(plan.capped),
        "largest_flow_mm3_s": round(plan.largest_flow_mm3_s, 3),
        "layer_mm": [layer.z_mm for layer in plan.layers[:2]],
    }


def print_words(plan: PrintPlan) -> list[str]:
    """A plan in words, a line each: what it is, what is wrong with it, what is left out, what is slower than asked."""
    spans = ", ".join(f"{axis.upper()} {low:g} to {high:g}" for axis, (low, high) in plan.span_mm.items())
    words = [
        f"{counted(plan.text.lines, 'line')}, {counted(len(plan.layers), 'layer')}, "
        f"{counted(len(plan.text.moves), 'move')}: about "
        f"{duration(plan.duration_s)}, {show(plan.filament_mm / 1000, 'm', 3)} of filament, up to "
        f"{plan.largest_flow_mm3_s:.1f} mm³/s",
        f"  {spans} mm" if spans else "  nothing moves",
    ]
    words += [f"  ✗ line {problem.line}: {problem.text}" for problem in plan.problems]
    words += [f"  ! line {problem.line}: {problem.text}" for problem in plan.advice]
    words += [
        f"  slower than asked for in {counted(count, 'move')}: {setting}" for setting, count in plan.capped.items()
    ]
    if plan.text.left_out:
        listed = ", ".join(f"{word} ({count})" for word, count in sorted(plan.text.left_out.items()))
        words.append(f"  left out, unless [program.words] says what they do: {listed}")
    return words


def _must_be_text(path: Path, file: BinaryIO) -> None:
    head = file.read(SNIFFED_BYTES)
    file.seek(0)
    for mark, encoding in BYTE_MARKS.items():
        if head.startswith(mark):
            raise PrintError(f"{path} is a text in {encoding}: save it as UTF-8")
    if b"\0" in head:
        raise PrintError(f"{path} is no text: it has zero bytes. A print is a text of ISO 6983, a line each move.")


def _lines(file: BinaryIO, size: int, on_progress: Callable[[float], None]) -> Iterator[bytes]:
    """The lines, with how far it is every now and then; without the mark that some programs put before UTF-8."""
    gone = 0
    for number, line in enumerate(file):
        if not number and line.startswith(b"\xef\xbb\xbf"):
            line = line[3:]
        gone += len(line)
        if number % 20_000 == 0:
            on_progress(gone / max(size, 1))
        yield line


def draw_layer(plan: PrintPlan, layer: int, machine: MachineFile, out: Path) -> None:
    """Draw one layer, from 1, over the bed (SVG or PDF).

    Raises:
        PrintError: there is no such layer; another ending; it cannot be written.
    """
    from ublet.core.motion.patterns import Stroke
    from ublet.figures.program import draw_program

    if not 1 <= layer <= len(plan.layers):
        raise PrintError(f"layer {layer}: the print has {len(plan.layers)}")
    first = plan.layers[layer - 1].first
    last = plan.layers[layer].first if layer < len(plan.layers) else len(plan.text.moves)
    before = plan.text.moves.end_mm[first - 1].tolist() if first else list(plan.start_mm)
    program = Program(f"layer {layer}", PrintSegments(plan)[first:last], f"Z {plan.layers[layer - 1].z_mm:g} mm")
    start = dict(zip("xyz", before, strict=True))
    try:
        draw_program(program, start, (machine.bed.width_mm, machine.bed.depth_mm), Stroke().width_mm, out)
    except (ValueError, OSError) as error:
        raise PrintError(f"-o {out}: {error}") from error
