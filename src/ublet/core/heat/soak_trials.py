"""The trial of the soak: heat the bed from cold, and watch its surface until it stands still."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench
from ublet.core.capabilities import always
from ublet.core.heat.demands import beds
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.model_fit import UnfitRecord, fit_model
from ublet.core.heat.prediction import time_to
from ublet.core.heat.report import model_from
from ublet.core.heat.soak import SheetModel, drift_of, fit_sheet, predict_soak, sheet_of, still_after, still_from
from ublet.core.heat.start import check_room_above, from_room, heat_needs, room_temperature, surface_sensor
from ublet.core.heat.trials import STEP_HEADROOM_C
from ublet.core.machine.schema import MachineFile
from ublet.core.remedy import ByHand, ChangeParameter
from ublet.core.run import Finding, Option, Progress, Proposal, Stream, TrialFailed, TrialResult, about
from ublet.core.settings import Part, number_or, setting
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import duration, show

COLUMNS = ("time_s", "duty", "temperature_c", "surface_c")
REACHED_C = 1.0
ROW_S = 1.0
"""A row of the record is the mean over so long, s."""

MOST_MISSED = 10
"""A surface sensor may miss so many rows, one after the other."""

LOOK_S = 10.0
WINDOW_S = 120.0
"""The drift is read over so long, s."""

NOW_S = 20.0
"""Where the bed stands is the mean over so long, s."""

LONGER_S = 60.0
"""Without a surface sensor the record goes on for so long after the soak that it shows, s."""

FIRST_FIT_S = 120.0
"""Without a model either, the record is fitted first so long after the target was reached, and at each such time, s."""

OFF_MIN = 1.0
"""A bed that stands still is off its target by no more than it may drift in so many minutes."""

NO_SHEET = SheetModel(1.0)
"""Taken where the record shows none: the surface is the bed."""

UNSEEN_FRACTION = 0.15
"""How far a surface usually stays below its sensor, as a fraction of its height above the room."""

SENSOR_C = 0.5
"""Two sensors of the usual tolerance agree no better than this when they are hot: far more than their scatter, °C."""

SURE_FRACTION = 0.1
ROUND_S = 10


class SoakParameters(Part):
    """What counts as standing still, and how long to wait for it."""

    heater: str = setting("Heater of the bed.", default="bed")
    target: float = setting("Bed temperature.", unit="°C", low=30, high=150, default=60.0)
    drift: float = setting(
        "The surface stands still when it drifts by less than this.", unit="°C/min", low=0.02, high=2, default=0.2
    )
    longest: float = setting("Longest wait at the target.", unit="s", low=120, high=10800, default=3600.0)
    wait: bool = setting("Wait for the room without asking, when the bed is still warm.", default=False)


@dataclass
class Watched:
    """The record of a soak, a row a second: time since the heater began, duty, bed, surface (nan: no such sensor)."""

    bench: Bench
    surface: str | None

    def __post_init__(self) -> None:
        self.rows: list[tuple[float, float, float, float]] = []
        self.reached_s: float | None = None
        self._within: list[tuple[float, float, float]] = []
        self._missed = 0

    def add(self, at: float, duty: float, celsius: float) -> None:
        """A sample: kept in the mean of its second."""
        self._within.append((at, duty, celsius))
        if at - self._within[0][0] < ROW_S - 0.05:
            return
        time_s, mean_duty, mean_c = np.mean(self._within, axis=0).tolist()
        self._within = []
        seen = self.bench.heat.celsius(self.surface) if self.surface else None
        self._missed = self._missed + 1 if seen is None and self.surface is not None else 0
        if self._missed > MOST_MISSED:
            raise TrialFailed(
                f"The {self.surface} sensor stopped reading: check its plug and cable, then try again.",
                ByHand(f"check plug and cable of the {self.surface} sensor"),
            )
        row = (time_s, mean_duty, mean_c, math.nan if seen is None else seen)
        self.rows.append(row)
        self.bench.record.row("soak", row)

    @property
    def now_s(self) -> float:
        """The time of the newest row."""
        return self.rows[-1][0] if self.rows else 0.0

    def columns(self, since_s: float = 0.0) -> tuple[Floats, ...]:
        """Times, duties, bed and surface from a time on; where the surface is measured, without its gaps."""
        rows = np.array(self.rows, dtype=np.float64).reshape(-1, len(COLUMNS))
        good = rows[:, 0] >= since_s
        if self.surface is not None:
            good &= np.isfinite(rows[:, 3])
        return tuple(rows[good].T)


@dataclass(frozen=True)
class Aimed:
    """What a soak is judged by: the aim, the room, the bed's model when it was tuned, the largest duty,
    whether its surface has a sensor."""

    aim: SoakParameters
    room_c: float
    model: HeaterModel | None
    limit: float
    by_surface: bool

    @property
    def conditions(self) -> dict[str, float]:
        """What the findings hold for."""
        return {"target_c": self.aim.target, "room_c": self.room_c, "drift_c_min": self.aim.drift}


async def bed_soak(bench: Bench, aim: SoakParameters) -> TrialResult:
    """Hold the bed at its target from cold until its surface stands still; how long that takes is its soak.

    With a sensor on the surface its drift is read. Without one the bed’s power is used: while heat still flows into
    the sheet, the bed takes more power than for holding; the second store of its model is that sheet.
    """
    with bench.aside():
        check_room_above(bench.machine, aim.heater, aim.target, STEP_HEADROOM_C)
    surface = surface_sensor(bench.machine, aim.heater)
    if surface is not None and bench.heat.celsius(surface) is None:
        raise TrialFailed(
            f"The {surface} sensor on the surface does not read: check its plug. Nothing was heated.",
            ByHand(f"check plug and cable of the {surface} sensor"),
        )
    tuned = bench.record.earlier("bed-control", heater=aim.heater)
    samples = bench.heat.samples(aim.heater)
    limit = number_or(bench.settings.live(f"heaters.{aim.heater}.power_limit"), 1.0)

    def aimed_from(room_c: float) -> Aimed:
        return Aimed(aim, room_c, model_from(tuned, room_c) if tuned is not None else None, limit, surface is not None)

    with bench.aside():
        there = aimed_from(room_temperature(bench, aim.heater))
    then_s = _before(there, sheet_of(there.model), there.room_c) if there.model is not None else None
    room = await from_room(bench, aim.heater, samples, aim.wait, then_s=then_s)
    aimed = aimed_from(room)
    model = aimed.model
    watched = Watched(bench, surface)
    sheet = sheet_of(model) if model is not None else None
    began, looked = None, 0.0
    await bench.heat.hold(aim.heater, aim.target)
    async for sample in samples:
        if sample.target_c is None:
            continue  # the record begins when the board drives
        began = sample.time_s if began is None else began
        at = sample.time_s - began
        watched.add(at, sample.duty, sample.celsius)
        if watched.reached_s is None and abs(sample.celsius - aim.target) <= REACHED_C:
            watched.reached_s = at
        if at - looked < LOOK_S:
            continue
        looked = at
        if watched.reached_s is None:
            bench.progress(Progress("heating", 0.0, _before(aimed, sheet, sample.celsius), f"{sample.celsius:.1f} °C"))
            continue
        if at - watched.reached_s > aim.longest:
            await bench.heat.off(aim.heater)
            return _not_still(watched, aimed)
        sheet = await _sheet(bench, watched, aimed, sheet)
        if _still(watched, aimed, sheet):
            break
        bench.progress(_progress(watched, aimed, sheet))
    await bench.heat.off(aim.heater)
    return _concluded(bench, watched, aimed, sheet)


def _before(aimed: Aimed, sheet: SheetModel | None, celsius: float) -> float | None:
    """Seconds left while it still climbs, by the bed's model; None without one."""
    aim, model = aimed.aim, aimed.model
    heat_up = time_to(model, celsius, aim.target, aimed.limit) if model is not None else None
    if model is None or sheet is None or heat_up is None:
        return heat_up
    soak = predict_soak(model, sheet, aim.target, aimed.limit, aim.drift) or 0.0
    return heat_up + soak + (0.0 if aimed.by_surface else LONGER_S)


