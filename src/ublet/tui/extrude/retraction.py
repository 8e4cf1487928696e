"""The bench of retraction: pairs of posts over the bed, then each as it was judged."""

from __future__ import annotations

from rich.text import Text

from ublet.core.extrude.retraction import CLEAN, POST_MM, VERDICTS, PostPair, RetractionParameters, pairs_of
from ublet.core.extrude.retraction_trials import POSTS
from ublet.core.motion.running import WAY
from ublet.core.run import Series, TrialFailed
from ublet.core.settings import number_or
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.recorded import RecordedBench
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS, WIDE = 40, 100
NUMBER_COLUMNS, VERDICT_COLUMNS = 16, 18

DRAWN = {"clean": " ", "strings": "╌", "gap after": " ", "strings and gap": "╌"}
"""What lies between the posts of a pair."""


HELP = Help(
    """\
    A hot nozzle oozes while it travels, and strings hang between the walls. Drawn back far enough it does not; drawn
    back too far it begins its next line late, and wears the filament.
    """,
    """\
    Pairs of posts are printed with a way between them; the length of the retraction rises from pair to pair, or its
    speed. Look between the posts for strings, and where each line begins for a gap. The shortest clean pair is
    proposed. Strings at any length are another matter: too hot, damp filament, a worn nozzle.
    """,
)


class RetractionBench(RecordedBench):
    """No strings, no gaps."""

    kind = "retraction"
    title = "Retraction"
    why = "what oozes on the way leaves strings; what is drawn back for nothing leaves gaps"
    help = HELP

    def picture(self) -> Picture:
        """The pairs, one a row, the first at the bottom."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            aim = self.aim
            assert isinstance(aim, RetractionParameters)
            try:
                pairs = pairs_of(session.machine_now, aim)
            except TrialFailed as missing:
                return Text(f"✗ {missing}", Ink.stop)
            cells = Cells(width, max(height, 6))
            side = SIDE_COLUMNS if width >= WIDE else 0
            judged = self.read(POSTS.name)
            now = self._now(pairs) if watched is not None else -1
            self._pairs(cells, pairs, judged, now, width - side)
            if side:
                self._beside(cells, width - side + 2, aim, watched is not None)
            return cells.text()

        return draw

    def _pairs(self, cells: Cells, pairs: tuple[PostPair, ...], judged: Series | None, now: int, width: int) -> None:
        rows = judged.rows.tolist() if judged is not None else []
        verdicts = {round(row[0]): VERDICTS[round(row[3])] for row in rows}
        span = pairs[0].right_x - pairs[0].left_x + 2 * POST_MM
        columns = max(20, width - NUMBER_COLUMNS - VERDICT_COLUMNS)
        post = max(3, round(POST_MM / span * columns))
        apart = max(1, min(2, cells.height // max(1, len(pairs))))
        for pair in pairs:
            row = cells.height - 1 - (pair.number - 1) * apart
            here, verdict = pair.number - 1 == now, verdicts.get(pair.number, "")
            ink = f"bold {Ink.focus}" if here else Ink.good if verdict == CLEAN else Ink.stop if verdict else Ink.text
            value = f"{pair.length_mm:g} mm" if self._rises_length else f"{pair.mm_s:g} mm/s"
            cells.put(0, row, f"{'▶' if here else ' '}{pair.number:>3}  {value:>9}", ink)
            done = verdict or now > pair.number - 1
            block = ("█" if done or here else "░") * post
            cells.put(NUMBER_COLUMNS, row, block, ink)
            cells.put(NUMBER_COLUMNS + post, row, DRAWN.get(verdict, "·") * (columns - 2 * post), Ink.dim)
            second = f"▁{block[1:]}" if "gap" in verdict else block
            cells.put(NUMBER_COLUMNS + columns - post, row, second, ink)
            cells.put(NUMBER_COLUMNS + columns + 2, row, verdict, ink)

    @property
    def _rises_length(self) -> bool:
        return getattr(self.aim, "rises", "length") == "length"

    def _beside(self, cells: Cells, left: int, aim: RetractionParameters, running: bool) -> None:
        """The shortest clean one large; what is live."""
        result = self.result if not running else None
        finding = result.finding("retraction") or result.finding("retraction_speed") if result is not None else None
        cells.put(left, 0, f"clean from this {aim.rises} on, {'mm' if self._rises_length else 'mm/s'}", Ink.quiet)
        if finding is None:
            cells.put(left, 1, "not found yet", Ink.text)
        else:
            put_large(cells, left, 1, f"{finding.value:g}", f"bold {Ink.focus}")
        session = self.session
        length, speed = (number_or(session.live(f"extruder.{key}"), 0.0) for key in ("retract_mm", "retract_mm_s"))
        cells.put(left, 6, f"live: {length:g} mm at {speed:g} mm/s", Ink.text)
        for row, words in enumerate(
            (
                "█╌╌╌█  strings: drawn back too little",
                "█   ▁█ a gap where a line begins:",
                "       drawn back too far",
                "█    █ clean: the shortest that is",
            )
        ):
            cells.put(left, 8 + row, words, Ink.dim)

    def _now(self, pairs: tuple[PostPair, ...]) -> int:
        """The pair that is printed, by its place from 0; -1: none yet."""
        way = self.read(WAY.name)
        progress = self.watched.latest if self.watched is not None else None
        if way is None or progress is None:
            return -1
        places = [pair.place for pair in pairs]
        if progress.about == "end":
            return len(places)
        return places.index(progress.about) if progress.about in places else -1
