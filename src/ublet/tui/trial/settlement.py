"""The settlement: what was found, which setting it would change, what is on the board now, and the keys for it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from ublet.core.remedy import Remedy
from ublet.core.run import Option, TrialResult
from ublet.core.typed import shown_value
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink

SETTING_COLUMNS, VALUE_COLUMNS = 34, 12
MOST_ROWS = 3
"""More proposals than this are one row while the result is folded."""


def key_words(text: Text, key: str, words: str) -> None:
    """A key, and what it does."""
    text.append(key, Ink.focus)
    text.append(f" {words}", Ink.text)


def folded(why: str, columns: int) -> str:
    """The beginning of a reason in so many columns, cut at a sentence's end where there is one; all of it for 0."""
    if not columns or len(why) <= columns:
        return why
    room = columns - 2
    end = why.rfind(". ", 0, room)
    return f"{why[: end + 1] if end > room // 3 else why[:room].rpartition(' ')[0]} …"


def outcome_line(result: TrialResult, columns: int = 0, cold: str = "") -> Text:
    """How a result ended, and why: good only where nothing is left to be done. columns: it is folded to so many; cold:
    how cold the bed was, for what prints have warm.
    """
    good = result.outcome == "proven"
    mark, ink = ("✗", Ink.stop) if not good else ("!", Ink.focus) if result.remedies else ("✓", Ink.good)
    text = Text(
        f"{mark} {f'{cold[0].upper()}{cold[1:]}. ' if cold else ''}{folded(result.why, columns - 2 if columns else 0)}",
        ink,
    )
    if folded(result.why, columns - 2 if columns else 0) != result.why:
        text.append("  space", Ink.focus)
        text.append(" shows all of it", Ink.dim)
    return text.append("\n")


def remedy_lines(remedies: Sequence[Remedy], reachable: Remedy | None, unfolded: bool) -> Text:
    """The ways out, the one that a key leads to with its key; folded only that one and the first."""
    text = Text()
    shown = remedies if unfolded else [remedy for remedy in remedies[:1] if remedy is not reachable]
    shown = [*shown, *([reachable] if reachable is not None and not unfolded else [])]
    for remedy in shown:
        text.append("G" if remedy is reachable else "→", Ink.focus if remedy is reachable else Ink.quiet)
        text.append(f" {remedy.words}\n", Ink.text)
    return text


def option_line(options: Sequence[Option], chosen: Option) -> Text:
    """Which of several ways would be kept."""
    text = Text().append("↑↓ ", Ink.focus)
    for option in options:
        here = option.name == chosen.name
        text.append(f"{'▸ ' if here else '  '}{option.name}   ", f"bold {Ink.proposal}" if here else Ink.dim)
    text.append("\n")
    return text


def common_table(paths: Sequence[str]) -> str:
    """The table of the machine file in which all of these settings stand; empty: there is none.

    >>> common_table(["probe.coil.drive_ma", "probe.coil.curve", "probe.kind"])
    'probe'
    """
    root: list[str] = []
    for parts in zip(*(path.split(".")[:-1] for path in paths), strict=False):
        if len(set(parts)) > 1:
            break
        root.append(parts[0])
    return ".".join(root)


def proposal_table(session: Session, option: Option, unfolded: bool = True) -> Text:
    """Each setting that the option would change: on the board now, proposed, and what that is expected to do. Many
    that belong together are one row while it is folded.
    """
    text = Text()
    changes = [proposal for proposal in option.proposals if proposal.before != proposal.after]
    text.append(f"{'  setting':<{SETTING_COLUMNS}}{'on the board':>{VALUE_COLUMNS}}", Ink.quiet)
    text.append(f"{'proposed':>{VALUE_COLUMNS}}   expected effect\n", Ink.quiet)
    if len(changes) > MOST_ROWS and not unfolded:
        root = common_table([proposal.setting for proposal in changes])
        kept = sum(session.live(proposal.setting) == proposal.after for proposal in changes)
        together = f"{len(changes)} settings{f' below {root}' if root else ''}"
        text.append(f"  {together:<{SETTING_COLUMNS - 2 + VALUE_COLUMNS}}", Ink.text)
        text.append(f"{'kept' if kept == len(changes) else 'together':>{VALUE_COLUMNS}}", f"bold {Ink.proposal}")
        text.append(f"   {changes[0].effect}; ", Ink.dim)
        text.append("space", Ink.focus)
        return text.append(" opens them\n", Ink.dim)
    for proposal in changes:
        now = session.live(proposal.setting)
        kept_now = now == proposal.after
        text.append(f"  {proposal.setting:<{SETTING_COLUMNS - 2}}", Ink.text)
        text.append(f"{shown_value(now):>{VALUE_COLUMNS}}", Ink.dim)
        text.append(f"{'kept' if kept_now else shown_value(proposal.after):>{VALUE_COLUMNS}}", f"bold {Ink.proposal}")
        text.append(f"   {proposal.effect}\n", Ink.dim)
    return text