async def _sheet(bench: Bench, watched: Watched, aimed: Aimed, known: SheetModel | None) -> SheetModel | None:
    """The sheet by what was recorded so far: by its own sensor, else by the bed's model, else by this record's."""
    if watched.surface is not None:
        time_s, _, bed, surface = watched.columns()
        return await bench.compute(fit_sheet, time_s, bed, surface, aimed.room_c)
    held = watched.now_s - (watched.reached_s or 0.0)
    if known is not None and aimed.model is not None:
        return known
    if held < FIRST_FIT_S or held % FIRST_FIT_S >= LOOK_S:
        return known
    time_s, duty, bed, _ = watched.columns()
    try:
        fit = await bench.compute(fit_model, time_s, duty, bed, aimed.room_c)
    except UnfitRecord:
        return known
    return sheet_of(fit.model, fit.uncertainty)


def _soak(watched: Watched, aimed: Aimed, sheet: SheetModel) -> float:
    """Seconds from the target reached until the surface stands still, by what is known of the sheet: what was, and
    what will be if the bed stays where it is.
    """
    time_s, _, bed, _ = watched.columns()
    surface = sheet.follows(time_s, bed, aimed.room_c)
    held = float(time_s[-1]) - (watched.reached_s or 0.0)
    now_c = float(bed[time_s > time_s[-1] - NOW_S].mean())
    off = aimed.room_c + sheet.fraction * (now_c - aimed.room_c) - float(surface[-1])
    left = still_after(off, sheet.lag_s, aimed.aim.drift)
    if left > 0:
        return held + left
    return max(0.0, still_from(time_s, surface, aimed.aim.drift) - (watched.reached_s or 0.0))


