"""The bench of pairing: each heater with its own sensor."""

from __future__ import annotations

from rich.text import Text

from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, spaced
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

NAME_COLUMNS = 18
BARS = " ▏▎▍▌▋▊▉█"
FULL_BAR_C = 12.0


class PairingBench(TrialBench):
    """Each heater with its own sensor."""

    kind = "pairing"
    title = "Heaters paired"
    why = "a heater with another one's sensor burns before a guard can know"

    def picture(self) -> Picture:
        """Sensors that warm."""
        return pairing_picture


def pairing_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """For the pulse of heat that runs: how far each sensor has risen; the driven heater is marked."""
    connection, machine = session.connection, session.document.machine
    series = watched.series("rises") if watched is not None else None
    rows = series.rows.tolist()[-len(machine.sensors) :] if series is not None else []
    sensors = list(machine.sensors)
    risen = {sensors[int(sensor)]: rise for _, _, sensor, rise in rows}
    driven = list(machine.heaters)[int(rows[-1][0])] if rows else ""
    columns = max(10, width - NAME_COLUMNS - 34)
    blocks = [Text(f"{'sensor':<{NAME_COLUMNS}}{'now':>10}{'rise':>10}   belongs to", Ink.dim, no_wrap=True)]
    for name in sensors:
        owner = next((heater for heater, part in machine.heaters.items() if part.sensor == name), "")
        celsius, rise = connection.channel(f"sensors.{name}"), risen.get(name)
        length = max(0.0, min(1.0, (rise or 0.0) / FULL_BAR_C)) * (columns - 12)
        bar = "█" * int(length) + BARS[int(8 * (length % 1))]
        line = Text(no_wrap=True).append(f"{name:<{NAME_COLUMNS}}", f"bold {Ink.text}")
        line.append(f"{f'{celsius:.1f} °C' if celsius is not None else '✗ none':>10}", f"bold {Ink.focus}")
        line.append(f"{f'{rise:+.1f} °C' if rise is not None else '':>10}   ", Ink.text)
        line.append(f"{owner or '–':<10}", f"bold {Ink.focus}" if owner and owner == driven else Ink.dim)
        line.append(bar, Ink.focus)
        line.append("\n" + " " * (NAME_COLUMNS + 33))
        line.append(bar if rise else "", Ink.focus)
        blocks.append(line)
    if driven:
        duty = connection.channel(f"heaters.{driven}.duty") or 0.0
        blocks.append(Text(f"◆ the {driven} heats at {100 * duty:.0f} %", Ink.focus))
    return spaced(blocks, height, 2)
