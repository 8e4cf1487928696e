"""The two themes, soot (dark) and bone (light), and the inks: colours by what they mean, named in every text."""

from __future__ import annotations

import tomllib
from dataclasses import asdict, dataclass

from rich.theme import Theme as InkTheme
from textual.theme import Theme

from ublet.session.places import preferences_path


class Ink:
    """Names of styles for what is written. A text names what a word means; the app's theme says how that looks.

    focus: where the keys go, and live values; good: proven; stop: failure and HALT; proposal: not decided yet;
    text, dim: first and second; quiet: words that repeat; faint: lines in charts; ground, panel: behind it all.
    Before each may stand ``bold``; ``bold ink.ground on`` goes before focus and stop.
    """

    text = "ink.text"
    dim = "ink.dim"
    faint = "ink.faint"
    quiet = "ink.quiet"
    focus = "ink.focus"
    good = "ink.good"
    stop = "ink.stop"
    proposal = "ink.proposal"
    ground = "ink.ground"
    panel = "ink.panel"


@dataclass(frozen=True)
class Palette:
    """Colours by role, as in ``Ink``."""

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


def theme_kept() -> str:
    """The theme that the preferences name, read without loading what reads the others: the first frame waits for it."""
    try:
        kept = tomllib.loads(preferences_path().read_text(encoding="utf-8")).get("theme")
    except (OSError, ValueError):
        kept = None
    return kept if kept in PALETTES else "soot"


def ink_theme(name: str) -> InkTheme:
    """How the inks look in a theme, for the console that draws texts."""
    colours = {f"ink.{role}": colour for role, colour in asdict(PALETTES[name]).items()}
    styles = {**colours, **{f"bold {ink}": f"bold {colour}" for ink, colour in colours.items()}}
    for ink, ground in (("bold ink.ground", "ink.focus"), ("bold ink.ground", "ink.stop"), ("ink.dim", "ink.panel")):
        styles[f"{ink} on {ground}"] = f"{styles[ink]} on {colours[ground]}"
    return InkTheme(styles, inherit=False)


def textual_theme(name: str, palette: Palette, dark: bool) -> Theme:
    """A theme of the same colours for styles: every role is a variable there, too."""
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
            "quiet": palette.quiet,
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
