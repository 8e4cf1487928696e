"""The bench of motors: each by itself, in small steps."""

from __future__ import annotations

from rich.text import Text

from ublet.core.motion.motor_trials import motor_roots, motor_words
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, spaced
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

NAME_COLUMNS = 20


class MotorsBench(TrialBench):
    """Each motor by itself."""

    kind = "motors"
    title = "Motors"
    why = "small steps first: what turns, and is it the one that was commanded"

    def picture(self) -> Picture:
        """Motors and their drivers."""
        return motors_picture


def motors_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """Each motor: its socket, current and microsteps; the one that is commanded to turn stands out."""
    turning = watched.latest.about if watched is not None and watched.latest is not None else ""
    head = f"{'motor':<{NAME_COLUMNS}}{'socket':<10}{'current':>10}{'microsteps':>14}{'steps/mm':>14}{'reversed':>12}"
    rows = [_motor(session, root, root == turning) for root in motor_roots(session.document.machine)]
    return spaced([Text(head, Ink.dim, no_wrap=True), *rows], height, 2)


def _motor(session: Session, root: str, here: bool) -> Text:
    name, line = motor_words(root), Text(no_wrap=True)
    drive = root.removesuffix(".motor").partition(".motors")[0]
    line.append(f"{name:<{NAME_COLUMNS}}", f"bold {Ink.focus}" if here else f"bold {Ink.text}")
    amps, micro, steps = (
        session.live(f"{part}") for part in (f"{root}.run_a", f"{root}.microsteps", f"{drive}.steps_per_mm")
    )
    line.append(f"{session.live(f'{root}.socket') or '–'!s:<10}", Ink.dim)
    line.append(f"{f'{amps} A' if amps is not None else '–':>10}{micro if micro is not None else '–'!s:>14}", Ink.text)
    line.append(f"{f'{steps:g}' if isinstance(steps, (int, float)) else '–':>14}", Ink.dim)
    line.append(f"{'yes' if session.live(f'{root}.reversed') else 'no':>12}", Ink.text)
    if here:
        moving = bool(session.connection.channel("motion.moving"))
        line.append("   ◆ turning now" if moving else "   ◆ commanded", f"bold {Ink.focus}")
    return line
