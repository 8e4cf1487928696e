"""How a print begins and ends on an open machine: its steps with the mesh that fits now, written, and the builder's own
programs looked through for what they miss.
"""

from __future__ import annotations

from ublet.core.level.mesh.print_order import ABSOLUTE, PrintStep, end_of_print, missing_from, start_of_print
from ublet.core.motion.iso6983 import iso6983, plain
from ublet.core.motion.program import Program
from ublet.session.document import Document
from ublet.session.meshes import at_start, taken
from ublet.session.session import Session

START, END = "print-start", "print-end"
UNKNOWN = "no mesh was taken of this machine yet: probe one"


def steps_of(document: Document, which: str, session: Session | None, material: str = "") -> tuple[PrintStep, ...]:
    """The steps of one of both. session: of the machine, where it has a ledger that knows its meshes."""
    machine = document.machine
    if which == END:
        return end_of_print(machine)
    name = material or next(iter(machine.materials), "")
    best, why = at_start(session, taken(session), name) if session is not None else (None, UNKNOWN)
    return start_of_print(machine, name, best.name if best is not None else "", why)


def missing(document: Document, which: str, steps: tuple[PrintStep, ...]) -> tuple[str, list[str]]:
    """The builder's own program by its name, and what it lacks; no name: none is named."""
    own = document.machine.program
    name = own.start_file if which == START else own.end_file
    if not name:
        return "", []
    path = document.path.parent / name
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        return name, [f"{path} cannot be read ({getattr(error, 'strerror', None) or error})"]
    return name, missing_from(text, steps)


def written(document: Document, which: str, steps: tuple[PrintStep, ...]) -> str:
    """The steps as an ISO 6983 text: why each is there, the builder's own line or its motion."""
    own = document.machine.program.own()
    lines = [f"({which}: {len(steps)} steps, each with its reason)", ABSOLUTE]
    for number, step in enumerate(steps, start=1):
        lines.append(f"({number}. {plain(step.does)}: {plain(step.why)})")
        if step.own.strip():
            lines += step.own.strip().split("\n")
        elif step.segments or step.lines:
            lines += step.lines
            text = iso6983(Program(step.name, step.segments), {**own, "begin": "", "end": ""})
            lines += [line for line in text.splitlines()[1:] if not line.startswith(("G90", f"({step.name})"))]
        else:
            lines.append(f"(no standard word: write yours into program.{step.name.replace(' ', '_')})")
    return "\n".join(lines) + "\n"
