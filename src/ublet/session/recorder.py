"""A recorder of what the heaters do, for as long as one likes: each as a table that can be analysed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

import numpy as np

from ublet.core.machine.schema import MachineFile
from ublet.core.run import Series
from ublet.link.replies import Sample
from ublet.session.connection import Connection
from ublet.session.export import write_csv
from ublet.session.files import free_name

COLUMNS = ("time_s", "duty", "temperature_c", "fan")
LONGEST = 3 * 36_000
"""Samples kept: three hours."""


class Recorder:
    """Keeps every sample from :meth:`start` to :meth:`stop`."""

    def __init__(self, connection: Connection, machine: MachineFile) -> None:
        self._connection, self._machine = connection, machine
        self._samples: list[Sample] = []
        self.on = False

    @property
    def seconds(self) -> float:
        """How long it has recorded, by the board's clock."""
        if len(self._samples) < 2:
            return 0.0
        return float(self._samples[-1][1] or 0.0) - float(self._samples[0][1] or 0.0)

    def start(self) -> None:
        """Begin anew."""
        self._samples = []
        self.on = True
        self._connection.sampled.append(self._take)

    def stop(self) -> Mapping[str, Series]:
        """End; a table for each heater whose sensor read throughout."""
        if self.on:
            self._connection.sampled.remove(self._take)
        self.on = False
        about = self._connection.about
        if about is None or len(self._samples) < 2:
            return {}
        fan = next((name for name, fan in self._machine.fans.items() if fan.role == "part"), None)
        records = {}
        for name, heater in self._machine.heaters.items():
            wanted = [f"heaters.{name}.duty", f"sensors.{heater.sensor}"]
            if any(channel not in about.channels for channel in wanted):
                continue
            at = [1, *(2 + about.channels.index(channel) for channel in wanted)]
            wind = 2 + about.channels.index(f"fans.{fan}") if f"fans.{fan}" in about.channels else None
            rows = [[*(row[n] for n in at), row[wind] if wind is not None else 0.0] for row in self._samples]
            good = np.array([row for row in rows if None not in row], dtype=np.float64)
            if len(good) > 1:
                good[:, 0] -= good[0, 0]
                records[name] = Series(COLUMNS, good)
        return records

    def _take(self, samples: Iterable[Sample]) -> None:
        boot_ended = self._samples and any((s[0] or 0) < (self._samples[-1][0] or 0) for s in samples)
        if boot_ended:
            self._samples = []  # the board restarted: its clock began anew
        self._samples.extend(samples)
        del self._samples[:-LONGEST]


def write_records(series: Mapping[str, Series], folder: Path) -> list[Path]:
    """Write each heater's table as CSV and its figure as SVG and PDF, under names that are free; returns the files.

    Raises:
        OSError: a file cannot be written.
    """
    from ublet.figures.heat import draw_record

    files = []
    for name, one in series.items():
        path = free_name(folder / f"{name}-record.csv")
        write_csv(one, path)
        figures = [path.with_suffix(ending) for ending in (".svg", ".pdf")]
        for figure in figures:
            draw_record(one, f"{name}: {path.stem}", figure)
        files += [path, *figures]
    return files
