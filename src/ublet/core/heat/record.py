"""The record of a heat trial: samples kept and shown as they come."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.bench import Bench, HeatSample
from ublet.core.run import Series

COLUMNS = ("time_s", "duty", "temperature_c", "fan")
UNITS = ("s", "duty", "°C", "duty")


@dataclass
class Record:
    """The samples of one run, kept and shown as they come; times count from its first sample."""

    bench: Bench
    name: str

    def __post_init__(self) -> None:
        self.rows: list[tuple[float, float, float, float]] = []
        self._start: float | None = None

    def add(self, sample: HeatSample) -> float:
        """Keep a sample; returns its time since the record began, s."""
        if self._start is None:
            self._start = sample.time_s
        row = (sample.time_s - self._start, sample.duty, sample.celsius, sample.fan)
        self.rows.append(row)
        self.bench.record.row(self.name, row)
        return row[0]

    def series(self) -> Series:
        """The record so far."""
        return Series(COLUMNS, np.array(self.rows, dtype=np.float64).reshape(-1, len(COLUMNS)))


def reading_noise(series: Series) -> float:
    """Standard deviation of one reading of a record, °C."""
    return reading_noise_of(series.column("temperature_c"))


def reading_noise_of(celsius: Floats) -> float:
    """Standard deviation of one of n readings, °C: from second differences, which a smooth curve leaves small."""
    return float(np.std(np.diff(celsius[-400:], 2))) / math.sqrt(6)
