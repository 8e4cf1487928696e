"""The bench of pressure advance: lines over the bed before and while they print, then the same lines large, to pick."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.binding import Binding
from textual.widgets import Input

from ublet.core.extrude.advance import AdvanceEstimate, finer_range, uneven_mm
from ublet.core.extrude.advance_lines import AdvanceLine, LinesLayout, layout_of, lines_program
from ublet.core.extrude.advance_tower import (
    NOTCH_EVERY_MM,
    AdvanceTowerParameters,
    TowerLayout,
    tower_of,
    tower_program,
)
from ublet.core.extrude.advance_trials import PICKS, WIDTH_ROWS, AdvanceParameters, VerifyParameters, pair_layout
from ublet.core.motion.program import Program
from ublet.core.motion.running import WAY
from ublet.core.observations import ReadLineWidth, WidthPlace
from ublet.core.questions import Pick
from ublet.core.run import Option, TrialFailed
from ublet.core.settings import number_or
from ublet.core.units import with_uncertainty
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.instruments.program_picture import put_bed
from ublet.tui.trial.recorded import RecordedBench
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS, WIDE = 44, 100
TOWER_LABEL = 24
"""Columns before a tower: number, height and value of a band."""

LINE_COLUMNS = 12
"""Columns before a line that is drawn large: its number and value."""

LOOKS = (
    ("too low", "▄▄▄▄▄▄▄┊▂▂▃▃▄▄▄▄▄▄▄▄▄┊▇▇▆▅▅▄▄", "thin when faster, a bulge when slower"),
    ("even", "▄▄▄▄▄▄▄┊▄▄▄▄▄▄▄▄▄▄▄▄▄┊▄▄▄▄▄▄▄", "the same width all along"),
    ("too high", "▄▄▄▄▄▄▄┊▇▆▆▅▅▄▄▄▄▄▄▄▄┊▂▂▃▃▄▄▄", "a bulge when faster, thin when slower"),
)
"""What a line looks like from the side: word, drawing, in words; strokes show where the speed changes."""


HELP = Help(
    """\
    Melt behind the nozzle is elastic: it follows the push late, by a time constant that drive, tube and filament give
    it. Where the nozzle slows down too much still flows and leaves a bulge, where it speeds up too little comes. The
    extruder leads the path by that time, and lines stay even.
    """,
    """\
    Lines are slow, fast and slow again, their value rising from the front to the back; every fifth sticks out. Lift
    all of it off in one piece, hold it against the light, and look behind each stroke. Pick one line, or the first and
    the last that look even. Another lamp often shows more: look again, both picks count. Callipers may be typed
    instead; through a tube they do not reach an eye.

    The tower shows the same by height, to about a tenth of the value; lines are sharper. f narrows the range around
    what was found. The check prints the value of before and the new one in turns.
    """,
)


class AdvanceBench(RecordedBench):
    """Even width through changes of speed."""

    kind = "advance"
    title = "Pressure advance"
    why = "the melt follows the push late, so that lines bulge where the nozzle slows down"
    help = HELP
    BINDINGS = [
        Binding(
            "f", "finer", "finer bracket", tooltip="Lines, or a tower, around the value that was found, finer apart"
        )
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.cursor = 0

    @property
    def pick(self) -> Pick | None:
        """The pick that is asked for now."""
        question = self.question[0] if self.question is not None else None
        return question if isinstance(question, Pick) else None

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Up and down walk over the lines while one is to be picked."""
        if action == "choose" and self.pick is not None:
            return True
        if action == "finer":
            return self.watched is None and self.found is not None
        return super().check_action(action, parameters)

    @property
    def found(self) -> AdvanceEstimate | None:
        """The value that the last lines gave."""
        finding = self.result.finding("advance") if self.result is not None else None
        return AdvanceEstimate(finding.value, finding.uncertainty or 0.0) if finding is not None else None

    def action_choose(self, by: int) -> None:
        """Walk over the lines; the one below the cursor is what is typed."""
        if (pick := self.pick) is None:
            super().action_choose(by)
            return
        field = self.query_one("#typed", Input)
        kept, dash, last = field.value.partition("-")
        self.cursor = max(0, min(len(pick.labels) - 1, self.cursor - by))  # the front lies at the bottom
        at = str(self.cursor + 1)
        field.value = f"{kept}-{at}" if dash and (last or kept) else at
        field.cursor_position = len(field.value)
        self.beat()

    def action_finer(self) -> None:
        """Print lines around the value that was found."""
        estimate = self.found
        if estimate is None:
            return
        pattern = "advance-tower" if isinstance(self.aim, AdvanceTowerParameters) else "advance-lines"
        self.turn_to(pattern, "")
        first, last, step = finer_range(estimate)
        changed = {"first_s": first, "last_s": last, "step_s": step}
        self.aims[pattern] = self.aims[pattern].model_copy(update=changed)
        self.refresh_state()
        what, it = ("A tower", "it") if pattern == "advance-tower" else ("Lines", "them")
        self.say(f"{what} from {first:g} to {last:g} s in steps of {step:g} s: enter prints {it}.", Ink.text)

    async def keep(self, option: Option, run: int | None) -> bool:
        """What was live before is what the check compares with."""
        before = number_or(self.session.live("extruder.advance_s"), 0.0)
        kept = await super().keep(option, run)
        if kept:
            check = self.aims["advance-verify"]
            material = getattr(self.aims["advance-lines"], "material", "")
            self.aims["advance-verify"] = check.model_copy(update={"old_s": before, "material": material})
        return kept

    def picture(self) -> Picture:
        """The lines over the bed; while they are read, large."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            machine, aim = session.machine_now, self.aim
            cells = Cells(width, max(height, 6))
            try:
                if isinstance(aim, AdvanceTowerParameters):
                    self._tower(cells, tower_of(machine, aim), watched is not None)
                    return cells.text()
                if isinstance(aim, VerifyParameters):
                    layout = pair_layout(machine, aim, number_or(session.live("extruder.advance_s"), 0.0))
                else:
                    assert isinstance(aim, AdvanceParameters)
                    layout = layout_of(machine, aim)
            except TrialFailed as missing:
                return Text(f"✗ {missing}", Ink.stop)
            if self.pick is not None or self._measured() is not None:
                self._large(cells, layout)
            else:
                self._over_the_bed(cells, layout, watched is not None)
            return cells.text()

        return draw

    def _tower(self, cells: Cells, layout: TowerLayout, running: bool) -> None:
        """The tower from the front to scale, a band a row where there is room; what is printed now, or the cursor."""
        side = SIDE_COLUMNS if cells.width >= WIDE else 0
        bands, picking = layout.bands, self.pick is not None
        low, high = self._picked()
        if picking and low <= high:
            self.cursor = max(0, min(len(bands), self._last_typed(high)) - 1)
        program = tower_program(self.session.machine_now, layout) if running else None
        now = self._now([band.place for band in bands], program) if program is not None and not picking else -1
        shown_at = self.cursor if picking else max(0, now)
        rows = cells.height - 1
        bottom = max(0, min(shown_at - rows // 2, len(bands) - rows))
        across = max(
            8,
            min(
                cells.width - side - TOWER_LABEL - 14, round(2.1 * rows * (layout.x[1] - layout.x[0]) / layout.high_mm)
            ),
        )
        for at, band in enumerate(bands[bottom : bottom + rows]):
            row = rows - 1 - at
            here = bottom + at == (self.cursor if picking else now)
            done = picking or 0 <= band.number - 1 < now or not running
            ink = f"bold {Ink.focus}" if here else Ink.good if picking and low <= band.number <= high else Ink.text
            cells.put(0, row, f"{'▶' if here else ' '}{band.number:>3} {band.low_mm:>5g} mm  {band.value_s:.3f}", ink)
            notch = int(band.high_mm / NOTCH_EVERY_MM) > int(band.low_mm / NOTCH_EVERY_MM)
            block = "█" if here else "▓" if done and running else "░"
            wall = f"{block * (across // 2 - 1)}▏▕{block * (across - across // 2 - 1)}" if notch else block * across
            cells.put(TOWER_LABEL, row, wall, ink if here or picking else Ink.proposal)
        cells.put(TOWER_LABEL, rows, f"a notch every {NOTCH_EVERY_MM:g} mm"[: across + 12], Ink.quiet)
        if not side:
            return
        left, estimate = cells.width - side + 2, self.found if not running else None
        value = bands[self.cursor].value_s if picking else bands[now].value_s if 0 <= now < len(bands) else None
        value = estimate.advance_s if value is None and estimate is not None else value
        cells.put(left, 0, "printed now, s" if running and not picking else "pressure advance, s", Ink.quiet)
        if value is not None:
            put_large(cells, left, 1, f"{value:.3f}", f"bold {Ink.focus}")
        else:
            cells.put(left, 1, "not found yet", Ink.text)
        if estimate is not None:
            cells.put(left, 5, f"± {2 * estimate.uncertainty_s:.2g} s", Ink.dim)
        self._looks(cells, left, 6)
        wide, deep = layout.x[1] - layout.x[0], layout.y[1] - layout.y[0]
        notes = (
            "┊ is a corner: slow front, fast side",
            f"k = {layout.first_s:g} s + {layout.step_s_mm:.3g} s × height in mm",
            f"{wide:g} mm at {layout.stroke.mm_s:g} mm/s, {deep:g} mm at {layout.fast_mm_s:g} mm/s",
            *(("↑ ↓ walk over the heights; 7-9 for a range",) if picking else ()),
            *self._looked(),
        )
        for number, words in enumerate(notes):
            cells.put(left, 16 + number, words, Ink.dim)

    def _last_typed(self, otherwise: int) -> int:
        """The number that is typed last."""
        last = self.query_one("#typed", Input).value.rpartition("-")[2].strip()
        return int(last) if last.isdigit() else otherwise

    def _measured(self) -> ReadLineWidth | None:
        """The line that is measured now, and where."""
        cue = self.question[0].cue if self.question is not None else None
        return cue if isinstance(cue, ReadLineWidth) else None

    def _over_the_bed(self, cells: Cells, layout: LinesLayout, running: bool) -> None:
        """The pattern on the bed to scale, what is printed now, and the value that is live."""
        machine = self.session.machine_now
        side = SIDE_COLUMNS if cells.width >= WIDE else 0
        across, down = put_bed(cells, (machine.bed.width_mm, machine.bed.depth_mm), cells.width - side)
        places = [line.place for line in layout.lines]
        now = self._now(places, lines_program(machine, layout)) if running else -1
        by_row: dict[int, list[AdvanceLine]] = {}
        for line in layout.lines:
            by_row.setdefault(down.at(line.y), []).append(line)
        for row, lines in by_row.items():
            left, fast, slow, right = (across.at(mm) for mm in max(lines, key=lambda line: line.x[3]).x)
            numbers = [line.number - 1 for line in lines]
            here = now in numbers
            done = running and now >= 0 and max(numbers) < now
            ink = f"bold {Ink.focus}" if here else Ink.text if done else Ink.proposal
            cells.put(left, row, "━" * max(1, right - left + 1), ink)
            for column in (fast, slow):
                cells.put(column, row, "┿", ink)
        estimate = self.found if not running else None
        if not side:
            return
        left, row = cells.width - side + 2, 1
        words = "printed now, s" if running else "pressure advance, s"
        printed = layout.lines[now] if 0 <= now < len(layout.lines) else None
        value = printed.value_s if printed is not None else estimate.advance_s if estimate is not None else None
        cells.put(left, row, words, Ink.quiet)
        if value is not None:
            put_large(cells, left, row + 1, f"{value:.3f}", f"bold {Ink.focus}")
        else:
            cells.put(left, row + 1, "not found yet", Ink.text)
        if estimate is not None:
            cells.put(left, row + 5, f"± {2 * estimate.uncertainty_s:.2g} s", Ink.dim)
        live = number_or(self.session.live("extruder.advance_s"), 0.0)
        cells.put(left, row + 6, f"live: {live:g} s", Ink.text)
        first, last = layout.lines[0], layout.lines[-1]
        for at, words in enumerate(
            (
                f"{len(layout.lines)} lines, front {first.value_s:g} s, back {last.value_s:g} s",
                f"{layout.stroke.mm_s:g} mm/s, {layout.fast_mm_s:g} between the strokes",
                "every fifth sticks out at the right",
            )
        ):
            cells.put(left, row + 8 + at, words, Ink.dim)
        self._looks(cells, left, row + 12)

    def _looks(self, cells: Cells, left: int, row: int) -> None:
        """What lines look like."""
        for name, drawn, words in LOOKS:
            cells.put(left, row, drawn, Ink.good if name == "even" else Ink.proposal)
            cells.put(left + len(drawn) + 2, row, name, f"bold {Ink.text}")
            cells.put(left, row + 1, words[: SIDE_COLUMNS - 2], Ink.dim)
            row += 3

    def _large(self, cells: Cells, layout: LinesLayout) -> None:
        """Every line in a row of its own, as it lies, the front at the bottom; a cursor, and what was picked."""
        side = SIDE_COLUMNS if cells.width >= WIDE else 0
        lines, measured = layout.lines, self._measured()
        if measured is not None:
            self.cursor = next((at for at, line in enumerate(lines) if line.place == measured.line.name), self.cursor)
        low, high = self._picked()
        if low <= high:
            self.cursor = max(0, min(len(lines), self._last_typed(high)) - 1)
        rows = cells.height - 1
        bottom = max(0, min(self.cursor - rows // 2, len(lines) - rows))
        shown = lines[bottom : bottom + rows]
        length = max(10, cells.width - side - LINE_COLUMNS - 10)
        span = lines[0].x[2] + layout.kind.slow_mm + 6 - lines[0].x[0]
        for at, line in enumerate(shown):
            row, here = rows - 1 - at, bottom + at == self.cursor
            picked = low <= line.number <= high
            ink = f"bold {Ink.focus}" if here else Ink.good if picked else Ink.text
            cells.put(0, row, f"{'▶' if here else ' '}{line.number:>3} {line.value_s:.3f}", ink)
            places = [LINE_COLUMNS + round((x - lines[0].x[0]) / span * length) for x in line.x]
            cells.put(places[0], row, ("━" if here else "─") * (places[3] - places[0]), ink)
            for place in places[1:3]:
                cells.put(place, row, "┿" if here else "┼", ink)
            if here and measured is not None:
                x = measured.place.at_mm(measured.line)
                cells.put(LINE_COLUMNS + round((x - lines[0].x[0]) / span * length), row, "█", f"bold {Ink.text}")
            cells.put(places[3] + 1, row, self._read_words(layout, line), Ink.dim)
        marks = [LINE_COLUMNS + round((x - lines[0].x[0]) / span * length) for x in lines[0].x[1:3]]
        for place, words in zip(marks, ("speeds up", "slows down"), strict=True):
            cells.put(place - len(words) // 2, rows, words, Ink.quiet)
        if side:
            left = cells.width - side + 2
            cells.put(left, 0, "pressure advance, s", Ink.quiet)
            put_large(cells, left, 1, f"{lines[self.cursor].value_s:.3f}", f"bold {Ink.focus}")
            self._looks(cells, left, 6)
            cells.put(left, 16, *self._beside_the_lines(measured, layout.kind.places))
            for number, words in enumerate(self._looked()):
                cells.put(left, 18 + number, words, Ink.text)

    def _beside_the_lines(self, measured: ReadLineWidth | None, places: Sequence[WidthPlace]) -> tuple[str, str]:
        """What is to be done with them, in words, and its ink."""
        if measured is None:
            return "↑ ↓ walk over the lines; 7-9 for a range", Ink.dim
        return f"█ place {places.index(measured.place) + 1} of {len(places)} on this line", Ink.text

    def _picked(self) -> tuple[int, int]:
        """The numbers that are typed, from and to; none: an empty range."""
        typed = self.query_one("#typed", Input).value if self.pick is not None else ""
        numbers = [int(part) for part in typed.split("-") if part.strip().isdigit()]
        return (min(numbers), max(numbers)) if numbers else (1, 0)

    def _read_words(self, layout: LinesLayout, line: AdvanceLine) -> str:
        """How uneven a line is that was measured, mm."""
        rows = self.read(WIDTH_ROWS.name)
        mine = [row for row in rows.rows.tolist() if round(row[0]) == line.number] if rows is not None else []
        widths = mine[-1][2:] if mine else ()
        places = layout.kind.places
        return f"±{uneven_mm(widths, places):.2f}" if len(widths) == len(places) else ""

    def _looked(self) -> list[str]:
        """Every look so far."""
        rows = self.read(PICKS.name) if self.watched is not None else None
        looks = rows.rows.tolist() if rows is not None else []
        return [f"look {number}: {with_uncertainty(row[2], row[3])} s" for number, row in enumerate(looks, start=1)]

    def _now(self, places: Sequence[str], program: Program) -> int:
        """Which place is printed now, from 0; -1: none yet."""
        way = self.read(WAY.name)
        if way is None or not len(way.rows):
            return -1
        segment = int(way.rows[-1, 4])
        named = [made.place for made in program.segments[: segment + 1] if made.place]
        last = named[-1] if named else ""
        return len(places) if last == "end" else places.index(last) if last in places else -1
