"""Write the table of settings from their declarations: ``settings_table.py OUT.md``."""

from __future__ import annotations

import sys
from pathlib import Path

from ublet.core.catalogue import TRIALS
from ublet.core.machine.schema import SETTINGS
from ublet.core.settings import Declaration

HEAD = """# Settings and trials

Made from the declarations by `make docs`; do not edit by hand. `*` stands for a name that you choose.

## Settings of the machine file

"""


def rows(declared: list[Declaration]) -> str:
    """A Markdown table of declarations."""
    lines = ["| setting | allowed | when left out | on the board | what it is |", "|---|---|---|---|---|"]
    for item in declared:
        default = "must be given" if item.required else "–" if item.default in (None, "") else f"{item.default}"
        lines.append(f"| `{item.path}` | {item.allowed()} | {default} | {'yes' if item.board else ''} | {item.help} |")
    return "\n".join(lines) + "\n"


def text() -> str:
    """The whole page."""
    page = HEAD + rows(list(SETTINGS)) + "\n## Trials\n"
    for spec in TRIALS.values():
        page += f"\n### `{spec.name}`\n\nStation: {spec.station}. {spec.summary}\n\n{rows(list(spec.declared()))}"
    return page


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(text(), encoding="utf-8")
