"""The bench of the probe's place: nozzle and probe from above, to scale, with what is declared and what was
measured.
"""

from __future__ import annotations

from rich.text import Text
from textual.binding import Binding

from ublet.core.arrays import Point
from ublet.core.level.probe.height_trials import HeightParameters
from ublet.core.level.probe.place_trials import AIMED, place_words, sits
from ublet.core.level.reach import probe_offset, senses
from ublet.core.machine.edit import EditError
from ublet.core.machine.part_files import PartFileError
from ublet.core.run import TrialResult
from ublet.core.settings import number_or
from ublet.session.parts import parts_for, take_part
from ublet.session.session import Session
from ublet.tui.frame.pickers import PickDialog, PickerItem, narrowed
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.machine_map import CELL_RATIO
from ublet.tui.instruments.picture import Picture
from ublet.tui.level.height import height_picture, triggered_now
from ublet.tui.motion.jog import JogBench
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

WORDS_COLUMNS = 56


class PlaceBench(RecordedBench, JogBench):
    """Where the probe sits, and how high."""

    kind = "place"
    BINDINGS = [Binding("m", "mount", "mount", tooltip="Take a mount’s numbers from its file into the machine file")]
    title = "Probe place"
    why = "a height belongs to the place where the probe was, not the nozzle"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._triggered: bool | None = None

    def beat(self) -> None:
        """The bell announces each change of the probe’s input while its mount is in the builder’s hands."""
        now = triggered_now(self.session)
        if isinstance(self.aim, HeightParameters) and self.question is not None and now != self._triggered:
            self.ring()
        self._triggered = now
        super().beat()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """A mount can be taken while nothing runs."""
        if action == "mount":
            return self.watched is None and senses(self.session.document.machine)
        return super().check_action(action, parameters)

    def action_mount(self) -> None:
        """Choose a mount; its numbers go into the draft, which is saved when the builder says so."""
        known = parts_for(self.session.document.path.parent).known
        mounts = {stem: one for stem, one in known.items() if one.part.of == "probe mount"}
        choices = [PickerItem(stem, mount.part.name, mount.words) for stem, mount in mounts.items()]

        def take(stem: str | None) -> None:
            if stem is None:
                return
            try:
                take_part(self.session.draft, mounts[stem], "probe")
            except (EditError, PartFileError) as error:
                self.notify(f"Not taken: {error}.", severity="error")
                return
            message = (
                f"{mounts[stem].part.name} is in the draft, its offset by the part, not measured: within 1 mm. ctrl+s "
                "saves it; then look what it could hit (station travel limits, o), and measure its place here."
            )
            self.notify(message)
            self.post_message(self.Edited())
            self.beat()

        self.app.push_screen(PickDialog("Which mount carries the probe?", narrowed(choices), ""), take)

    def picture(self) -> Picture:
        """Nozzle and probe from above, or from the side."""

        aim = self.aim

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            if isinstance(aim, HeightParameters):
                drawn = height_picture(session, self.shown_result, aim, width, height - 2)
                return drawn + Text("\n") + self.next_line(width)
            drawn = place_picture(session, self.read, self.shown_result, width, height - 2)
            return drawn + Text("\n") + self.next_line(width)

        return draw


