"""The bench of extruder steps: the filament with its marks to scale, and what went in at each kind of push."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from ublet.core.extrude.drive_trials import DriveParameters, DriveSetting, changed_drive
from ublet.core.extrude.pushing import KINDS, marks_for
from ublet.core.extrude.trials import FAST_REPEATS, ExtruderParameters
from ublet.core.motion.geometry import extruder_steps_per_mm
from ublet.core.observations import ReadFilament
from ublet.core.run import TrialFailed, TrialResult
from ublet.core.settings import number_or
from ublet.core.typed import shown_value
from ublet.core.units import show, with_uncertainty
from ublet.session.session import Session
from ublet.session.stale import Redo, Supposed, stale_runs, supposed, to_redo
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, put, spaced
from ublet.tui.motion.steps import newest_result, reach_for
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

WORDS = {
    "slow": "slow",
    "fast": "fast",
    "slower": "slower still",
    "current": "more current",
    "hotter": "hotter",
}
"""What is different at a kind of push."""

NARROWEST_FRACTION = 0.02
"""The strip of the filament that was fed spans at least this fraction of the commanded length, to either side."""


HELP = Help(
    """\
    What is commanded of filament must go in: every width and height is made of it. And a drive is one thing: its gear,
    its tube, how far it draws back, how late its melt follows.
    """,
    """\
    Filament is marked twice and pushed slowly, then fast; what is left to a mark gives steps per mm with the error of
    your rule. What falls short is pushed slower, with more current and hotter, until its cause is plain. With short
    only slow pushes past near marks are made.

    The other trial is a change of drive: what belongs to it stands as one proposal, and beside it what no longer
    holds by it.
    """,
)


class ExtruderBench(TrialBench):
    """Filament as long as it says."""

    kind = "extruder"
    title = "Extruder steps"
    why = "too much or too little filament spoils every line that is printed"
    help = HELP

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._redo: tuple[tuple[object, ...], list[Redo]] = ((), [])

    def heading_words(self) -> Text:
        """Another drive has a heading of its own."""
        if not isinstance(self.aim, DriveParameters):
            return super().heading_words()
        text = Text().append("Change of drive", f"bold {Ink.text}")
        return text.append("   what belongs to a drive belongs together\n", Ink.dim)

    def picture(self) -> Picture:
        """The filament, and every push; of another drive what goes with it."""
        aim = self.aim
        if isinstance(aim, DriveParameters):
            return self._other_drive(aim)
        assert isinstance(aim, ExtruderParameters)
        reads = self.question is not None and isinstance(self.question[0].cue, ReadFilament)

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            result = newest_result(session, watched, "extruder-steps")
            went = aim.length_mm if reads else 0.0
            pushes = _pushes(watched, aim, width) if watched is not None else _found(result, aim)
            return spaced([_figures(session, result), _filament(aim.length_mm, went, width), pushes], height, 7)

        return draw

    def _other_drive(self, aim: DriveParameters) -> Picture:
        """Every setting that goes with another drive, was and will be; what no longer holds by it."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            machine = session.machine_now
            kept = self.result is not None and self.result.finding("drive") is not None
            try:
                changes = changed_drive(machine, aim)
            except TrialFailed as same:
                words = "It is the drive that is live now." if kept else f"✗ {same}"
                return Text(words, Ink.good if kept else Ink.stop)
            was = machine.extruder.tube_mm if machine.extruder is not None else 0.0
            text = Text(no_wrap=True)
            for words, tube_mm, ink in (("now", was, Ink.text), ("then", aim.tube_mm, f"bold {Ink.focus}")):
                text.append(f"{words:<6}", Ink.dim).append_text(_drive(tube_mm, ink)).append("\n")
            text.append("\ngoes with it\n", Ink.quiet)
            for of in changes:
                name = of.path.removeprefix("extruder.")
                text.append(f"  {name:<16}", Ink.text)
                text.append(f"{shown_value(of.before):>9}", Ink.dim).append(" → ", Ink.quiet)
                text.append(f"{shown_value(of.after)} {of.unit}".ljust(18), f"bold {Ink.proposal}")
                text.append(f"{of.why}\n", Ink.dim)
            redo = self._made_stale(aim, changes, was)
            text.append("\nno longer holds by it, in the order in which it is done again\n", Ink.quiet)
            for step in redo:
                text.append(f"  {step.station:<18}", f"bold {Ink.focus}" if step.sure else Ink.text)
                text.append(f"{step.trial:<20}", Ink.dim)
                text.append("" if step.sure else "likely: only if one before it gives another value", Ink.dim)
                text.append("\n")
            if not redo:
                text.append("  nothing that was found rests on it\n", Ink.dim)
            return text

        return draw

    def _made_stale(self, aim: DriveParameters, changes: Sequence[DriveSetting], was_mm: float) -> list[Redo]:
        """What to do again once the drive is another; worked out anew when something has been run or kept."""
        session = self.session
        key = (aim, tuple(changes), session.ledger.run_count)
        if self._redo[0] != key:
            machine = session.document.machine
            loaded = bool(aim.tube_mm) != bool(was_mm)
            facts = supposed(machine, "load").facts if loaded else ()
            what_if = Supposed({of.path: of.after for of in changes}, facts)
            gone = stale_runs(machine, session.ledger, session.presence, what_if)
            self._redo = (key, to_redo(machine, session.ledger, session.presence, gone))
        return self._redo[1]


