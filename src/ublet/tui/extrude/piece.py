"""The bench of the test piece and of a print of one's own: a program over the bed to scale, before it runs and while it
does.
"""

from __future__ import annotations

from pathlib import Path

from rich.text import Text
from textual.binding import Binding

from ublet.core.extrude.cube import cube_program
from ublet.core.extrude.cube_trials import CubeParameters
from ublet.core.extrude.own_print_trials import OwnPrintParameters
from ublet.core.extrude.piece_trials import PieceParameters, piece
from ublet.core.machine.effective import effective
from ublet.core.motion.caps import Caps
from ublet.core.motion.print_plan import PrintPlan
from ublet.core.motion.program import Program, Timetable, timetable
from ublet.core.observations import BULGES, CORNER_GAPS, GHOSTS, HOLES, OVERFULL, RAGGED, SHIFTS, LookAtPiece
from ublet.core.run import TrialFailed, TrialResult
from ublet.core.settings import Value
from ublet.session.patterns import start_of
from ublet.session.printing import PrintError, read_plan
from ublet.session.session import Session
from ublet.tui.extrude.print_picture import print_picture
from ublet.tui.frame.help import Help
from ublet.tui.frame.pickers import LineDialog
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture
from ublet.tui.instruments.program_picture import Followed, program_picture
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

WORDS_FROM = 92
"""Least width at which looks are described in words, too, columns."""

DRAWN = {
    GHOSTS: ("█▌▕ ▏ ▏          ", "the edge comes again beside itself, fainter and fainter"),
    BULGES: ("██▄▄▄▄▄▄▄▄▄▄▄▄▄██", "the wall is thicker where two sides meet"),
    CORNER_GAPS: ("▂▂▄▄▄▄▄▄▄▄▄▄▄▄▄▂▂", "the wall is thin or open where two sides meet"),
    SHIFTS: ("▄▄▄███████████▀▀▀", "from some row on everything stands beside the rows below"),
    HOLES: ("███ ███▌ ████ ▐██", "light comes through: rows do not touch one another"),
    OVERFULL: ("▓█▓█▓▓█▓█▓▓█▓█▓█▓", "rows swell out, and the nozzle has dragged through them"),
    RAGGED: ("▂▁▃▂▁ ▂▃▁▂ ▁▃▂▁▂", "the lowest row is torn, or pressed out to a rim"),
}
"""What a piece may look like: drawn from its side, and in words."""


HELP = Help(
    """\
    Path, time, steps and melt together for the first time; and then, what a finished piece says of the machine that
    made it.
    """,
    """\
    The square runs above the bed or is printed, and may be nudged, slowed and held meanwhile. A print of your own is
    read whole before anything moves.

    A cube is measured: each side, and both diagonals of its top. What all sides have in common is the material; one
    that differs is an axis; diagonals that differ are a frame that is not square. A flat frame shows that three times
    as sharply. Many small differences are to be left: they are within what callipers err. What its walls look like
    leads on to the station that mends it.
    """,
)


