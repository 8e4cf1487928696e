"""The bench of bed corners: the bed from above with its screws, what each is to be turned, a dial for the one asked."""

from __future__ import annotations

from rich.text import Text

from ublet.core.acts import TurnScrew
from ublet.core.catalogue import TRIALS
from ublet.core.level.probe.probing import TOUCHES
from ublet.core.level.support.corner_trials import CORNERS
from ublet.core.level.support.screw_place_trials import PLACES
from ublet.core.level.support.screws import turn_words
from ublet.core.machine.schema import MachineFile
from ublet.core.observations import AimAtScrew, DragGauge, MakeRoom, ReadBesideScrew
from ublet.core.questions import Question
from ublet.core.run import TrialResult
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import BedMap, bed_map, dial
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS = 44
DIAL_ROWS = 11


class CornersBench(RecordedBench):
    """The bed flat by its screws."""

    kind = "corners"
    title = "Bed corners"
    why = "screws take out tilt, and nothing but tilt"

    def picture(self) -> Picture:
        """The screws from above."""
        question = self.question[0] if self.question is not None else None

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            return corners_picture(session, self.read, self.shown_result, question, self.spec.name, width, height)

        return draw


def corners_picture(
    session: Session,
    read: SeriesReader,
    result: TrialResult | None,
    question: Question | None,
    trial: str,
    width: int,
    height: int,
) -> Text:
    """Every screw where it stands with its state; beside it the dial of the one that is asked for, and the rounds."""
    machine = session.document.machine
    screws = {name: (screw.x_mm, screw.y_mm) for name, screw in machine.bed.screws.items()}
    if not screws:
        return Text("This machine file declares no screws below the bed ([bed.screws.NAME]).", Ink.stop)
    cells = Cells(width, height)
    wide = width - SIDE_COLUMNS if width >= 2 * SIDE_COLUMNS else width // 2
    drawn = bed_map(cells, machine.bed, screws.values(), wide, height)
    cells.put(0, 0, "from above", Ink.dim)
    _touched(drawn, read)
    cue = question.cue if question is not None else None
    asked = cue.screw if isinstance(cue, TurnScrew | MakeRoom | DragGauge | AimAtScrew | ReadBesideScrew) else ""
    states = _by_hand(read, tuple(screws)) if TRIALS[trial].by_hand else _by_probe(read, tuple(screws))
    states |= _placed(drawn, read, tuple(screws))
    for name, place in screws.items():
        words, style = states.get(name) or _before(result, name)
        here = name == asked
        drawn.mark(place, "◉" if here else "◯", f"bold {Ink.focus}" if here else Ink.proposal)
        below = place[1] <= machine.bed.depth_mm / 2
        drawn.label(place, ((name, f"bold {Ink.focus}" if here else Ink.text), (words, style)), below)
    _side(cells, wide + 2, question, read, result, machine, height)
    return cells.text()


def _touched(drawn: BedMap, read: SeriesReader) -> None:
    series = read(TOUCHES.name)
    if series is None:
        return
    for x, y, _ in series.rows.tolist():
        drawn.mark((x, y), "•", Ink.dim)
    x, y, _ = series.rows[-1].tolist()
    drawn.mark((x, y), "◉", f"bold {Ink.focus}")


def _by_probe(read: SeriesReader, names: tuple[str, ...]) -> dict[str, tuple[str, str]]:
    """What each screw is to be turned by the last round, on the clock."""
    series = read(CORNERS.name)
    states: dict[str, tuple[str, str]] = {}
    for _, number, height, turns in series.rows.tolist() if series is not None else []:
        words = f"{'↻' if turns > 0 else '↺'} {turn_words(abs(turns))}, {height:+.2f}" if turns else f"{height:+.2f} mm"
        states[names[round(number)]] = (words, f"bold {Ink.focus}" if turns else Ink.good)
    return states


def _by_hand(read: SeriesReader, names: tuple[str, ...]) -> dict[str, tuple[str, str]]:
    """What was said of each screw in its last visit."""
    series = read("visits")
    states: dict[str, tuple[str, str]] = {}
    for _, number, adjusted in series.rows.tolist() if series is not None else []:
        states[names[round(number)]] = ("adjusted", Ink.focus) if adjusted else ("fine", Ink.good)
    return states


def _placed(drawn: BedMap, read: SeriesReader, names: tuple[str, ...]) -> dict[str, tuple[str, str]]:
    """Where each screw was found, marked and in words."""
    series = read(PLACES.name)
    states: dict[str, tuple[str, str]] = {}
    for number, x, y in series.rows.tolist() if series is not None else []:
        drawn.mark((x, y), "◆", f"bold {Ink.focus}")
        states[names[round(number)]] = (f"at {x:.1f}, {y:.1f}", Ink.good)
    return states


def _before(result: TrialResult | None, name: str) -> tuple[str, str]:
    """What the last result says of a screw."""
    turned = result.finding("turned", screw=name) if result is not None else None
    if turned is not None:
        return (f"turned {turned.value:.2f} mm" if turned.value else "stayed"), Ink.dim
    adjusted = result.finding("adjusted", screw=name) if result is not None else None
    return (f"adjusted {adjusted.value:.0f} times", Ink.dim) if adjusted is not None else ("–", Ink.dim)


def _side(
    cells: Cells,
    left: int,
    question: Question | None,
    read: SeriesReader,
    result: TrialResult | None,
    machine: MachineFile,
    height: int,
) -> None:
    """The dial of what is asked, or how level it is."""
    match question.cue if question is not None else None:
        case TurnScrew(name, turns):
            rows = min(DIAL_ROWS, height - 4)
            way = "clockwise" if turns > 0 else "counter-clockwise"
            cells.put(left, 0, f"{name}, seen from above", f"bold {Ink.text}")
            if rows >= 5:
                dial(cells, left + round(rows * 1.1), 2 + rows // 2, rows, float(turns))
            cells.put(left, 3 + rows, f"{turn_words(abs(float(turns)))} {way}", f"bold {Ink.focus}")
            return
        case _:
            pass
    series = read(CORNERS.name)
    rounds: dict[int, list[float]] = {}
    for number, _, at_mm, _ in series.rows.tolist() if series is not None else []:
        rounds.setdefault(round(number), []).append(at_mm)
    line = 0
    if rounds:
        cells.put(left, line, f"{'round':<8}{'tilt over the screws':>22}", Ink.dim)
        for number, heights in rounds.items():
            line += 1
            cells.put(left, line, f"{number:<8}{max(heights) - min(heights):>19.3f} mm", Ink.text)
        return
    if result is None:
        cells.put(left, 0, "not measured yet", Ink.quiet)
        return
    for words, what in (
        ("tilt over the screws", "tilt"),
        ("  before", "tilt_before"),
        ("rise to the right", "rise_x"),
        ("rise to the back", "rise_y"),
        ("warp, no screw's work", "warp"),
    ):
        finding = result.finding(what)
        if finding is not None:
            cells.put(left, line, f"{words:<24}", Ink.dim)
            cells.put(left + 24, line, f"{finding.value:>9.3f} mm", f"bold {Ink.focus}" if what == "tilt" else Ink.text)
            line += 2