def _drive(tube_mm: float, ink: str) -> Text:
    """A drive from the side: its gear, its tube, the hotend."""
    text = Text("◯", ink)
    tube = f"═══ {tube_mm:g} mm of tube ═══▶ " if tube_mm else "▶ "
    return text.append(f"{tube}hotend", ink).append("" if tube_mm else "   direct", Ink.dim)


def _figures(session: Session, result: TrialResult | None) -> Text:
    """Steps per mm: by geometry, on the board, as measured."""
    extruder, text = session.document.machine.extruder, Text(no_wrap=True)
    if extruder is None:
        return text.append("This machine file declares no extruder.", Ink.stop)
    live = session.live("extruder.steps_per_mm")
    finding = result.finding("steps_per_mm") if result is not None else None
    measured = with_uncertainty(finding.value, finding.uncertainty or 0.0) if finding is not None else "–"
    for words, value, ink in (
        ("geometry", show(extruder_steps_per_mm(extruder), "", 6), Ink.text),
        ("on the board", show(number_or(live, 0.0), "", 6) if live else "–", f"bold {Ink.text}"),
        ("measured", measured, f"bold {Ink.focus}" if finding is not None else Ink.dim),
    ):
        text.append(f"{words} ", Ink.dim)
        text.append(f"{value}    ", ink)
    return text.append("steps/mm", Ink.dim)


