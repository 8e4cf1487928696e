"""The bench of the test piece: a program over the bed to scale, before it runs and while it does."""

from __future__ import annotations

from rich.text import Text

from ublet.core.extrude.piece_trials import PieceParameters, piece
from ublet.core.machine.effective import effective
from ublet.core.motion.caps import Caps
from ublet.core.motion.program import Timetable, timetable
from ublet.core.units import duration
from ublet.session.patterns import start_of
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture
from ublet.tui.instruments.program_picture import Followed, program_picture
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch


class PieceBench(TrialBench):
    """A program from its first move to its last."""

    kind = "piece"
    title = "Test piece"
    why = "everything together for the first time: path, time, and no step lost"

    def picture(self) -> Picture:
        """The path over the bed, and where it is."""
        aim = self.aim
        assert isinstance(aim, PieceParameters)

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            machine = session.document.machine
            try:
                table = self._timed(session, aim)
                printed = piece(machine, aim.model_copy(update={"printed": True}))
            except ValueError as error:
                return Text(f"✗ {error}", Ink.stop)
            series = watched.series("way") if watched is not None else None
            followed = None
            if series is not None:
                segment, height_mm, feed, flow, held, left_s = series.rows[-1, 4:].tolist()
                followed = Followed(round(segment), height_mm, feed, flow, bool(held), left_s)
            here = {axis: session.connection.channel(f"axes.{axis}.mm") for axis in ("x", "y", "z")}
            bed = (machine.bed.width_mm, machine.bed.depth_mm)
            return program_picture(table, printed, start_of(machine), bed, here, followed, width, height)

        return draw

    def _timed(self, session: Session, aim: PieceParameters) -> Timetable:
        """The program by the live settings, or by the file's where there is no link."""
        machine, layers = session.document.machine, session.connection.layers
        live = {path: layer.live for path, layer in layers.items()} or dict(effective(machine))
        return timetable(piece(machine, aim), start_of(machine), Caps(live, session.document.board.steps_per_s))

    def running_words(self) -> str:
        """Where it is, and how long it takes yet."""
        progress = self.watched.latest if self.watched is not None else None
        if progress is None or not progress.planned or progress.left_s is None:
            return super().running_words()
        return f"◆ {progress.detail}, {duration(progress.left_s)} left"
