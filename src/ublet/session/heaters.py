"""What a session knows of a heater: the room around it, its last tuning, its model."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ublet.core.heat.model import HeaterModel
from ublet.core.heat.report import model_from
from ublet.core.heat.start import room_from
from ublet.core.trial import TrialFailed, TrialResult

if TYPE_CHECKING:
    from ublet.session.session import Session


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
