"""The figure of a recording."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ublet.core.run import Series
from ublet.session.recorder import write_records

COLUMNS = ("time_s", "duty", "temperature_c", "fan")


def test_a_recording_becomes_a_table_and_two_figures_that_hold_its_curves(tmp_path: Path) -> None:
    time = np.arange(0, 60, 0.5)
    rows = np.stack([time, np.full_like(time, 0.4), 25 + time, (time > 30) * 0.5], 1)
    series = Series(COLUMNS, rows)
    files = write_records({"bed": series}, tmp_path)
    assert [file.name for file in files] == ["bed-record.csv", "bed-record.svg", "bed-record.pdf"]
    drawn = files[1].read_text(encoding="utf-8")
    assert "<svg" in drawn and drawn.count("<path") > 10 and files[2].read_bytes().startswith(b"%PDF")
    table = files[0].read_text(encoding="utf-8").splitlines()
    assert table[0] == ",".join(COLUMNS) and len(table) == len(time) + 1
    again = write_records({"bed": series}, tmp_path)
    assert again[0] != files[0] and files[0].exists(), "an older recording is never overwritten"
