"""What ships with the package: boards, machine files, scenarios."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib import resources
from pathlib import Path

from ublet.core.machine.boards import BoardKind, Boards

DATA = Path(str(resources.files("ublet") / "data"))
DEMOS = {"tern": "tern-280", "wren": "wren-180"}
"""Demonstration machines: short name and file stem."""


@cache
def boards() -> Boards:
    """The known kinds of board by name."""
    kinds = [
        BoardKind.model_validate(tomllib.loads(path.read_text(encoding="utf-8")))
        for path in sorted((DATA / "boards").glob("*.toml"))
    ]
    return {kind.name: kind for kind in kinds}


def machine_path(stem: str) -> Path:
    """A shipped machine file."""
    return DATA / "machines" / f"{stem}.toml"


def scenario_path(stem: str) -> Path:
    """A shipped scenario."""
    return DATA / "scenarios" / f"{stem}.toml"
