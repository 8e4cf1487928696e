"""Styles that stand in a `.tcss` file beside the pane they are for."""

from __future__ import annotations

from pathlib import Path


def style_beside(module: str) -> str:
    """The styles of the file that is called as the module (its ``__file__``), read when the module is."""
    return Path(module).with_suffix(".tcss").read_text(encoding="utf-8")
