"""The springs below the bed: looked at before anything is turned, and the history of each screw."""

from __future__ import annotations

from collections.abc import Mapping

from ublet.core.acts import LookAtSprings, SetHalfSprings
from ublet.core.bench import Bench
from ublet.core.machine.level_parts import Screw
from ublet.core.machine.schema import MachineFile
from ublet.core.questions import Question
from ublet.core.run import TrialFailed
from ublet.core.trial import Need
from ublet.core.words import several

FEWEST_SCREWS = 3
WEAK = 3
"""A screw that had to be turned in so many runs one after the other has a weak spring."""

GOOD, SLACK = "about half", "slack one"
NOTED_MM = 0.08
"""A screw that was turned by less than this over a run counts as not turned."""


def screws_of(machine: MachineFile) -> dict[str, Screw]:
    """The screws below the bed.

    Raises:
        TrialFailed: too few to level it by.
    """
    screws = dict(machine.bed.screws)
    if len(screws) < FEWEST_SCREWS:
        raise TrialFailed("The bed declares fewer than three screws: nothing can be turned (add [bed.screws.NAME]).")
    return screws


def screws_need(machine: MachineFile) -> Need:
    """Whether there are enough of them."""
    count = len(machine.bed.screws)
    few = "" if count >= FEWEST_SCREWS else ": three are the fewest"
    return Need(f"{count} screws declared{few}", count >= FEWEST_SCREWS)


def weak_words(again: Mapping[str, int]) -> str:
    """Which springs are weak, as a sentence with a space before it; empty: none."""
    weak = [name for name, n in again.items() if n >= WEAK]
    told = f" {several(weak)} had to be turned {WEAK} times in a row: a weak spring, or one that is hardly pressed."
    return told if weak else ""


async def look_at_springs(bench: Bench, screws: Mapping[str, Screw]) -> bool:
    """Let the builder look at the springs: a slack one holds nothing, one that is pressed flat cannot give way. Returns
    whether all were set to their middle just now: a corner may then stand several millimetres off.

    Raises:
        TrialFailed: the builder stops, to set all screws to the middle first.
    """
    asked = Question(
        "Look below the bed: how far are the springs of the screws pressed together?",
        (GOOD, SLACK, "flat one", "no springs"),
        LookAtSprings(),
    )
    answer = await bench.builder.ask(asked)
    if answer in (GOOD, "no springs"):
        return False
    looks = answer.removesuffix(" one")
    told = "holds nothing and wanders" if answer == SLACK else "can go no lower"
    half = Question(
        f"A corner whose spring is {looks} {told}. Turn every screw until its spring is half "
        "pressed together, all alike, before anything is measured.",
        ("all half pressed", "stop here"),
        SetHalfSprings(),
    )
    if await bench.builder.ask(half) != "all half pressed":
        raise TrialFailed("Stopped before anything was measured: the springs come first.")
    for name in screws:
        bench.tell("screw", name)
    return True


def moved_again(bench: Bench, trial: str, turned: Mapping[str, float]) -> dict[str, int]:
    """In how many runs of a trial one after the other each screw had to be turned, this one included."""
    with bench.aside():
        before = bench.record.earlier(trial)
        found = {}
        for name, mm in turned.items():
            last = before.finding("moved_in_a_row", screw=name) if before is not None else None
            found[name] = (round(last.value) if last is not None else 0) + 1 if mm > NOTED_MM else 0
    return found
