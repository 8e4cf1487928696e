"""Export beside the machine file: a trial's raw data and figure as CSV, SVG and PDF; the wiring as SVG and PDF."""

from __future__ import annotations

import csv
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ublet.core.machine.boards import BoardKind
from ublet.core.machine.wiring import plugs
from ublet.core.run import Series
from ublet.core.shake.shaking import SHAKEN
from ublet.core.shake.sweep_response import SWEPT
from ublet.ledger.entries import RunEntry


def write_csv(series: Series, path: Path, comment: str = "") -> None:
    """A record as CSV with a header line, after a comment.

    Raises:
        OSError: it cannot be written.
    """
    with path.open("w", encoding="utf-8", newline="") as file:
        file.write(comment)
        writer = csv.writer(file)
        writer.writerow(series.columns)
        writer.writerows([f"{value:.10g}" for value in row] for row in series.rows.tolist())


def as_swept(streams: Mapping[str, Series], title: str) -> tuple[str, Series]:
    """A stream as it is written: readings of a sweep with the comment that shows it and times since it began, as
    ``ublet analyse resonance`` reads them; every other one as it is, without a comment.
    """
    series = streams[title]
    kind, _, of = title.partition(" ")
    swept = streams.get(f"{SWEPT.name} {of}")
    if kind != SHAKEN or swept is None:
        return "", series
    begun_s, *excitation = swept.rows[0].tolist()
    rows = series.rows.copy()
    rows[:, 0] -= begun_s
    words = " ".join(f"{value:.10g}" for value in excitation)
    return f"# sweep: {of.split()[0]} {words}\n", Series(series.columns, rows, series.units)


def run_files(entry: RunEntry, streams: Mapping[str, Series], folder: Path) -> list[Path]:
    """Write all that a run recorded, a CSV for each stream; returns the files.

    Raises:
        OSError: a file cannot be written. ValueError: it recorded nothing.
    """
    written = []
    for title in streams:
        comment, series = as_swept(streams, title)
        path = folder / f"{entry.name}-{entry.id}-{title.replace(' ', '-')}.csv"
        write_csv(series, path, comment)
        written.append(path)
    if not written:
        raise ValueError("this run recorded nothing")
    return written


HEATED = frozenset({"relay", "step"})
"""Streams that the figure of a heat trial is drawn from."""


def heat_files(entry: RunEntry, series: Mapping[str, Series], folder: Path) -> list[Path]:
    """Write a heat trial's record as CSV and its figure as SVG and PDF; returns the files.

    Raises:
        OSError: a file cannot be written. ValueError: the trial has no record.
    """
    stem = f"{entry.name}-{entry.id}"
    written = []
    for name in ("relay", "step"):
        if name in series:
            write_csv(series[name], folder / f"{stem}.csv")
            written.append(folder / f"{stem}.csv")
    for ending in (".svg", ".pdf"):
        path = folder / f"{stem}{ending}"
        draw_heat_entry(entry, series, path)
        written.append(path)
    return written


def draw_heat_entry(entry: RunEntry, series: Mapping[str, Series], path: Path) -> None:
    """The figure of a heat trial of the ledger: its record, and the prediction for what was recommended.

    Raises:
        OSError, ValueError: as the drawing.
    """
    from ublet.figures.heat import draw_heat

    shown = {
        name: one
        for name, one in series.items()
        if not name.startswith("predicted ") or name == f"predicted {entry.result.recommended}"
    }
    if "relay" in shown:  # a predicted step is no prediction of the relay record
        shown = {"relay": shown["relay"]}
    target = entry.result.conditions.get("target_c")
    title = f"{entry.name} · {entry.at[:16].replace('T', ' ')} · {entry.result.why}"
    draw_heat(shown, title, float(target) if isinstance(target, (int, float)) else None, path)


def wiring_files(tree: Mapping[str, Any], board: BoardKind, machine_file: Path) -> list[Path]:
    """Draw a machine's wiring as SVG and PDF beside its file; returns the files.

    Raises:
        OSError: a file cannot be written.
    """
    files = [machine_file.with_name(f"{machine_file.stem}-wiring{ending}") for ending in (".svg", ".pdf")]
    for file in files:
        draw_wiring_of(tree, board, machine_file.name, file)
    return files


def draw_wiring_of(tree: Mapping[str, Any], board: BoardKind, name: str, path: Path) -> None:
    """Draw a machine's wiring; the file's name and the board's stand in the drawing.

    Raises:
        OSError, ValueError: as the drawing.
    """
    from ublet.figures.wiring import draw_wiring

    sockets = [(label, socket.edge, socket.at, socket.kind) for label, socket in board.sockets.items()]
    plugged = {socket: [plug.words for plug in here] for socket, here in plugs(tree).items()}
    draw_wiring(f"{board.name}\n{name}", board.width_mm, board.height_mm, sockets, plugged, path)
