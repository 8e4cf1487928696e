"""The bench of inputs: every switch pressed by hand, its level drawn over the last half minute."""

from __future__ import annotations

from rich.text import Text

from ublet.core.motion.inputs import input_words
from ublet.core.motion.trials import declared_inputs
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, spaced
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

HALF_MINUTE_S = 30.0
NAME_COLUMNS = 24
TALLEST = 6
"""A trace is at most so many lines high."""


class InputsBench(TrialBench):
    """Switches pressed by hand."""

    kind = "inputs"
    title = "Inputs by hand"
    why = "a faulty endstop lets an axis run into its end"

    def picture(self) -> Picture:
        """Levels over the last half minute."""
        return inputs_picture


def inputs_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """A level trace for each input, the newest at the right: raised where it was triggered."""
    names = declared_inputs(session.document.machine)
    tall = max(1, min(TALLEST, (height - 2) // max(1, len(names)) - 1))
    head = Text("the last half minute, now at the right: raised is triggered", Ink.dim, no_wrap=True)
    blocks = [_trace(session, name, max(10, width - NAME_COLUMNS - 2), tall) for name in names]
    return Text("\n\n" if height > 20 else "\n").join([head, spaced(blocks, height - 2, 2)])


def _trace(session: Session, name: str, columns: int, tall: int) -> Text:
    """One input: its name, its level now, how often it changed, its socket; and its trace beside that."""
    connection, channel = session.connection, f"inputs.{name}"
    about, samples = connection.about, list(connection.samples)
    if about is None or channel not in about.channels or not samples:
        return Text(f"{input_words(name):<{NAME_COLUMNS}}not reported by the board", Ink.dim)
    at = 2 + about.channels.index(channel)
    level, edges = bool(connection.channel(channel)), int(connection.channel(f"edges.{name}") or 0)
    trace: list[bool | None] = [None] * columns
    per_column, now = HALF_MINUTE_S / columns, connection.board_time
    for sample in samples:
        column = columns - 1 - int((now - (sample[1] or 0.0)) / per_column)
        if 0 <= column < columns:
            trace[column] = bool(sample[at]) or bool(trace[column])
    state = ("▇ triggered" if level else "▁ free", f"bold {Ink.focus}" if level else Ink.dim)
    changed = "changed once" if edges == 1 else f"changed {edges} times"
    facts = [(input_words(name), f"bold {Ink.text}"), state, (changed, Ink.dim)]
    facts += [(f"socket {session.live(f'{name}.socket')}", Ink.dim)]
    if tall == 1:
        facts = [(f"{input_words(name)[:11]:<12}{state[0]}", state[1])]
    lines = []
    for row in range(tall):
        line = Text(no_wrap=True)
        words, ink = facts[row] if row < len(facts) else ("", "")
        line.append(f"{words:<{NAME_COLUMNS}}"[:NAME_COLUMNS], ink)
        for edge in trace:
            low = row == tall - 1
            mark = " " if edge is None else ("█" if not low or tall > 1 else "▇") if edge else "▁" if low else " "
            line.append(mark, Ink.focus if edge else Ink.faint)
        lines.append(line)
    return Text("\n").join(lines)