def place_picture(session: Session, read: SeriesReader, result: TrialResult | None, width: int, height: int) -> Text:
    """The nozzle, the probe as declared, as its part says and as measured, to one scale; beside them the words."""
    machine = session.draft.checked.machine or session.document.machine
    probe = machine.probe
    if probe is None or probe.kind == "nozzle":
        return Text("No probe sits beside the nozzle of this machine: there is nothing to measure here.", Ink.text)
    declared = probe_offset(machine)
    live = tuple(
        number_or(session.live(f"probe.offset_{axis}_mm"), own) for axis, own in zip("xy", declared, strict=True)
    )
    measured = _measured(read, result)
    places: list[tuple[str, Point, str, str]] = [("on the board", (live[0], live[1]), "○", Ink.text)]
    if (part := probe.part) is not None:
        places.append((f"by its part, {part.name}", (part.offset_x_mm, part.offset_y_mm), "◇", Ink.proposal))
    if measured is not None:
        places.append(("measured", measured, "◉", f"bold {Ink.focus}"))
    cells = Cells(width, height)
    wide = max(30, width - WORDS_COLUMNS)
    xs, ys = [0.0, *(p[0] for _, p, _, _ in places)], [0.0, *(p[1] for _, p, _, _ in places)]
    middle = ((min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2)
    per_column = max(
        (max(xs) - min(xs)) / max(1, wide - 24), (max(ys) - min(ys)) / max(1, height - 7) / CELL_RATIO, 0.25
    )

    def at(place: Point) -> tuple[int, int]:
        column = wide // 2 + round((place[0] - middle[0]) / per_column)
        return column, height // 2 - round((place[1] - middle[1]) / per_column / CELL_RATIO)

    cells.put(0, 0, "from above, the front is below", Ink.dim)
    _way(cells, at((0.0, 0.0)), at(places[-1][1]), places[-1][1])
    column, row = at((0.0, 0.0))
    cells.put(column - 1, row, "▐▼▌", f"bold {Ink.text}")
    cells.put(column - 3, row + 1, "nozzle", Ink.text)
    for _, place, glyph, style in places:
        cells.put(*at(place), glyph, style)
    column, row = at(places[-1][1])
    cells.put(column - 2, row - 1, "probe", Ink.text)
    for line, (words, place, glyph, style) in enumerate(places):
        cells.put(wide + 2, 2 + 4 * line, f"{glyph} {words}", style)
        cells.put(wide + 4, 3 + 4 * line, f"X {place[0]:+.2f}   Y {place[1]:+.2f} mm", f"bold {Ink.text}")
        cells.put(wide + 4, 4 + 4 * line, place_words(*place), Ink.dim)
    if measured is None:
        cells.put(wide + 2, 2 + 4 * len(places), "not measured yet", Ink.quiet)
    elif result is not None and (finding := result.finding("probe_x")) is not None:
        cells.put(wide + 4, 5 + 4 * (len(places) - 1), f"±{2 * (finding.uncertainty or 0):.2f} mm", Ink.dim)
    return cells.text()


def _measured(read: SeriesReader, result: TrialResult | None) -> Point | None:
    """As placed so far, else as the last result says."""
    series = read(AIMED.name)
    if series is not None:
        rows = series.rows.tolist()
        nozzle = [(x, y) for _, what, x, y in rows if not what]
        pin = [(x, y) for _, what, x, y in rows if what]
        if pin:
            offset = sits(nozzle[: len(pin)], pin)
            return offset.x_mm, offset.y_mm
        return None
    x = result.finding("probe_x") if result is not None else None
    y = result.finding("probe_y") if result is not None else None
    return (x.value, y.value) if x is not None and y is not None else None


def _way(cells: Cells, nozzle: tuple[int, int], probe: tuple[int, int], place: Point) -> None:
    """From the nozzle along X, then along Y, with both lengths."""
    low, high = sorted((nozzle[0], probe[0]))
    cells.put(low, nozzle[1], "┄" * (high - low + 1), Ink.faint)
    low_row, high_row = sorted((nozzle[1], probe[1]))
    for row in range(low_row, high_row + 1):
        cells.put(probe[0], row, "┆", Ink.faint)
    words = f"{abs(place[0]):.1f} mm"
    cells.put((nozzle[0] + probe[0] - len(words)) // 2, nozzle[1] - 1, words, Ink.dim)
    if high_row - low_row > 1:
        cells.put(probe[0] + 2, (low_row + high_row) // 2, f"{abs(place[1]):.1f} mm", Ink.dim)