def _still(watched: Watched, aimed: Aimed, sheet: SheetModel | None) -> bool:
    """Whether it is sure that the surface stands still: it drifts by little, and the bed below it is at its target (at
    the turning point of a swing it would drift by little, too).
    """
    held = watched.now_s - (watched.reached_s or 0.0)
    time_s, _, bed, surface = watched.columns(watched.now_s - WINDOW_S)
    if held < WINDOW_S or abs(float(bed.mean()) - aimed.aim.target) > aimed.aim.drift * OFF_MIN:
        return False
    if watched.surface is not None:
        return drift_of(time_s, surface).surely_below(aimed.aim.drift)
    if sheet is None:
        return held >= 3 * FIRST_FIT_S  # the record shows no sheet, and nothing else can
    return sheet.lag_u_s < SURE_FRACTION * sheet.lag_s and held >= _soak(watched, aimed, sheet) + LONGER_S


def _progress(watched: Watched, aimed: Aimed, sheet: SheetModel | None) -> Progress:
    """Where it is, in words, with the time left."""
    held = watched.now_s - (watched.reached_s or 0.0)
    longer = 0.0 if aimed.by_surface else LONGER_S
    left = max(0.0, _soak(watched, aimed, sheet) + longer - held) if sheet is not None else None
    words = f"at {aimed.aim.target:g} °C for {duration(held)}"
    if watched.surface is not None and held > LOOK_S:
        time_s, _, _, surface = watched.columns(max(watched.reached_s or 0.0, watched.now_s - WINDOW_S))
        words += f", surface {surface[-1]:.1f} °C, drifts {drift_of(time_s, surface).c_min:+.2f} °C/min"
    return Progress("soaking", held / (held + left) if left is not None and held > 0 else 0.0, left, words)


def _not_still(watched: Watched, aimed: Aimed) -> TrialResult:
    complaint = ""
    if watched.surface is not None:
        time_s, _, _, surface = watched.columns(watched.now_s - WINDOW_S)
        complaint = f" Its surface still drifts by {drift_of(time_s, surface).c_min:+.2f} °C a minute."
    why = (
        f"After {duration(aimed.aim.longest)} at {aimed.aim.target:g} °C it is not certain that the bed stands still."
        f"{complaint} Keep draughts away, or allow more drift or time."
    )
    longer = ChangeParameter("longest", "a longer wait")
    draughts = ByHand("keep draughts away from the bed")
    return TrialResult("failed", why, aimed.conditions, remedies=(longer, draughts))


def _concluded(bench: Bench, watched: Watched, aimed: Aimed, sheet: SheetModel | None) -> TrialResult:
    aim = aimed.aim
    how = "by its surface" if watched.surface is not None else "by the power that it takes"
    findings = [Finding("heated_in", watched.reached_s or 0.0, None, "s")]
    seen = sheet if sheet is not None else NO_SHEET
    soak, soak_u = _soak(watched, aimed, seen), _soak_u(watched, aimed, seen)
    why = (
        f"soaked {duration(soak)} after it reached {aim.target:g} °C: from then on it drifts by less than "
        f"{show(aim.drift, '°C/min')}, {how}"
    )
    if sheet is not None:
        findings += _sheet_findings(bench, watched, aimed, sheet)
    else:
        why += "; no lag of a sheet can be seen in it"
    options = _options(bench, aim, soak, soak_u)
    return TrialResult(
        "proven",
        why if options else f"{why}; leave the wait as it is",
        aimed.conditions,
        about({"heater": aim.heater}, (Finding("soak", soak, soak_u, "s"), *findings)),
        options,
        "wait" if options else "",
    )