def _filament(length_mm: float, went_mm: float, width: int) -> Text:
    """The filament as it lies before the hob, to scale: its two marks, and what is commanded to go in.

    went_mm: what should have gone in since it was marked; while it is asked for, marks are where they are looked for.
    """
    first, second = marks_for(length_mm)
    columns = max(30, width - 12)

    def at(mm: float) -> int:
        return 10 + round(mm / (second * 1.08) * columns)

    marks = put(Text(), 1, "the hob", Ink.dim)
    line = Text("  ◀━━━◯━━━", Ink.dim).append(" ").append("━" * (at(second * 1.08) - 10), f"bold {Ink.text}")
    below = put(Text(), 9, "▲", Ink.quiet)
    for mark, named in ((first, "first mark"), (second, "second mark")):
        place = at(mark - went_mm)
        line = put(line, place, "┃", f"bold {Ink.focus}")
        words = f"{named}, {'about ' if went_mm else ''}{mark - went_mm:g} mm"
        start = min(max(10, place - len(words) // 2), width - len(words) - 1)
        marks = put(marks, start, words, f"bold {Ink.focus}" if went_mm else Ink.text)
    words = "what is left to the mark?" if went_mm else f"{length_mm:g} mm of it go in"
    below = put(below, 10, "─" * (at(first - went_mm if went_mm else length_mm) - 11) + "┘", Ink.proposal)
    below.append(f" {words}", f"bold {Ink.proposal}")
    return Text("\n", no_wrap=True).join([marks, line, below])


def _pushes(watched: TrialWatch, aim: ExtruderParameters, width: int) -> Text:
    """Every kind of push, made or to come: speed, temperature, filament fed / commanded, and readings as dots."""
    series = watched.series("pushes")
    rows = series.rows.tolist() if series is not None else []
    pushed = watched.latest.about if watched.latest is not None else ""
    text = Text(f"{'push':<15}{'speed':>10}{'nozzle':>9}{'command':>9}{'fed':>11}", Ink.dim, no_wrap=True)
    columns = max(21, min(81, width - 62)) // 2 * 2 + 1
    reach = reach_for([abs(row[4] / row[3] - 1) for row in rows], NARROWEST_FRACTION)
    usual = {"slow": (aim.slow_mm_s, aim.repeats), "fast": (aim.fast_mm_s, FAST_REPEATS)}
    for number, kind in enumerate(KINDS):
        mine = [row for row in rows if round(row[0]) == number]
        now = pushed == kind
        if not mine and not now and kind not in usual:
            continue
        text.append(f"\n{'◆' if now else '●' if mine else '○'} ", Ink.focus if now or mine else Ink.dim)
        text.append(f"{WORDS[kind]:<13}", Ink.text if now or mine else Ink.dim)
        if not mine:
            planned = f"{show(usual[kind][0], 'mm/s', 2):>10}   {usual[kind][1]} times" if kind in usual else ""
            text.append(f"{planned}{', ' if planned else ''}to be read" if now else planned, Ink.dim)
            continue
        mean = sum(row[4] for row in mine) / len(mine)
        text.append(f"{show(mine[0][1], 'mm/s', 2):>10}{mine[0][2]:>6.0f} °C{mine[0][3]:>6.0f} mm", Ink.dim)
        text.append(f"{mean:>8.1f} mm", f"bold {Ink.focus}")
        strip = put(Text("   " + "─" * columns, Ink.faint), 3 + columns // 2, "┼", Ink.dim)
        for row in mine:
            strip = put(strip, 3 + columns // 2 + round((row[4] / row[3] - 1) / reach * (columns // 2)), "●", Ink.focus)
        text.append_text(strip)
    if not rows:
        return text
    left, right = f"{-100 * reach:+g} %", f"{100 * reach:+g} %"
    scale = put(put(Text(), 57, left, Ink.quiet), 57 + columns // 2 - 2, "100 %", Ink.quiet)
    return text.append("\n").append_text(put(scale, 57 + columns - len(right), right, Ink.quiet))


def _found(result: TrialResult | None, aim: ExtruderParameters) -> Text:
    """What the last run found, where none is running."""
    text, slow = Text(no_wrap=True), result.finding("went_in") if result is not None else None
    if result is None or slow is None:
        return text.append("nothing was pushed yet", Ink.quiet)
    text.append(f"{'push':<15}{'speed':>10}{'filament fed / commanded':>28}", Ink.dim)

    def line(kind: str, speed: str, fraction: float, error: float) -> None:
        text.append(f"\n{WORDS[kind]:<15}", Ink.text)
        text.append(f"{speed:>10}", Ink.dim)
        text.append(f"{100 * fraction:>16.1f} ", f"bold {Ink.focus}")
        text.append(f"±{200 * error:.1f} %", Ink.dim)

    line("slow", show(aim.slow_mm_s, "mm/s", 2), slow.value, slow.uncertainty or 0.0)
    if (short := result.finding("short_fast")) is not None:
        line("fast", show(aim.fast_mm_s, "mm/s", 2), slow.value * (1 - short.value), short.uncertainty or 0.0)
    for kind in ("current", "hotter"):
        if (back := result.finding(f"regained_{kind}")) is not None:
            text.append(f"\n{WORDS[kind]:<15}", Ink.text)
            text.append(f"{'':>10}{100 * max(0.0, min(1.0, back.value)):>15.0f} % of what was short came back", Ink.dim)
    return text