class PieceBench(TrialBench):
    """A program from its first move to its last."""

    kind = "piece"
    title = "Test piece"
    why = "everything together for the first time: path, time, and no step lost"
    help = HELP
    BINDINGS = [
        Binding("f", "file", "print a file", tooltip="Print a text of ISO 6983 of your own: read, checked, drawn"),
        Binding(
            "s", "settings", "print settings", tooltip="What the program that makes prints must know; ublet export"
        ),
        Binding("ctrl+up", "layer(1)", "layer", key_display="ctrl ↑↓", tooltip="Look at another layer of the print"),
        Binding("ctrl+down", "layer(-1)", show=False),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.shown_layer = 0
        self._plan: tuple[tuple[str, str], PrintPlan | None, str] = (("", ""), None, "")

    def heading_words(self) -> Text:
        """A print of one's own has a heading of its own."""
        if not isinstance(self.aim, OwnPrintParameters):
            return super().heading_words()
        text = Text().append("Own print", f"bold {Ink.text}")
        return text.append("   a text of ISO 6983 from any program, read whole before anything moves\n", Ink.dim)

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Layers are looked at where a text is read."""
        match action:
            case "file":
                return self.watched is None
            case "layer":
                return self.print_plan is not None
        return super().check_action(action, parameters)

    @property
    def print_plan(self) -> PrintPlan | None:
        """The text that would be printed, as it was read last."""
        return self._plan[1] if isinstance(self.aim, OwnPrintParameters) else None

    def action_file(self) -> None:
        """Name the text to print."""

        def check(name: str) -> str | None:
            return None if Path(name).expanduser().is_file() else "no such file"

        def take(name: str | None) -> None:
            if name:
                self.chosen = next(at for at, spec in enumerate(self.specs) if spec.name == "own-print")
                self.aims["own-print"] = self.aims["own-print"].model_copy(update={"file": name})
                self.shown_layer, self.message = 0, None
                self.reload()

        own = self.aims["own-print"]
        before = own.file if isinstance(own, OwnPrintParameters) else ""
        self.app.push_screen(LineDialog("Print which text of ISO 6983?", before, check, "/path/to/print"), take)

    def action_settings(self) -> None:
        """What the program that makes prints must know, to be read here."""
        from ublet.session.print_settings import settings_text
        from ublet.tui.frame.dialogs import TextDialog

        name = self.session.document.path.name
        title = f"For the program that makes prints: ublet export print-settings {name}"
        self.app.push_screen(TextDialog(title, Text(settings_text(self.session.document, self.session))))

    def action_layer(self, by: int) -> None:
        """Another layer."""
        if self.print_plan is not None and self.print_plan.layers:
            self.shown_layer = max(0, min(len(self.print_plan.layers) - 1, self.shown_layer + by))
            self.beat()

    def refresh_state(self) -> None:
        """A text that was named anew is read beside everything else."""
        super().refresh_state()
        aim = self.aim
        if not isinstance(aim, OwnPrintParameters) or not aim.file or self.watched is not None:
            return
        wanted = (aim.file, aim.material)
        if self._plan[0] != wanted:
            self._plan = (wanted, None, "")
            self.run_worker(self._read(wanted), group="print", exclusive=True)

    async def _read(self, wanted: tuple[str, str]) -> None:
        import asyncio

        session = self.session
        machine, steps_per_s = session.machine_now, session.document.board.steps_per_s
        try:
            plan = await asyncio.to_thread(
                read_plan, Path(wanted[0]).expanduser(), machine, self._live(), steps_per_s, wanted[1]
            )
        except PrintError as error:
            self._plan = (wanted, None, str(error))
        else:
            self._plan = (wanted, plan, "")
        self.refresh_state()

    def _live(self) -> dict[str, Value]:
        """What is live, or the file's where there is no link."""
        layers = self.session.connection.layers
        live: dict[str, Value] = {path: layer.live for path, layer in layers.items()}
        return live or dict(effective(self.session.document.machine))

    def picture(self) -> Picture:
        """The path over the bed, and where it is."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            machine, aim = session.document.machine, self.aim
            series = watched.series("way") if watched is not None else None
            followed = None
            if series is not None:
                segment, height_mm, feed, flow, held, left_s = series.rows[-1, 4:].tolist()
                followed = Followed(round(segment), height_mm, feed, flow, bool(held), left_s)
            here = {axis: session.connection.channel(f"axes.{axis}.mm") for axis in ("x", "y", "z")}
            bed = (machine.bed.width_mm, machine.bed.depth_mm)
            if self.question is not None and isinstance(self.question[0].cue, LookAtPiece):
                return _looks(width, height)
            if isinstance(aim, OwnPrintParameters):
                return self._own(followed, here, bed, width, height)
            try:
                if isinstance(aim, CubeParameters) and watched is None and self.result is not None:
                    return _judged(self.result, width, height)
                if isinstance(aim, CubeParameters):
                    program = printed = cube_program(machine, aim.side_mm, aim.shape)
                else:
                    assert isinstance(aim, PieceParameters)
                    program, printed = piece(machine, aim), piece(machine, aim.model_copy(update={"printed": True}))
                table = self._timed(session, program)
            except (ValueError, TrialFailed) as error:
                return Text(f"✗ {error}", Ink.stop)
            return program_picture(table, printed, start_of(machine), bed, here, followed, width, height)

        return draw

    def _own(
        self,
        followed: Followed | None,
        here: dict[str, float | None],
        bed: tuple[float, float],
        width: int,
        height: int,
    ) -> Text:
        """A text of one's own: its layer, or why there is none."""
        _, plan, why = self._plan
        if plan is None:
            named = isinstance(self.aim, OwnPrintParameters) and self.aim.file
            words = why or ("reading …" if named else "f names the text to print: it is read whole, checked and drawn")
            return Text(f"✗ {words}" if why else words, Ink.stop if why else Ink.text)
        if followed is not None and plan.layers:
            self.shown_layer = max(0, plan.layer_at(followed.segment))
        return print_picture(
            plan, min(self.shown_layer, max(0, len(plan.layers) - 1)), bed, here, followed, width, height
        )

    def _timed(self, session: Session, program: Program) -> Timetable:
        """The program by the live settings, or by the file's where there is no link."""
        machine = session.document.machine
        return timetable(program, start_of(machine), Caps(self._live(), session.document.board.steps_per_s))


def _looks(width: int, height: int) -> Text:
    """What is looked for on a piece, a look a row, in the order in which it is answered."""
    text, apart = Text(no_wrap=True), "\n\n" if height >= 3 * len(DRAWN) else "\n"
    text.append("hold it against the light and turn it: which of these do you see?\n\n", Ink.dim)
    for number, (name, (drawn, words)) in enumerate(DRAWN.items(), start=1):
        text.append(f"{number} ", Ink.quiet).append(drawn, Ink.proposal)
        text.append(f"  {name:<21}", f"bold {Ink.text}")
        if width >= WORDS_FROM:
            text.append(words, Ink.dim)
        text.append(apart)
    return text


BAR, LABEL = 41, 16
"""Columns of a bar about zero, and of the label before it."""


def _judged(result: TrialResult, width: int, height: int) -> Text:
    """What a piece's lengths show: each share beside what it may be off by, about zero, and its skew."""
    rows = [
        (
            f"{finding.subject['axis'].upper()} off by",
            100 * (finding.value - 1),
            100 * (finding.uncertainty or 0.0),
            "%",
        )
        for finding in result.findings
        if finding.what == "scale"
    ]
    for what, words, times, unit in (("shrinks", "all shrink by", 100.0, "%"), ("skew", "skew", 1.0, "°")):
        if (finding := result.finding(what)) is not None:
            rows.append((words, times * finding.value, times * (finding.uncertainty or 0.0), unit))
    if not rows:
        return Text("nothing was measured yet", Ink.text)
    span = {unit: max(2.5 * u + abs(value) for _, value, u, of in rows if of == unit) for *_, unit in rows}
    text, apart = Text(no_wrap=True), "\n\n" if height >= 2 * len(rows) + 4 else "\n"
    text.append("as measured, with twice the standard uncertainty\n\n", Ink.dim)
    for words, value, u, unit in rows:
        beyond = abs(value) > 2 * u
        ink = f"bold {Ink.focus}" if beyond else Ink.good
        text.append(f"{words:<{LABEL}}", Ink.text)
        if width >= LABEL + BAR + 24:
            text.append_text(_bar(value / span[unit], 2 * u / span[unit], ink))
        text.append(f"  {value:+.2f} ±{2 * u:.2f} {unit}", ink)
        text.append("" if beyond else "   within what callipers err", Ink.dim).append(apart)
    return text


def _bar(value: float, reach: float, ink: str) -> Text:
    """A value with its reach on a line from -1 to 1, the zero marked."""
    middle = BAR // 2

    def at(fraction: float) -> int:
        return max(0, min(BAR - 1, middle + round(fraction * middle)))

    cells = ["·"] * BAR
    cells[at(value - reach) : at(value + reach) + 1] = ["━"] * (at(value + reach) - at(value - reach) + 1)
    cells[middle] = "┼" if cells[middle] == "━" else "│"
    cells[at(value)] = "●"
    return Text("".join(cells), ink)
