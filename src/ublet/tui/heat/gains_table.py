"""The settlement of a tuned heater: the gains to choose from, what each is predicted to do, what was measured."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text

from ublet.core.heat.candidates import AS_FOUND
from ublet.core.run import Option, TrialResult
from ublet.core.units import duration, show
from ublet.tui.frame.theme import Ink

COLUMNS = (("Kp /°C", 9), ("Ki /(°C·s)", 12), ("Kd s/°C", 9), ("overshoot", 11), ("settled", 13), ("ripple", 10))
NAME_COLUMNS = 16
TABLE_COLUMNS = 2 + NAME_COLUMNS + sum(columns for _, columns in COLUMNS) + 3
ROOMY = 96
"""From this width on the gains themselves and a note have room."""


@dataclass(frozen=True)
class GainOptions:
    """What there is to choose from. live: the option whose gains are on the board; measured: by a step, with these."""

    options: Sequence[Option]
    chosen: Option | None
    recommended: str
    live: str
    measured: TrialResult | None


def gains_table(gains: GainOptions, width: int) -> Text:
    """A heading, a line an option, and one for what was measured."""
    text = Text(no_wrap=True)
    shown = COLUMNS if width >= ROOMY else COLUMNS[3:]
    text.append(" " * 2 + f"{'gains':<{NAME_COLUMNS}}", Ink.dim)
    for title, columns in shown:
        text.append(f"{title:>{columns}}", Ink.dim)
    text.append("   predicted\n" if width >= ROOMY else "\n", Ink.dim)
    for option in gains.options:
        chosen = option is gains.chosen
        ink = f"bold {Ink.proposal}" if chosen else Ink.dim if option.name == AS_FOUND else Ink.text
        text.append("▸ " if chosen else "  ", ink)
        mark = "● " if option.name == gains.live else ""
        text.append(f"{mark + option.name:<{NAME_COLUMNS}}", ink)
        for (_, columns), cell in zip(shown, _predicted(option)[-len(shown) :], strict=True):
            text.append(f"{cell:>{columns}}", ink)
        text.append(f"   {_note(option, gains, width - TABLE_COLUMNS)}\n", ink if chosen else Ink.dim)
    if gains.measured is not None:
        good = gains.measured.outcome == "proven"
        ink = f"bold {Ink.good if good else Ink.stop}"
        text.append(f"{'✓' if good else '✗'} {'measured':<{NAME_COLUMNS}}", ink)
        for (_, columns), cell in zip(shown, ["", "", "", *_measured(gains.measured)][-len(shown) :], strict=True):
            text.append(f"{cell:>{columns}}", ink)
        text.append("   by a step from cold\n", Ink.dim)
    return text


def _note(option: Option, gains: GainOptions, room: int) -> str:
    """Whether it is live, and recommended; what it is, where there is room for that."""
    notes = []
    if option.name == gains.live:
        notes.append("● live now")
    if option.name == gains.recommended:
        notes.append("recommended")
    whole = " · ".join([option.note, *notes])
    return whole if len(whole) <= room else " · ".join(notes)


def _predicted(option: Option) -> list[str]:
    figures = option.figures
    settle = figures.get("settle_s")
    return [
        *(show(figures[key] or 0.0, digits=3) if key in figures else "–" for key in ("kp", "ki", "kd")),
        f"+{figures.get('overshoot_c') or 0.0:.1f} °C",
        duration(settle) if settle is not None else "never",
        f"{figures.get('ripple_c') or 0.0:.1f} °C",
    ]


def _measured(result: TrialResult) -> list[str]:
    overshoot, settle, ripple = (result.finding(name) for name in ("overshoot", "settle", "ripple"))
    return [
        f"+{overshoot.value:.1f} °C" if overshoot else "–",
        duration(settle.value) if settle else "never",
        f"{ripple.value:.1f} °C" if ripple else "–",
    ]
