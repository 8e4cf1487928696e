"""How long a trial takes and has left: from an earlier run of it, else from its plan; corrected by how it goes."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass

from ublet.core.heat.report import model_from
from ublet.core.run import Progress, TrialFailed
from ublet.core.settings import Part, number_or
from ublet.core.trial import TrialSpec
from ublet.core.trial_times import AXES, ROOM_C, TrialTimes, usual_times
from ublet.link.host_programs import watched_s
from ublet.session.session import Session

LEAST_FRACTION = 0.1
"""Below this fraction the course shows nothing of how long a trial takes."""

LATE_FRACTION = 0.05
"""What is left of a plan that is overdue, as a fraction of it."""


@dataclass(frozen=True)
class Expected:
    """How long a trial takes at the machine, s; learned: from an earlier run with the same parameters."""

    seconds: float
    learned: bool = False


def expected(session: Session, spec: TrialSpec, aim: Part) -> Expected | None:
    """How long a trial would take now; None where neither a run nor its plan shows it."""
    values = aim.model_dump()
    entry = session.ledger.latest(spec.name, "proven", subject=spec.subject(values))
    if spec.lasts is None:
        same = entry is not None and dict(entry.parameters) == values
        return Expected(entry.duration_s, True) if entry is not None and same else None
    try:
        seconds = spec.lasts(session.machine_now, aim, times_now(session))
    except TrialFailed:
        return None  # what is missing on this machine is said by its needs
    return Expected(seconds) if seconds > 0 else None


def times_now(session: Session) -> TrialTimes:
    """Heating by the models of the heaters that were tuned, else at the usual rates; which axes are not homed."""
    machine, connection = session.machine_now, session.connection

    def read(sensor: str) -> float | None:
        return connection.channel(f"sensors.{sensor}")

    unhomed: Collection[str] = [axis for axis in AXES if connection.channel(f"axes.{axis}.mm") is None]
    usual = usual_times(machine, read, unhomed)

    def heat_s(heater: str, celsius: float, begin_c: float | None = None) -> float:
        part, now = machine.heaters[heater], begin_c or read(machine.heaters[heater].sensor)
        guess = usual.heat_s if begin_c is None or usual.from_room_s is None else usual.from_room_s
        tuned = session.proven("bed-control" if part.part == "bed" else "hotend-control", heater)
        if tuned is None or now is None:
            return guess(heater, celsius)
        try:
            model = model_from(tuned, min(now, connection.first_c or now))
        except (TrialFailed, ValueError):
            return guess(heater, celsius)
        limit = number_or(session.live(f"heaters.{heater}.power_limit"), 1.0)
        whole, done = (model.heat_up_s(max(0.0, at - model.ambient_c), limit) for at in (celsius, now))
        return max(0.0, (whole or math.inf) - (done or 0.0)) if whole else guess(heater, celsius)

    def from_room_s(heater: str, celsius: float) -> float:
        return heat_s(heater, celsius, connection.first_c or ROOM_C)

    if connection.linked and "touch" not in connection.can:
        return TrialTimes(heat_s, unhomed, from_room_s, watched_s)
    return TrialTimes(heat_s, unhomed, from_room_s)


class TimeLeft:
    """What a running trial has left, s: by its own word, by its plan, or by the fraction that is done."""

    def __init__(self, plan: Expected | None) -> None:
        self.plan = plan
        self._began: tuple[float, float] | None = None  # time and fraction at the first progress
        self._asked_s = 0.0
        self._asking_since: float | None = None

    def asking(self, now_s: float, asks: bool) -> None:
        """A question was put, or answered: the person's time is not the machine's."""
        if asks:
            self._asking_since = now_s
        elif self._asking_since is not None:
            self._asked_s += now_s - self._asking_since
            self._asking_since = None

    @property
    def asks(self) -> bool:
        """Whether a question stands that it waits for."""
        return self._asking_since is not None

    def gone(self, now_s: float) -> float:
        """Seconds at the machine since it began, those of questions left out."""
        if self._began is None:
            return 0.0
        asking = now_s - self._asking_since if self._asking_since is not None else 0.0
        return max(0.0, now_s - self._began[0] - self._asked_s - asking)

    def left(self, now_s: float, progress: Progress | None) -> float | None:
        """Seconds left; None: nothing shows it yet."""
        if self._began is None:
            self._began = (now_s, progress.fraction if progress is not None else 0.0)
        if progress is not None and progress.left_s is not None and not progress.phase_only:
            return progress.left_s
        gone = self.gone(now_s)
        if self.plan is not None and gone < (1 - LATE_FRACTION) * self.plan.seconds:
            return self.plan.seconds - gone
        if progress is None:
            return None
        done = progress.fraction - self._began[1]
        if done < LEAST_FRACTION:
            return LATE_FRACTION * self.plan.seconds if self.plan is not None else progress.left_s
        return max(0.0, gone * (1 - progress.fraction) / done)
