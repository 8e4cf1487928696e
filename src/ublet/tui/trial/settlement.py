"""The settlement: what was found, which setting it would change, what is on the board now, and the keys for it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from ublet.core.run import Option, TrialResult
from ublet.core.typed import shown_value
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink

SETTING_COLUMNS, VALUE_COLUMNS = 34, 12


def key_words(text: Text, key: str, words: str) -> None:
    """A key, and what it does."""
    text.append(key, Ink.focus)
    text.append(f" {words}", Ink.text)


def outcome_line(result: TrialResult) -> Text:
    """How a result ended, and why."""
    good = result.outcome == "proven"
    return Text(f"{'✓' if good else '✗'} {result.why}\n", Ink.good if good else Ink.stop)


def option_line(options: Sequence[Option], chosen: Option) -> Text:
    """Which of several ways would be kept."""
    text = Text().append("↑↓ ", Ink.focus)
    for option in options:
        here = option.name == chosen.name
        text.append(f"{'▸ ' if here else '  '}{option.name}   ", f"bold {Ink.proposal}" if here else Ink.dim)
    text.append("\n")
    return text


def proposal_table(session: Session, option: Option) -> Text:
    """Each setting that the option would change: on the board now, proposed, and what that is expected to do."""
    text = Text()
    text.append(f"{'  setting':<{SETTING_COLUMNS}}{'on the board':>{VALUE_COLUMNS}}", Ink.quiet)
    text.append(f"{'proposed':>{VALUE_COLUMNS}}   expected effect\n", Ink.quiet)
    for proposal in option.proposals:
        if proposal.before == proposal.after:
            continue  # it goes with the others, and stays as it is
        now = session.live(proposal.setting)
        kept = now == proposal.after
        text.append(f"  {proposal.setting:<{SETTING_COLUMNS - 2}}", Ink.text)
        text.append(f"{shown_value(now):>{VALUE_COLUMNS}}", Ink.dim)
        text.append(f"{'kept' if kept else shown_value(proposal.after):>{VALUE_COLUMNS}}", f"bold {Ink.proposal}")
        text.append(f"   {proposal.effect}\n", Ink.dim)
    return text
