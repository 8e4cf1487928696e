"""Which way each lift of Z goes: looked at before Z homes for the first time, with a few millimetres of travel.

A lift that runs backwards tilts the bed by twice what Z moves, and homing would drive it over the whole axis.
"""

from __future__ import annotations

from dataclasses import dataclass

from ublet.core.bench import Bench
from ublet.core.machine.schema import MachineFile
from ublet.core.observations import LookAtLifts
from ublet.core.questions import Question
from ublet.core.remedy import GoTo
from ublet.core.run import Option, Progress, Proposal, TrialFailed
from ublet.core.words import several

OPENS_MM, OPENS_MM_S = 3.0, 2.0
"""Z opens the gap by so much to be looked at, mm, and so fast, mm/s."""

ALL_OPENED, ALL_CLOSED, OTHERWISE, UNCLEAR = "all opened alike", "all closed", "otherwise", "something else"
CLOSED, STOOD = "closed", "stood"


@dataclass(frozen=True)
class LiftsSeen:
    """What was seen: lifts that run backwards, lifts that did not turn; clear: whether that explains it all."""

    backwards: tuple[str, ...] = ()
    stood: tuple[str, ...] = ()
    clear: bool = True

    @property
    def good(self) -> bool:
        """Whether every lift went the way it was commanded."""
        return self.clear and not self.backwards and not self.stood

    @property
    def words(self) -> str:
        """What is wrong, as a sentence."""
        if self.backwards:
            runs = "run" if len(self.backwards) > 1 else "runs"
            return f"The lead screw {several(self.backwards)} {runs} backwards: its side closed while Z opened."
        if self.stood:
            return (
                f"The lead screw {several(self.stood)} did not turn: no current, an open wire, or its plug on another "
                "socket (station motors)."
            )
        return "The lead screws do not go alike: turn them one by one (station motors), then move Z again."


def lifts_of(machine: MachineFile) -> tuple[str, ...]:
    """The lifts of Z by name; none where a single motor carries it."""
    names = tuple(machine.axes.z.motors)
    return names if len(names) > 1 else ()


async def look_at_lifts(bench: Bench) -> LiftsSeen:
    """Open the gap of all lifts together by a few millimetres, and let the builder say which side did otherwise. When
    one did, Z goes back the same way: the bed is then as square as it was.
    """
    names = lifts_of(bench.machine)
    bench.progress(Progress("lead screws", 0.0, None, f"Z opens by {OPENS_MM:g} mm: look at every side"))
    with bench.aside():
        here, highest = bench.motion.position("z"), bench.machine.axes.z.maximum_mm
        at_the_end = here is not None and here + OPENS_MM > highest
        if at_the_end:
            await bench.motion.move("z", -OPENS_MM, OPENS_MM_S)
        await bench.motion.move("z", OPENS_MM, OPENS_MM_S)
    text = (
        f"Z was commanded to open the gap between nozzle and bed by {OPENS_MM:g} mm, with all lead screws "
        f"({several(names)}) together. Which side did otherwise? Until this is known Z moves no further."
    )
    closed = tuple(f"{name} {CLOSED}" for name in names)
    answer = await bench.builder.ask(Question(text, (ALL_OPENED, *closed, OTHERWISE), LookAtLifts()))
    if answer == OTHERWISE:
        stood = tuple(f"{name} {STOOD}" for name in names)
        answer = await bench.builder.ask(
            Question("What did the lead screws do?", (*stood, ALL_CLOSED, UNCLEAR), LookAtLifts())
        )
    seen = seen_as(names, answer)
    if not seen.good and not at_the_end:
        with bench.aside():
            await bench.motion.move("z", -OPENS_MM, OPENS_MM_S)
    return seen


def seen_as(names: tuple[str, ...], answer: str) -> LiftsSeen:
    """What an answer says of the lifts."""
    if answer == ALL_OPENED:
        return LiftsSeen()
    if answer == ALL_CLOSED:
        return LiftsSeen(backwards=names)
    backwards = tuple(name for name in names if answer == f"{name} {CLOSED}")
    stood = tuple(name for name in names if answer == f"{name} {STOOD}")
    return LiftsSeen(backwards, stood, bool(backwards or stood))


def turned_round(bench: Bench, seen: LiftsSeen) -> tuple[Option, ...]:
    """The proposal that lets lifts turn the other way; none where that mends nothing."""
    proposals = []
    for name in seen.backwards:
        path = f"axes.z.motors.{name}.reversed"
        now = bool(bench.settings.shown(path))
        proposals.append(Proposal(path, now, not now, "", f"the lead screw {name} turns the other way"))
    return (Option("mend", "then start again", tuple(proposals), {}),) if proposals else ()


async def must_go_alike(bench: Bench) -> None:
    """Before Z homes: the lifts go the way they are commanded, by an earlier proof or by the builder's eye.

    Raises:
        TrialFailed: one does not; the message names it and the stations that mend it.
    """
    if not lifts_of(bench.machine) or bench.motion.lifts_proven():
        return
    seen = await look_at_lifts(bench)
    if not seen.good:
        raise TrialFailed(
            f"{seen.words} The station lead screws proposes what mends it; Z was not homed.",
            GoTo("lead screws", "what mends them is proposed there", "lead-screws"),
        )
    bench.motion.prove_lifts()
