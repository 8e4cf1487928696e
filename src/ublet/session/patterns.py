"""Patterns for a machine file: made, timed, written as a text or drawn."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ublet.core.extrude.advance_lines import LinesParameters, layout_of, lines_program
from ublet.core.extrude.advance_tower import AdvanceTowerParameters, tower_of, tower_program
from ublet.core.extrude.cube import cube_program
from ublet.core.extrude.cube_trials import CubeParameters
from ublet.core.extrude.retraction import RetractionParameters, pairs_of, posts_program
from ublet.core.level.mesh.first_layer import LayerShape
from ublet.core.level.mesh.first_layer_trials import program_of
from ublet.core.machine.effective import effective
from ublet.core.machine.schema import Axis, MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.iso6983 import iso6983
from ublet.core.motion.patterns import Stroke, square
from ublet.core.motion.program import Program, Timetable, must_be_inside, timetable
from ublet.core.run import TrialFailed
from ublet.core.shake.tower import ringing_tower
from ublet.core.trouble import Trouble
from ublet.session.document import Document

POST_LAYERS = RetractionParameters().layers

PatternMaker = Callable[[MachineFile], Program]
PATTERNS: dict[str, PatternMaker] = {
    "square": square,
    "first-layer": lambda machine: program_of(machine, LayerShape()),
    "first-layer-stripe": lambda machine: program_of(machine, LayerShape(tries="stripe")),
    "ringing-tower": ringing_tower,
    "advance-lines": lambda machine: lines_program(machine, layout_of(machine, LinesParameters())),
    "advance-tower": lambda machine: tower_program(machine, tower_of(machine, AdvanceTowerParameters())),
    "retraction": lambda machine: posts_program(machine, pairs_of(machine, RetractionParameters()), POST_LAYERS),
    "cube": lambda machine: cube_program(machine, CubeParameters().side_mm),
}
"""Known patterns by their word on the command line."""


class PatternError(Trouble):
    """A pattern cannot be made or written; the message says why."""


def made(kind: str, document: Document) -> Timetable:
    """A pattern for a machine, timed by the values of its file, from its lowest corner.

    Raises:
        PatternError: there is no such pattern, or the machine cannot make it.
    """
    if kind not in PATTERNS:
        raise PatternError(f"no pattern “{kind}”: allowed: {', '.join(PATTERNS)}")
    machine = document.machine
    try:
        program = PATTERNS[kind](machine)
    except (ValueError, TrialFailed) as error:
        raise PatternError(f"{document.path}: {error}") from error
    start = start_of(machine)
    limits = {axis: (part.minimum_mm, part.maximum_mm) for axis, part in _axes(machine).items()}
    if why := must_be_inside(program, start, limits):
        raise PatternError(f"{document.path}: {why}")
    return timetable(program, start, Caps(effective(machine), document.board.steps_per_s))


def start_of(machine: MachineFile) -> dict[str, float]:
    """Where a program is taken to begin: at the lowest corner, a little above the bed, mm."""
    return {axis: max(0.0, part.minimum_mm) + (10.0 if axis == "z" else 0.0) for axis, part in _axes(machine).items()}


def write(table: Timetable, machine: MachineFile, out: Path) -> None:
    """Write a program: ``.gcode`` as an ISO 6983 text, ``.svg`` and ``.pdf`` as a drawing.

    Raises:
        PatternError: another ending, or it cannot be written.
    """
    try:
        if out.suffix.lower() == ".gcode":
            out.write_text(iso6983(table.program, machine.program.own()), encoding="utf-8")
            return
        if out.suffix.lower() not in (".svg", ".pdf"):
            raise PatternError(f"-o {out.name}: a pattern is written as .gcode, .svg or .pdf")
        from ublet.figures.program import draw_program

        bed = (machine.bed.width_mm, machine.bed.depth_mm)
        draw_program(table.program, start_of(machine), bed, Stroke().width_mm, out)
    except OSError as error:
        raise PatternError(f"{out} cannot be written: {error.strerror or error}") from error


def _axes(machine: MachineFile) -> dict[str, Axis]:
    return {axis: getattr(machine.axes, axis) for axis in ("x", "y", "z")}
