"""What a session knows of a heater: the room around it, its last tuning, its model, its sheet, its soak."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ublet.core.heat.model import HeaterModel
from ublet.core.heat.report import model_from
from ublet.core.heat.soak import SheetModel, sheet_of
from ublet.core.heat.start import room_from
from ublet.core.run import TrialFailed, TrialResult

if TYPE_CHECKING:
    from ublet.session.session import Session
    from ublet.session.soaking import Soaking

USUAL_DRIFT_C_MIN = 0.2


def room_now(session: Session, heater: str) -> float | None:
    """The room as a heater's trials take it, °C; None when its sensor does not read."""
    connection = session.connection
    return room_from(
        session.document.machine, heater, lambda name: connection.channel(f"sensors.{name}"), connection.first_c
    )


def tuned_by(session: Session, heater: str) -> TrialResult | None:
    """The last proven tuning of a heater."""
    hotend = session.document.machine.heaters[heater].part == "hotend"
    return session.proven("hotend-control" if hotend else "bed-control", heater)


def tuned_model(session: Session, heater: str) -> HeaterModel | None:
    """The model of a heater's last tuning at today's room temperature; None before one."""
    tuned, room = tuned_by(session, heater), room_now(session, heater)
    try:
        return model_from(tuned, room) if tuned is not None and room is not None else None
    except TrialFailed:
        return None


def known_sheet(session: Session, heater: str) -> SheetModel | None:
    """What is known of the sheet on a heater's block: by its soak trial, else by its model; None: nothing."""
    soaked = session.proven("bed-soak", heater)
    lag = soaked.finding("sheet_lag") if soaked is not None else None
    if soaked is not None and lag is not None:
        fraction, lead = soaked.finding("surface_share"), soaked.finding("sensor_lead")
        return SheetModel(lag.value, fraction.value if fraction else 1.0, 0.0, 0.0, lead.value if lead else 0.0)
    model = tuned_model(session, heater)
    return sheet_of(model) if model is not None else None


def drift_wanted(session: Session) -> float:
    """What counts as standing still: as in the last soak trial, °C/min."""
    soaked = session.proven("bed-soak")
    asked = soaked.conditions.get("drift_c_min") if soaked is not None else None
    return float(asked) if isinstance(asked, (int, float)) else USUAL_DRIFT_C_MIN


def soaking(session: Session, heater: str, drift_c_min: float | None = None) -> Soaking | None:
    """Where the soak of a heater stands, by what is known of its sheet; None while it has no target."""
    drift = drift_wanted(session) if drift_c_min is None else drift_c_min
    return session.soaking.state(heater, known_sheet(session, heater), drift, room_now(session, heater))
