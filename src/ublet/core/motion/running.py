"""A program that runs, followed to its end: controls are used, where it stands is recorded and shown."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from ublet.core.acts import LoadSpool
from ublet.core.bench import Bench, Controls, Running
from ublet.core.motion.program import Timetable
from ublet.core.observations import CheckFilament
from ublet.core.questions import Live
from ublet.core.run import Progress, Stream

LOOK_S = 0.2
"""Controls are looked at, and a row is recorded, so often, s."""

WAY = Stream(
    "way",
    ("time_s", "x_mm", "y_mm", "z_mm", "segment", "height_mm", "feed", "flow", "held", "left_s"),
    ("s", "mm", "mm", "mm", "", "mm", "", "", "", "s"),
    5.0,
)

ControlAction = Callable[[Running, str], Awaitable[bool]]
"""Does what a control is for; whether that changes how long the program takes."""

ProgramFollower = Callable[[Running, int], Awaitable[None]]
"""Does what belongs to a named place that the program came to; it gets the number of its segment."""


LOADED = "it is loaded: go on"


def _load(words: str, asked: Live) -> Live:
    """What is asked while a print is held because no filament comes."""
    return Live(
        f"{words}. Take out what is left, push new filament in until the hob grips it, wipe the nozzle; then go on.",
        asked.answers,
        CheckFilament(),
        {LOADED: ""},
        acts={LOADED: LoadSpool()},
    )


async def followed(
    bench: Bench,
    table: Timetable,
    run: Running,
    controls: Controls,
    act: ControlAction,
    phase: str,
    fraction: float = 0.0,
    arrived: ProgramFollower | None = None,
    *,
    asked: Live,
) -> bool:
    """Follow a program to its end, doing what the controls ask for; whether anything changed the time that it takes.

    phase: its word in the progress, which begins at a share. arrived: called with the segment of each named place.
    asked: the question that is open beside it; another one takes its place while the board holds it for filament.
    """
    why = ""
    changed, gone_s, place, before = False, 0.0, "", bench.clock.now_s()
    going = run.going
    while run.ended is None:
        if controls.answer is not None:
            return True  # the block's end stops it
        for used in controls.used():
            if used == LOADED:
                changed = True
                refused = await run.hold(False)
                controls.ask(_load(f"{refused[:1].upper()}{refused[1:]}", asked) if refused else asked)
                continue
            changed = await act(run, used) or changed
        if going.held_why != why:
            why = going.held_why
            if why:
                controls.ask(_load(f"{why[0].upper()}{why[1:]}: the print is held, and the nozzle lifted", asked))
        await bench.clock.rest(LOOK_S)
        now = bench.clock.now_s()
        if going.place != place:
            place, gone_s = going.place, table.segments[going.segment].begins_s
            if arrived is not None:
                await arrived(run, going.segment)
        elif not going.held and run.begun_s is not None:
            gone_s += (now - before) * going.feed
        before = now
        left_s = max(0.0, table.seconds - gone_s) / going.feed
        with bench.aside():
            here = [bench.motion.position(axis) for axis in ("x", "y", "z")]
        if None not in here:
            where = tuple(float(mm or 0.0) for mm in here)
            stands = (float(going.segment), going.height_mm, going.feed, going.flow, float(going.held))
            bench.record.row(WAY.name, (now, *where, *stands, left_s))
        held = f", held: {why}" if why else ", held" if going.held else ""
        stage = f"{place or 'on its way'}{held}"
        done = fraction + (1 - fraction) * min(1.0, gone_s / table.seconds)
        bench.progress(Progress(phase, done, left_s, stage, place, planned=True))
    return changed
