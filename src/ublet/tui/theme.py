"""The two themes, soot (dark) and bone (light), and their colours by role."""

from __future__ import annotations

from dataclasses import dataclass

from textual.theme import Theme


@dataclass(frozen=True)
class Palette:
    """Colours by role: focus and live values, proven, stop and failure, proposal, text and secondary;
    quiet is for words that repeat, faint for lines in charts."""

    ground: str
    panel: str
    text: str
    dim: str
    faint: str
    quiet: str
    focus: str
    good: str
    stop: str
    proposal: str


SOOT = Palette(
    ground="#14130f",
    panel="#22201a",
    text="#e9e2d0",
    dim="#9a917c",
    faint="#5e594c",
    quiet="#7d7563",
    focus="#d8a548",
    good="#62a58e",
    stop="#cf5b3c",
    proposal="#6f8fae",
)
BONE = Palette(
    ground="#f1ebdc",
    panel="#e2d9c4",
    text="#24211a",
    dim="#6b634f",
    faint="#a79d86",
    quiet="#857b65",
    focus="#8a5a00",
    good="#2c6b57",
    stop="#a8381b",
    proposal="#3b5f82",
)
PALETTES = {"soot": SOOT, "bone": BONE}


def textual_theme(name: str, palette: Palette, dark: bool) -> Theme:
    """A Textual theme of a palette."""
    return Theme(
        name=name,
        primary=palette.focus,
        secondary=palette.proposal,
        accent=palette.focus,
        success=palette.good,
        warning=palette.focus,
        error=palette.stop,
        foreground=palette.text,
        background=palette.ground,
        surface=palette.ground,
        panel=palette.panel,
        dark=dark,
        variables={
            "dim": palette.dim,
            "faint": palette.faint,
            "footer-key-foreground": palette.focus,
            "footer-background": palette.panel,
            "footer-foreground": palette.text,
            "footer-description-foreground": palette.text,
            "footer-item-background": palette.panel,
            "block-cursor-background": palette.focus,
            "block-cursor-foreground": palette.ground,
            "border": palette.faint,
            "scrollbar": palette.faint,
            "scrollbar-hover": palette.dim,
            "scrollbar-active": palette.focus,
            "scrollbar-background": palette.panel,
            "scrollbar-background-hover": palette.panel,
            "scrollbar-background-active": palette.panel,
            "scrollbar-corner-color": palette.panel,
        },
    )


THEMES = (textual_theme("soot", SOOT, True), textual_theme("bone", BONE, False))
