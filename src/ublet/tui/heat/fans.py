"""The bench of fans: each by itself."""

from __future__ import annotations

from rich.text import Text

from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, spaced
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

NAME_COLUMNS = 18


class FansBench(TrialBench):
    """Each fan by itself."""

    kind = "fans"
    title = "Fans"
    why = "the one that cools the hotend must not be the one that cools the part"

    def picture(self) -> Picture:
        """Fans and what they are commanded."""
        return fans_picture


def fans_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """Each fan: its socket, what it follows, and a bar of the duty that it is commanded now."""
    connection, machine = session.connection, session.document.machine
    columns = max(10, width - NAME_COLUMNS - 46)
    thick = max(1, min(4, height // max(1, len(machine.fans)) - 2))
    head = f"{'fan':<{NAME_COLUMNS}}{'socket':<8}{'follows':<26}{'duty':>6}"
    blocks = [Text(head, Ink.dim, no_wrap=True)]
    for name, fan in machine.fans.items():
        duty = connection.channel(f"fans.{name}") or 0.0
        follows = f"{fan.heater} above {fan.above_c:g} °C" if fan.follows == "heater" else fan.follows
        line = Text(no_wrap=True).append(f"{name:<{NAME_COLUMNS}}", f"bold {Ink.focus}" if duty else f"bold {Ink.text}")
        line.append(f"{session.live(f'fans.{name}.socket') or fan.socket!s:<8}{follows:<26}", Ink.dim)
        line.append(f"{100 * duty:>4.0f} %  ", f"bold {Ink.focus}" if duty else Ink.dim)
        full = round(columns * duty)
        for row in range(thick):
            line.append("" if row == 0 else "\n" + " " * (NAME_COLUMNS + 42))
            line.append("█" * full, Ink.focus)
            line.append("░" * (columns - full), Ink.faint)
        blocks.append(line)
    return spaced(blocks, height, 2)
