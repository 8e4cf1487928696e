"""The bench of resonance: how much more each axis moves than commanded; belts beside one another; a tower."""

from __future__ import annotations

import itertools

from rich.text import Text

from ublet.core.acts import MountSensor
from ublet.core.run import Series
from ublet.core.shake.belts_trials import BELTS, NAMES, TENSIONS, BeltsParameters
from ublet.core.shake.frame import FEET_HZ, Mode
from ublet.core.shake.loaded import LOADED
from ublet.core.shake.resonance_trials import ResonanceParameters, modes_of
from ublet.core.shake.shaking import DIRECTIONS, SHAKEN
from ublet.core.shake.sweeping import SweepParameters, axis_words
from ublet.core.shake.tower_trials import TowerParameters
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.shake.mounting import put_mounting
from ublet.tui.shake.responses import gain_graph, highest, put_curve, put_modes, put_peaks, put_spectrogram
from ublet.tui.shake.tower import tower_picture
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

SIDE_COLUMNS = 36
NARROW = 86
"""With fewer columns only the curve is drawn while it grows."""

BAR_COLUMNS = 24


class ResonanceBench(RecordedBench):
    """Where each axis rings."""

    kind = "resonance"
    title = "Resonance"
    why = "what rings after a corner stands as ghosts beside it in the print"
    unread = (SHAKEN,)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.before: dict[str, Series] = {}
        self._before_of: tuple[str, int | None, bool] | None = None

    def earlier(self, stream: str) -> Series | None:
        """The same curve of the run before the one that is shown."""
        key = (self.spec.name, self.entry.id if self.entry is not None else None, self.watched is not None)
        if key != self._before_of:
            self._before_of = key
            known = self.session.ledger.runs(self.spec.name, "proven", most=3)
            older = [run.id for run in known if self.watched is not None or run.id != key[1]]
            self.before = self.session.ledger.streams(max(older), self.unread) if older else {}
        return self.before.get(stream)

    def picture(self) -> Picture:
        """What grows, or what was found."""
        aim = self.aim

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            if isinstance(aim, TowerParameters):
                return tower_picture(session, self.read, self.shown_result, watched, aim, width, height)
            assert isinstance(aim, SweepParameters)
            if self.question is not None and isinstance(cue := self.question[0].cue, MountSensor):
                cells = Cells(width, height)
                put_mounting(cells, 0, session.machine_now, cue.part)
                return cells.text()
            asks = isinstance(aim, BeltsParameters) and self.question is not None
            if watched is not None and not asks and (now := _sweeping(watched, aim)) is not None:
                return self._growing(aim, now, watched, width, height)
            if isinstance(aim, BeltsParameters):
                return belts_picture(self.read, aim, width, height)
            assert isinstance(aim, ResonanceParameters)
            return self._found(aim, width, height)

        return draw

    def _growing(
        self, aim: SweepParameters, now: tuple[str, int], watched: TrialWatch, width: int, height: int
    ) -> Text:
        direction, number = now
        cells = Cells(width, height)
        side = 0 if width < NARROW else round(0.42 * width)
        whole = itertools.takewhile(
            lambda mode: mode is not None, (watched.series(f"growing {direction} {n}") for n in itertools.count(1))
        )
        known = [band for band in whole if band is not None]
        curves = known[-number:]
        before = self.earlier(f"transfer {direction}")
        gains = [curve.column("gain") for curve in curves] + ([before.column("gain")] if before is not None else [])
        drawn = gain_graph(
            cells,
            0,
            0,
            (width - side, height),
            f"{axis_words(direction)} measured / commanded acceleration",
            (aim.from_hz, aim.to_hz),
            highest(gains),
        )
        if before is not None:
            put_curve(drawn, before.column("hz"), before.column("gain"), Ink.faint)
        for curve in curves[:-1]:
            put_curve(drawn, curve.column("hz"), curve.column("gain"), Ink.proposal)
        if curves:
            last = curves[-1]
            put_curve(drawn, last.column("hz"), last.column("gain"), Ink.focus)
            drawn.mark(float(last.rows[-1, 0]), float(min(last.rows[-1, 1], drawn.up[1])), "◉", f"bold {Ink.focus}")
        if side:
            hz = f"{curves[-1].rows[-1, 0]:.0f}" if curves else "-"
            put_large(cells, width - side + 3, 0, hz, f"bold {Ink.focus}")
            cells.put(width - side + 5 + 4 * len(hz), 2, "Hz", Ink.dim)
            spectrum = watched.series(f"spectrum {direction} {len(known)}")
            put_spectrogram(cells, width - side + 3, 4, (side - 4, height - 4), spectrum, aim.seconds)
        return cells.text()

    def _found(self, aim: ResonanceParameters, width: int, height: int) -> Text:
        """X over Y: what was measured, the modes, what an earlier run had behind it."""
        cells = Cells(width, height)
        result = self.shown_result
        rows_each = max(8, height // 2)
        for row, axis in enumerate(("x", "y")):
            top = row * rows_each
            series, before = self.read(f"transfer {axis}"), self.earlier(f"transfer {axis}")
            modes = modes_of(result, axis) if result is not None else ()
            loaded = self.read(f"transfer {axis} {LOADED}")
            _axis(cells, top, (width, rows_each), axis, (series, before, loaded), modes, aim)
            repeats = result.finding("repeats", axis=axis) if result is not None else None
            said = [(f"repeats agree within {100 * repeats.value:.2g} %", Ink.dim)] if repeats is not None else []
            with_load = result.finding(LOADED, axis=axis) if result is not None else None
            if with_load is not None:
                said.append((f"loaded, it rings at {with_load.value:.1f} Hz", Ink.text))
            for line, (words, ink) in enumerate(said):
                if rows_each > 5 + len(modes) + line + 1:
                    cells.put(width - SIDE_COLUMNS + 3, top + 6 + len(modes) + line, words, ink)
        if result is None:
            cells.put(12, 2, "not swept yet", Ink.quiet)
        return cells.text()


def _sweeping(watched: TrialWatch, aim: SweepParameters) -> tuple[str, int] | None:
    """The direction that is swept now, and how often it was begun; None: none yet."""
    direction, _, number = (watched.latest.about if watched.latest is not None else "").partition(" ")
    return (direction, int(number)) if direction in DIRECTIONS and number else None


def _axis(
    cells: Cells,
    top: int,
    size: tuple[int, int],
    axis: str,
    curves: tuple[Series | None, Series | None, Series | None],
    modes: tuple[Mode, ...],
    aim: SweepParameters,
) -> None:
    """One axis: its curve, the one before and the one with a load behind it, its modes as a curve and in figures."""
    width, height = size
    series, before, loaded = curves
    gains = [curve.column("gain") for curve in curves if curve is not None]
    drawn = gain_graph(
        cells, 0, top, (width - SIDE_COLUMNS, height), axis.upper(), (aim.from_hz, aim.to_hz), highest(gains)
    )
    for behind, ink in ((before, Ink.faint), (loaded, Ink.dim)):
        if behind is not None:
            put_curve(drawn, behind.column("hz"), behind.column("gain"), ink)
    if modes:
        put_modes(drawn, modes, Ink.proposal)
    if series is not None:
        put_curve(drawn, series.column("hz"), series.column("gain"), Ink.focus)
    left = width - SIDE_COLUMNS + 3
    if not modes:
        return
    put_peaks(drawn, modes, Ink.proposal)
    main = modes[0]
    put_large(cells, left, top, f"{main.frequency_hz:.1f}", f"bold {Ink.focus}")
    cells.put(left + 17, top + 1, f"±{2 * main.frequency_u:.2g} Hz", Ink.text)
    cells.put(left + 17, top + 2, f"{axis.upper()} rings most", Ink.dim)
    cells.put(left, top + 4, f"{'Hz':>7}{'damping':>9}{'share':>8}", Ink.dim)
    for row, mode in enumerate(modes[: max(1, height - 7)]):
        feet = "  feet" if mode.frequency_hz < FEET_HZ else ""
        words = f"{mode.frequency_hz:>7.1f}{mode.damping_ratio:>9.3f}{100 * mode.modal_share:>6.0f} %{feet}"
        cells.put(left, top + 5 + row, words, Ink.text if row == 0 else Ink.dim)


def belts_picture(read: SeriesReader, aim: BeltsParameters, width: int, height: int) -> Text:
    """Both diagonals in one graph; beside it how hard each belt pulls, and pulled before."""
    cells = Cells(width, height)
    tensions = read(TENSIONS.name)
    rounds = int(tensions.rows[-1, 0]) if tensions is not None else 0
    curves = [read(f"transfer {direction} {rounds}") for direction in BELTS]
    inks = (Ink.focus, Ink.proposal)
    gains = [curve.column("gain") for curve in curves if curve is not None]
    side = SIDE_COLUMNS if width >= NARROW else 0
    title = "both diagonals: measured / commanded acceleration"
    drawn = gain_graph(cells, 0, 0, (width - side, height), title, (aim.from_hz, aim.to_hz), highest(gains))
    for series, ink in zip(curves, inks, strict=True):
        if series is not None:
            put_curve(drawn, series.column("hz"), series.column("gain"), ink)
    if tensions is None:
        cells.put(12, 2, "not swept yet", Ink.quiet)
        return cells.text()
    _, *alone, ratio, u = tensions.rows[-1].tolist()
    left = width - SIDE_COLUMNS + 3 if side else 12
    most = max(1.0, ratio)
    good = min(ratio, 1 / ratio) >= 1 - aim.alike
    cells.put(left, 0, "tension of belt B / belt A", Ink.dim)
    put_large(cells, left, 1, f"{ratio:.2f}", f"bold {Ink.good if good else Ink.stop}")
    cells.put(left + 16, 2, f"±{2 * u:.2f}", Ink.text)
    for row, (name, tension, hz, ink) in enumerate(zip(NAMES, (1.0, ratio), alone, inks, strict=True)):
        cells.put(left, 6 + 3 * row, f"{name} ", f"bold {ink}")
        cells.put(left + 2, 6 + 3 * row, "━" * max(1, round(tension / most * BAR_COLUMNS)), ink)
        cells.put(left + 2, 7 + 3 * row, f"natural frequency {hz:.1f} Hz", Ink.dim)
    words = "both pull alike" if good else f"{'A' if ratio > 1 else 'B'} is slack"
    cells.put(left, 12, f"{'✓' if good else '✗'} {words}", f"bold {Ink.good if good else Ink.stop}")
    for row, (number, _, _, before, _) in enumerate(tensions.rows[:-1].tolist()):
        cells.put(left, 14 + row, f"round {number:.0f}: {before:.2f}", Ink.dim)
    return cells.text()