READ_S = 2.5
"""When a drift falls below its limit is read from slopes over half a minute, through noise: to about this, s."""


def _soak_u(watched: Watched, aimed: Aimed, sheet: SheetModel) -> float:
    """Standard uncertainty of the soak, s: by moving lag and share by theirs; without a surface sensor the share is not
    known, and without a sheet that is seen the bed's own noise decides.
    """
    if sheet is NO_SHEET:
        return WINDOW_S / 2
    middle = _soak(watched, aimed, sheet)
    longer = _soak(watched, aimed, replace(sheet, lag_s=sheet.lag_s + sheet.lag_u_s))
    higher = _soak(watched, aimed, replace(sheet, fraction=sheet.fraction + sheet.fraction_u))
    unseen = UNSEEN_FRACTION * sheet.lag_s if watched.surface is None else 0.0
    return math.hypot(longer - middle, higher - middle, unseen, READ_S)


def _sheet_findings(bench: Bench, watched: Watched, aimed: Aimed, sheet: SheetModel) -> list[Finding]:
    aim, findings = aimed.aim, [Finding("sheet_lag", sheet.lag_s, sheet.lag_u_s, "s")]
    if watched.surface is not None:
        rise = aim.target - aimed.room_c
        time_s, _, _, surface = watched.columns(watched.now_s - WINDOW_S)
        drift = drift_of(time_s, surface)
        findings += [
            Finding("surface_share", sheet.fraction, math.hypot(sheet.fraction_u, SENSOR_C / rise)),
            Finding("sensor_lead", sheet.lead_s, None, "s"),
            Finding("surface", aimed.room_c + sheet.fraction * rise, SENSOR_C, "°C"),
            Finding("surface_below", (1 - sheet.fraction) * rise, SENSOR_C, "°C"),
            Finding("drift_at_end", drift.c_min, drift.uncertainty, "°C/min", aim.drift),
        ]
    if aimed.model is not None:
        with bench.aside():  # what is predicted besides is no part of what was measured
            materials = {name: material.model_copy() for name, material in bench.machine.materials.items()}
        for name, material in materials.items():
            predicted = predict_soak(aimed.model, sheet, material.bed_c, aimed.limit, aim.drift)
            if material.bed_c > 0 and predicted is not None:
                words = f"predicted soak for {name}"
                findings.append(
                    Finding("predicted_soak", predicted, None, "s", subject={"material": name}, words=words)
                )
    return findings


def _options(bench: Bench, aim: SoakParameters, soak: float, soak_u: float) -> tuple[Option, ...]:
    """The wait to keep, rounded up; none when what is live lies within the uncertainty."""
    before = number_or(bench.settings.shown("bed.soak_s"), 0.0)
    after = float(math.ceil(soak / ROUND_S) * ROUND_S)
    if abs(after - before) <= max(ROUND_S, 2 * soak_u):
        return ()
    effect = f"at {aim.target:g} °C the surface stands still"
    return (Option("wait", "before anything is probed", (Proposal("bed.soak_s", before, after, "s", effect),), {}),)


def _needs(machine: MachineFile, aim: SoakParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    needs = heat_needs(machine, aim.heater, aim.target, STEP_HEADROOM_C, read)
    surface = surface_sensor(machine, aim.heater)
    if surface is None:
        return (*needs, Need("no surface sensor: the bed’s power is used", True))
    if read(surface) is None:
        return (*needs, Need(f"{surface} sensor does not read: check its plug", False))
    return (*needs, Need(f"{surface} sensor reads", True))


def _announce(machine: MachineFile, aim: SoakParameters) -> str:
    return (
        f"Heats the {aim.heater} from cold to {aim.target:.0f} °C and holds it there, for some 10 to 40 min, at most "
        f"{duration(aim.longest)}. Nothing moves."
    )


def _soaked(result: TrialResult) -> str:
    soak = result.finding("soak")
    return duration(soak.value) if soak is not None else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "bed-soak",
        "soak time",
        "How long the bed's surface takes to stand still after its sensor has reached the target.",
        SoakParameters,
        bed_soak,
        (Stream("soak", COLUMNS, ("s", "duty", "°C", "°C"), 1.0),),
        _announce,
        _needs,
        figure=_soaked,
        heaters=beds,
        uses=always("heat"),
    ),
)
