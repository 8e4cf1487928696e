"""Checking a machine file for the command line: what to print, and whether it is good."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path

from ublet.core.machine.check import check_text
from ublet.session.document import read_text, with_parts
from ublet.session.library import boards_for


def check_report(file: Path, as_json: bool) -> tuple[str, bool]:
    """All errors and warnings as lines, or as one JSON object; and whether the file can be used.

    Raises:
        DocumentError: it cannot be read. BoardFileError: a board file of your own has errors.
    """
    text = read_text(file)
    checked = with_parts(check_text(text, boards_for(file.parent)), text, file.parent)
    good = not checked.errors
    if as_json:
        problems = [{"file": str(file), **asdict(problem)} for problem in checked.problems]
        return json.dumps({"file": str(file), "good": good, "problems": problems}, ensure_ascii=True), good
    lines = [f"{problem.severity}: {problem.sentence(str(file))}" for problem in checked.problems]
    return "\n".join(lines) or f"{file}: good", good
