"""Checking a machine file for the command line: what to print, and whether it is good."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path

from ublet.core.machine.check import check_text
from ublet.core.machine.lines import key_lines, line_of
from ublet.core.machine.problem import Problem, nearest
from ublet.core.machine.schema import MachineFile
from ublet.session.dialects import dialects_for
from ublet.session.document import read_text, with_parts
from ublet.session.library import boards_for


def check_report(file: Path, as_json: bool) -> tuple[str, bool]:
    """All errors and warnings as lines, or as one JSON object; and whether the file can be used.

    Raises:
        DocumentError: it cannot be read. BoardFileError: a board file of your own has errors.
    """
    text = read_text(file)
    checked = with_parts(check_text(text, boards_for(file.parent)), text, file.parent)
    every = [*checked.problems, *_of_dialect(checked.machine, text, file.parent)]
    good = not any(problem.severity == "error" for problem in every)
    if as_json:
        problems = [{"file": str(file), **asdict(problem)} for problem in every]
        return json.dumps({"file": str(file), "good": good, "problems": problems}, ensure_ascii=True), good
    lines = [f"{problem.severity}: {problem.sentence(str(file))}" for problem in every]
    return "\n".join(lines) or f"{file}: good", good


def _of_dialect(machine: MachineFile | None, text: str, folder: Path) -> list[Problem]:
    """What is wrong with the line language that the machine file names."""
    name = machine.board.dialect if machine is not None else ""
    if not name or (folder / name).is_file():
        return []
    line, known = line_of(key_lines(text), ("board", "dialect")), dialects_for(folder)
    if name not in known:
        near = nearest(name, known)
        mend = f"Did you mean “{near[0]}”?" if near else "Put its file into dialects/ beside the machine file."
        return [Problem(line, "board.dialect", f"“{name}”, which is no known dialect", ", ".join(known), mend)]
    if known[name].language is None:
        path = known[name].path
        why = f"“{name}”, whose file has {len(known[name].problems)} errors"
        return [Problem(line, "board.dialect", why, "a dialect without errors", f"See ublet dialect check {path}.")]
    return []
