"""What the pulse and the title show, read from an open session."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ublet.core.words import counted
from ublet.tui.frame.pulse import HeaterState, PulseState

if TYPE_CHECKING:
    from ublet.session.connection import Connection
    from ublet.session.session import Session
    from ublet.tui.trial.watch import TrialWatch

TRACE_SAMPLES = 40


def take_reading(session: Session, watched: TrialWatch | None) -> PulseState:
    """The machine now, with a minute's trace of each heater."""
    connection, machine = session.connection, session.document.machine
    about, samples = connection.about, list(connection.samples)
    heaters = []
    if about is not None and samples:
        for name, heater in machine.heaters.items():
            column = f"sensors.{heater.sensor}"
            at = 2 + about.channels.index(column) if column in about.channels else None
            few = samples[:: max(1, len(samples) // TRACE_SAMPLES)]
            values = [row[at] for row in few] if at is not None else []
            heaters.append(
                HeaterState(
                    name,
                    connection.channel(column),
                    connection.channel(f"heaters.{name}.target_c"),
                    connection.channel(f"heaters.{name}.duty") or 0.0,
                    tuple(value for value in values if value is not None),
                )
            )
    fans = tuple((name, connection.channel(f"fans.{name}") or 0.0) for name in machine.fans)
    axes = tuple((axis, connection.channel(f"axes.{axis}.mm")) for axis in ("x", "y", "z"))
    homed = any(where is not None for _, where in axes)
    running = session.runner.running
    return PulseState(
        tuple(heaters),
        fans if samples else (),
        connection.state.mode,
        connection.state.why,
        running.name.replace("-", " ") if running else "",
        watched.latest if watched else None,
        watched.gone_s if watched else 0.0,
        watched.left_s if watched else None,
        axes if homed else (),
        watched is not None and watched.waits,
    )


def link_words(connection: Connection, port: str | None) -> str:
    """Board, port, round trip, what the line spoilt, and the clock when it is not real."""
    if connection.about is None or connection.client is None:
        return "no board"
    about, quality = connection.about, connection.client.quality
    spoilt = f" · {counted(quality.bad_sums, 'bad line')}" if quality.bad_sums else ""
    spoilt += f" · {quality.retries} asked again" if quality.retries else ""
    speed = f" · clock ×{about.clock:g}" if about.clock != 1 else ""
    trip = f"link {quality.round_trip_s * 1000:.0f} ms"
    return f"{about.board} on {Path(port or '').name} · {trip}{spoilt}{speed}"
