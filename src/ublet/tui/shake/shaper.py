"""The bench of the input shaper: what each leaves of ringing and rounds, slid by hand; ringing before and after."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import numpy as np
from rich.text import Text
from textual.binding import Binding

from ublet.core.run import Option, Proposal, TrialResult
from ublet.core.settings import number_or
from ublet.core.shake.choosing import OPTIMISED, Limits, Offer, ShaperCandidate, judged, to_be_had
from ublet.core.shake.frame import Mode, in_print
from ublet.core.shake.loaded import loaded_drift
from ublet.core.shake.shaking import SHAKEN
from ublet.core.shake.shaper_trials import (
    AXES,
    IMPULSES,
    RECOMMENDED,
    TUNED,
    ShaperParameters,
    left_over,
    limits_for,
    modes_known,
    proposals_of,
    step_of,
)
from ublet.core.shake.shapers import NAMED, ImpulseSequence, live_impulses, named
from ublet.core.shake.verify_trials import ShaperVerifyParameters
from ublet.core.words import several
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.shake.sketches import put_shapers, put_stops
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

TABLE_ROWS = 9
HZ_STEP, DAMPING_STEP, DRIFT_STEP, ROUNDING_STEP = 0.5, 0.01, 0.02, 0.01
POINTS = 160
MOST_LEFT = 50.0
ROUNDINGS_MM = (0.01, 0.02, 0.03, 0.04, 0.05, 0.06, 0.08, 0.1, 0.12, 0.15, 0.2, 0.25, 0.3, 0.4)
"""Where what is to be had is worked out: from hardly any rounding to what every shaper keeps."""

TABLE_COLUMNS, LEAST_GRAPH = 74, 34
"""Columns of the table, and the fewest beside it in which ringing against rounding is drawn."""

LEAST_COLUMNS = 96
"""With fewer columns the step of the speed is left out."""


class ShaperBench(RecordedBench):
    """Moves that do not ring."""

    kind = "shaper"
    title = "Input shaper"
    why = "a move split into timed impulses excites no vibration"
    unread = (SHAKEN,)
    BINDINGS = [
        Binding(
            "ctrl+right",
            "slide(1)",
            "frequency",
            key_display="ctrl ←→",
            tooltip="Slide the frequency of the chosen shaper",
        ),
        Binding("ctrl+left", "slide(-1)", show=False),
        Binding("ctrl+up", "damp(1)", "damping", key_display="ctrl ↑↓", tooltip="Slide its damping"),
        Binding("ctrl+down", "damp(-1)", show=False),
        Binding("f", "drift(1)", "drift", key_display="f F", tooltip="Let the frequencies drift more, or less"),
        Binding("F", "drift(-1)", show=False),
        Binding("r", "rounding(1)", "rounding", key_display="r R", tooltip="Allow more rounding, or less"),
        Binding("R", "rounding(-1)", show=False),
        Binding("n", "axis", "axis", tooltip="The other axis"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.axis = "x"
        self._frames: dict[str, tuple[Mode, ...]] = {}
        self._drifts: dict[str, float] = {}
        self._slid: dict[tuple[str, str], tuple[float, float]] = {}
        """Frequency and damping that were slid to, by axis and shaper; they stay beside what is computed."""
        self._kinds: dict[str, str] = {}
        """The shaper that was slid, by axis: it is the one that is kept there."""

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Sliding is for choosing, not for checking."""
        if action in ("slide", "damp", "drift", "rounding"):
            return self.watched is None and isinstance(self.aim, ShaperParameters) and bool(self.frame())
        if action == "axis":
            return self.watched is None
        return super().check_action(action, parameters)

    def reload(self) -> None:
        """Take what is newest from the ledger; how the axes ring, too."""
        known = modes_known(self._proven)
        self._frames = {axis: in_print(modes) for axis, modes in known.items()}
        swept = self.session.ledger.latest("resonance", "proven")
        self._drifts = {axis: loaded_drift(swept.result if swept is not None else None, axis) for axis in AXES}
        super().reload()

    def frame(self) -> tuple[Mode, ...]:
        """How the axis that is looked at rings; nothing where that is not known."""
        return self._frames.get(self.axis, ())

    def _proven(self, trial: str) -> TrialResult | None:
        entry = self.session.ledger.latest(trial, "proven")
        return entry.result if entry is not None else None

    @property
    def option(self) -> Option | None:
        """What would be kept: as chosen or recommended, and what was slid by hand in its place."""
        computed = super().option
        if computed is None or not self._kinds or not isinstance(self.aim, ShaperParameters):
            return computed
        proposals: list[Proposal] = []
        before, live = {proposal.setting: proposal.before for proposal in computed.proposals}, self.session.live
        for axis in AXES:
            slid = next((shaper for shaper in self.shapers(axis) if shaper.name == self._kinds.get(axis)), None)
            if slid is not None:
                proposals += proposals_of(axis, slid, self.limits(axis), lambda path: before.get(path, live(path)))
            else:
                proposals += [
                    proposal for proposal in computed.proposals if proposal.setting.startswith(f"axes.{axis}.")
                ]
        by_hand = several([f"{axis.upper()} {kind}" for axis, kind in sorted(self._kinds.items())])
        return Option(computed.name, f"{by_hand} as slid by hand; ↑↓ gives it up", tuple(proposals), computed.figures)

    def action_choose(self, by: int) -> None:
        """Another of several options: of the axis that is looked at nothing is by hand any more."""
        self._kinds.pop(self.axis, None)
        super().action_choose(by)

    def chosen_name(self) -> str:
        """The kind that is looked at: what was slid, or else the option that would be kept."""
        if self.axis in self._kinds:
            return self._kinds[self.axis]
        option = super().option
        if option is None or option.name == RECOMMENDED:
            kinds = (
                [p.after for p in option.proposals if p.setting == f"axes.{self.axis}.shaper.kind"] if option else []
            )
            live = str(self.session.live(f"axes.{self.axis}.shaper.kind"))
            kind = str(kinds[0]) if kinds else live
            return OPTIMISED if kind == "own" else kind if kind in NAMED else "zv"
        return option.name

    def limits(self, axis: str = "") -> Limits:
        """What is wanted for an axis; without one, for that which is looked at."""
        aim, axis = self.aim, axis or self.axis
        assert isinstance(aim, ShaperParameters)
        own = number_or(self.session.live(f"axes.{axis}.acceleration_mm_s2"), 5000.0)
        gentle = number_or(self.session.live("motion.print_acceleration_mm_s2"), 0.0)
        return limits_for(aim, own, gentle, self._drifts.get(axis, 0.0))

    def shapers(self, axis: str = "") -> list[ShaperCandidate]:
        """Every shaper of an axis (without one, of that which is looked at): as recorded by the last run, those that
        were slid as they were slid.
        """
        axis = axis or self.axis
        frame, aim = self._frames.get(axis, ()), self.aim
        if not frame or not isinstance(aim, ShaperParameters):
            return []
        limits, candidates = self.limits(axis), []
        for name in (*NAMED, OPTIMISED):
            drawn, tuned = (self.read(f"{stream.name} {axis} {name}") for stream in (IMPULSES, TUNED))
            if drawn is None or tuned is None:
                continue
            impulses, (at, z) = ImpulseSequence(drawn.rows[:, 0], drawn.rows[:, 1]), tuned.rows[0].tolist()
            if (slid := self._slid.get((axis, name))) is not None:
                at, z = slid
                impulses = named(name, at, z)
            candidates.append(judged(name, at, impulses, frame, limits, z))
        return candidates

    def _slide(self, hz: float = 0.0, damping: float = 0.0) -> None:
        """Move the chosen named shaper of the axis that is looked at; it is then the one to be kept there."""
        name = self.chosen_name()
        now = next((shaper for shaper in self.shapers() if shaper.name == name and name in NAMED), None)
        if now is None:
            self.say("An optimised train has no frequency to slide: choose a named shaper with ↑↓.", Ink.dim)
            return
        at = round(min(199.0, max(5.0, now.frequency_hz + hz)), 1)
        z = round(min(0.4, max(0.01, now.damping_ratio + damping)), 3)
        self._slid[self.axis, name] = (at, z)
        self._kinds[self.axis] = name
        self.refresh_state()

    def slide_to(self, **changes: float) -> None:
        """Take other parameters, and draw."""
        self.aims[self.spec.name] = self.aim.model_copy(update=changes)
        self.refresh_state()

    def action_slide(self, way: int) -> None:
        """Another frequency for the chosen shaper of the axis."""
        self._slide(hz=way * HZ_STEP)

    def action_damp(self, way: int) -> None:
        """Another damping."""
        self._slide(damping=way * DAMPING_STEP)

    def action_drift(self, way: int) -> None:
        """Another drift."""
        assert isinstance(self.aim, ShaperParameters)
        self.slide_to(drift=round(min(0.4, max(0.0, self.limits().drift + way * DRIFT_STEP)), 2))

    def action_rounding(self, way: int) -> None:
        """Another limit of the rounding."""
        assert isinstance(self.aim, ShaperParameters)
        self.slide_to(rounding_mm=round(min(2.0, max(0.02, self.aim.rounding_mm + way * ROUNDING_STEP)), 2))

    def action_axis(self) -> None:
        """The other axis."""
        self.axis = "y" if self.axis == "x" else "x"
        self.refresh_state()

    def picture(self) -> Picture:
        """The shapers, or what rang before and after."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            if isinstance(self.aim, ShaperVerifyParameters):
                return verify_picture(self.read, self.shown_result, width, height)
            return self._choosing(width, height)

        return draw

    def _choosing(self, width: int, height: int) -> Text:
        cells = Cells(width, height)
        frame, aim = self.frame(), self.aim
        assert isinstance(aim, ShaperParameters)
        if not frame:
            cells.put(0, 0, "How the axes ring is not known yet: sweep them first (station resonance).", Ink.quiet)
            put_shapers(cells, 2)
            return cells.text()
        shapers, limits = self.shapers(), self.limits()
        chosen = next((shaper for shaper in shapers if shaper.name == self.chosen_name()), None)
        self._table(cells, shapers, chosen, limits)
        top, size = TABLE_ROWS, height - TABLE_ROWS
        wide = width if width < LEAST_COLUMNS else round(0.6 * width)
        low, high = min(m.frequency_hz for m in frame), max(m.frequency_hz for m in frame)
        hz = np.linspace(0.5 * low, 1.4 * high, POINTS)
        words = ("residual vibration, %, of a mode at this frequency", "Hz")
        drawn = graph(cells, 0, top, (wide, size), (float(hz[0]), float(hz[-1])), (0.0, 100.0), words)
        for mode in frame:
            for fraction in (1 - limits.drift, 1 + limits.drift):
                column = round(drawn.at(mode.frequency_hz * fraction, 0.0)[0])
                for row in range(drawn.height):
                    cells.put(column, drawn.top + row, "┊", Ink.faint)
            column = round(drawn.at(mode.frequency_hz, 0.0)[0])
            for row in range(drawn.height):
                cells.put(column, drawn.top + row, "╎", Ink.quiet)
            cells.put(column + 1, drawn.top, f"{100 * mode.modal_share:.0f} %", Ink.dim)
        live = live_impulses(self.session.live, self.axis)
        if live is not None:
            drawn.line(hz.tolist(), [100 * v for v in left_over(live, hz, frame[0].damping_ratio)], Ink.good)
        if chosen is not None:
            left = left_over(chosen.impulses, hz, frame[0].damping_ratio)
            drawn.line(hz.tolist(), [100 * value for value in left], Ink.focus)
        if wide < width and chosen is not None:
            self._step(cells, wide + 2, top, (width - wide - 2, size), chosen.impulses, live)
        if chosen is not None and width >= TABLE_COLUMNS + LEAST_GRAPH:
            self._offers(cells, TABLE_COLUMNS, 0, (width - TABLE_COLUMNS, TABLE_ROWS), chosen)
        return cells.text()

    def _table(
        self, cells: Cells, shapers: list[ShaperCandidate], chosen: ShaperCandidate | None, limits: Limits
    ) -> None:
        """All shapers in figures."""
        head = f"{self.axis.upper()}  {'at Hz':>18}{'left':>9}{'drifted':>10}{'rounds':>11}{'max. mm/s²':>14}"
        cells.put(0, 0, head, Ink.dim)
        for row, shaper in enumerate(shapers, start=1):
            here = shaper is chosen
            fits = shaper.keeps(limits) and shaper.rounds(limits) <= limits.rounding_mm
            most = shaper.impulses.highest_mm_s2(limits.rounding_mm)
            mark = "✓" if fits else "·"
            left = f"{100 * shaper.residual:>8.1f} %{100 * shaper.drifted:>8.1f} %{shaper.rounds(limits):>8.3f} mm"
            words = f"{mark} {shaper.name:<15}{shaper.frequency_hz:>4.1f}{left}{most:>14.0f}"
            ink = f"bold {Ink.focus}" if here else Ink.text if fits else Ink.dim
            cells.put(0, row, f"{'▸' if here else ' '}{words}", ink)
        if not shapers:
            cells.put(2, 1, "not computed yet: enter", Ink.quiet)
        limits_words = (
            f"at most {100 * limits.residual:g} % left, twice that at ±{100 * limits.drift:.0f} %; "
            f"{limits.rounding_mm:g} mm at {limits.acceleration_mm_s2:g} mm/s²"
        )
        cells.put(2, min(TABLE_ROWS - 2, len(shapers) + 1), limits_words, Ink.proposal)

    def _offers(self, cells: Cells, left: int, top: int, size: tuple[int, int], chosen: ShaperCandidate) -> None:
        """What is to be had: the least ringing left for each rounding; where the limit and the chosen shaper are."""
        limits = self.limits()
        offers = _to_be_had(self.frame(), replace(limits, rounding_mm=1.0), ROUNDINGS_MM)
        if not offers:
            return
        widest = 1.5 * max(limits.rounding_mm, chosen.rounds(limits))
        offers = tuple(offer for offer in offers if offer.rounding_mm <= widest)
        words = ("least ringing, % (r slides the rounding)", "mm")
        drawn = graph(cells, left, top, size, (0.0, widest), (0.0, MOST_LEFT), words)
        column = round(drawn.at(limits.rounding_mm, 0.0)[0])
        for row in range(drawn.height):
            cells.put(column, drawn.top + row, "┊", Ink.proposal)
        drawn.line([offer.rounding_mm for offer in offers], [100 * offer.left for offer in offers], Ink.text)
        worst = 100 * chosen.worst
        at, row = (round(coordinate) for coordinate in drawn.at(chosen.rounds(limits), min(MOST_LEFT, worst)))
        cells.put(at, row, "◆", Ink.focus)
        here = _to_be_had(self.frame(), limits, (limits.rounding_mm,))
        best = f"{here[0].name} {100 * here[0].left:.1f} %" if here else "no shaper"
        least = f"{limits.rounding_mm:.2f} mm: {best}"
        cells.put(left + size[0] - len(least), drawn.top, least, Ink.proposal)

    def _step(
        self,
        cells: Cells,
        left: int,
        top: int,
        size: tuple[int, int],
        impulses: ImpulseSequence,
        live: ImpulseSequence | None,
    ) -> None:
        """A step of the speed as it is made of impulses."""
        longest = max(impulses.duration_s, live.duration_s if live is not None else 0.0, 0.005)
        words = ("a step of the speed, shaped, %", "ms")
        drawn = graph(cells, left, top, size, (-0.1 * longest * 1000, 1150 * longest), (0.0, 110.0), words)
        for shaper, ink in ((live, Ink.good), (impulses, Ink.focus)):
            if shaper is None:
                continue
            rows = [(-0.1 * longest, 0.0), *step_of(shaper), (1.15 * longest, 1.0)]
            drawn.line([1000 * t for t, _ in rows], [100 * min(1.0, v) for _, v in rows], ink)


@lru_cache(maxsize=16)
def _to_be_had(frame: tuple[Mode, ...], limits: Limits, roundings_mm: tuple[float, ...]) -> tuple[Offer, ...]:
    """The curve of a frame, worked out once while it is slid along."""
    return to_be_had(frame, limits, roundings_mm)


def verify_picture(read: SeriesReader, result: TrialResult | None, width: int, height: int) -> Text:
    """For each axis what rang after a stop, before and after; measured beside predicted."""
    cells = Cells(width, height)
    shown = [axis for axis in AXES if read(f"ringing {axis} before") is not None]
    if not shown:
        cells.put(0, 0, "not checked yet", Ink.quiet)
        put_stops(cells, 2)
        return cells.text()
    rows_each = height // len(shown)
    side = 34 if width >= 90 else 0
    for number, axis in enumerate(shown):
        top = number * rows_each
        curves = [(read(f"ringing {axis} {when}"), ink) for when, ink in (("before", Ink.stop), ("after", Ink.good))]
        most = max(float(np.abs(series.rows[:, 1]).max()) for series, _ in curves if series is not None)
        words = (f"{axis.upper()} after a sharp stop, m/s²", "ms since the stop")
        drawn = graph(cells, 0, top, (width - side, rows_each), (-50.0, 350.0), (-1.05 * most, 1.05 * most), words)
        for series, ink in curves:
            if series is not None:
                drawn.line((1000 * series.rows[:, 0]).tolist(), series.rows[:, 1].tolist(), ink)
        left, predicted = (
            result.finding(what, axis=axis) if result is not None else None for what in ("left", "predicted")
        )
        at = width - side + 3 if side else 12
        cells.put(at, top, "without the shaper", Ink.stop)
        cells.put(at, top + 1, "with it", Ink.good)
        if left is not None and predicted is not None and side:
            put_large(cells, at, top + 3, f"{100 * left.value:.1f}", f"bold {Ink.focus}")
            cells.put(at + 16, top + 4, f"±{200 * (left.uncertainty or 0.0):.1f} % left", Ink.text)
            predicted_words = f"predicted {100 * predicted.value:.1f} ±{200 * (predicted.uncertainty or 0.0):.1f} %"
            cells.put(at, top + 7, predicted_words, Ink.proposal)
    return cells.text()
