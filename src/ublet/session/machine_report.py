"""What a machine's report says: state of every station, findings, what is open and stale, conditions, what differs from
the file that it began as. It names no paths, no ports and no people: the builder's own notes are left out.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.facts import FACTS
from ublet.core.machine.compare import Difference, differences
from ublet.core.route import GLYPHS, ROUTE, StationState
from ublet.core.run import Finding, Series
from ublet.core.settings import number_or, thawed
from ublet.core.trouble import Trouble
from ublet.core.typed import shown_value
from ublet.core.units import with_uncertainty
from ublet.ledger.entries import RunEntry
from ublet.session.document import Document
from ublet.session.library import DATA
from ublet.session.record import local_time
from ublet.session.saving import now
from ublet.session.session import Session
from ublet.session.stale import Redo, stale_runs, to_redo
from ublet.session.standings import standings

LEFT_OUT = ("machine.name", "machine.note", "machine.preset", "board.", "picture")
"""Beginnings of settings that are no difference of a machine: how it is called, and what drives it."""

FINDINGS_SHOWN = 3
"""Most findings of a run that stand beside its station."""


class ReportError(Trouble):
    """The report cannot be written; the message says what is allowed."""


@dataclass(frozen=True)
class StationRow:
    """A station in the report. at: when its newest run that counts began; empty: there is none."""

    leg: str
    station: str
    state: StationState
    at: str = ""
    findings: tuple[Finding, ...] = ()

    @property
    def age(self) -> str:
        """How long ago, in words; empty where nothing was done."""
        if not self.at:
            return ""
        days = (datetime.now(UTC) - datetime.fromisoformat(self.at)).days
        return "today" if days < 1 else "1 day" if days == 1 else f"{days} days"

    @property
    def found(self) -> str:
        """Its findings with their uncertainties, in a line."""
        known = [one for one in self.findings if one.uncertainty]
        return ", ".join(f"{one.name} {with_uncertainty(one.value, one.uncertainty or 0.0, one.unit)}" for one in known)


@dataclass(frozen=True)
class Chart:
    """A chart of a report: curves of (n x 2) points by their labels, with a level to compare with (None: none). dots:
    points that no line joins.
    """

    title: str
    x: str
    y: str
    curves: Mapping[str, np.ndarray]
    level: float | None = None
    dots: bool = False


@dataclass(frozen=True)
class MachineReport:
    """All of it. outline: what is drawn of the machine from above, by name: x and y from and to, mm, or a place."""

    name: str
    kind: str
    at: str
    rows: tuple[StationRow, ...]
    stale: tuple[str, ...]
    redo: tuple[Redo, ...]
    open_points: tuple[str, ...]
    conditions: tuple[str, ...]
    preset: str
    changed: tuple[Difference, ...]
    wiring: tuple[tuple[str, str], ...]
    charts: tuple[Chart, ...] = ()
    areas: Mapping[str, tuple[float, float, float, float]] = field(default_factory=dict)
    places: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    @property
    def summary(self) -> str:
        """How many stations stand how."""
        needed = [row for row in self.rows if not row.state.idle]
        counts = {state: sum(1 for row in needed if row.state.state == state) for state in GLYPHS}
        words = [
            f"{counts[state]} {state}" for state in ("proven", "stale", "failed", "open", "waiting") if counts[state]
        ]
        return f"{len(needed)} stations: {', '.join(words)}"

    def as_json(self) -> dict[str, Any]:
        """Everything but the charts."""
        return {
            "machine": self.name,
            "kind": self.kind,
            "at": self.at,
            "summary": self.summary,
            "stations": [
                {
                    "leg": row.leg,
                    "station": row.station,
                    "state": row.state.state,
                    "figure": row.state.figure,
                    "reason": row.state.reason,
                    "at": row.at,
                    "findings": [
                        {"id": one.id, "value": one.value, "uncertainty": one.uncertainty, "unit": one.unit}
                        for one in row.findings
                    ],
                }
                for row in self.rows
            ],
            "stale": list(self.stale),
            "redo": [asdict(step) for step in self.redo],
            "open": list(self.open_points),
            "conditions": list(self.conditions),
            "preset": self.preset,
            "changed": [
                {"setting": one.path, "preset": thawed(one.before), "machine": thawed(one.after)}
                for one in self.changed
            ],
            "wiring": dict(self.wiring),
        }

    def lines(self) -> Iterator[str]:
        """As plain text, for a forum's post."""
        yield f"{self.name}: {self.kind}"
        yield f"{local_time(self.at)}. {self.summary}."
        leg = ""
        for row in self.rows:
            if row.state.idle:
                continue
            if row.leg != leg:
                leg = row.leg
                yield ""
                yield leg
            age = f"  ({row.age})" if row.age else ""
            yield f"  {GLYPHS[row.state.state]} {row.station:<18} {row.state.figure}{age}".rstrip()
            if row.found:
                yield f"      {row.found}"
        yield from _block("open", self.open_points)
        yield from _block("stale, and why", self.stale)
        yield from _block(
            "to do again, in this order",
            [
                f"{step.station}: {step.trial}{'' if step.sure else ' (only if one before it moves)'}"
                for step in self.redo
            ],
        )
        yield from _block("conditions", self.conditions)
        changed = [f"{one.path}: {shown_value(one.before, 4)} → {shown_value(one.after, 4)}" for one in self.changed]
        yield from _block(f"settings that differ from {self.preset}", changed)


def _block(head: str, lines: Sequence[str]) -> Iterator[str]:
    if lines:
        yield ""
        yield head
        yield from (f"  {line}" for line in lines)


def report_of(session: Session, drawn: bool = True) -> MachineReport:
    """The report of an open machine, with or without its board. drawn: with its charts, which read what runs
    recorded.
    """
    document, ledger, machine = session.document, session.ledger, session.machine_now
    now_standing = standings(session)
    rows = [
        _row(session, station.leg, station.name, station.trials, now_standing[station.name])
        for station in ROUTE
        if station.trials
    ]
    stale = stale_runs(document.machine, ledger, session.presence)
    preset, changed = _against_preset(document)
    left = [
        f"{row.station}: {row.state.reason or 'not done yet'}"
        for row in rows
        if row.state.state in ("open", "failed") and not row.state.idle
    ]
    own_words = [fact for fact in ledger.facts_in_force() if fact.value != FACTS[fact.kind].said]

    def plain(text: str) -> str:
        for fact in own_words:  # what somebody typed may name somebody
            text = text.replace(fact.words, f"{fact.path.replace('.', ' ')}: reported")
        return text

    rows = [replace(row, state=replace(row.state, reason=plain(row.state.reason))) for row in rows]
    areas, places = _outline(session)
    board = document.board
    return MachineReport(
        machine.machine.name,
        f"{machine.machine.kinematics}, board {board.name}, {machine.bed.width_mm:g} x {machine.bed.depth_mm:g} mm",
        now(),
        tuple(rows),
        tuple(plain(f"{run.station}, {run.trial}: {'; '.join(run.reasons)}") for run in stale),
        tuple(
            replace(step, because=plain(step.because))
            for step in to_redo(document.machine, ledger, session.presence, stale)
        ),
        tuple(plain(words) for words in left),
        tuple(_conditions(session)),
        preset,
        tuple(changed),
        tuple(_wiring(document)),
        tuple(_charts(session)) if drawn else (),
        areas,
        places,
    )


def _row(session: Session, leg: str, name: str, trials: Sequence[str], state: StationState) -> StationRow:
    entries = [session.ledger.concluded(trial) for trial in trials]
    known = [entry for entry in entries if entry is not None]
    main = next((entry for entry in known if entry.name == state.trial), known[0] if known else None)
    at = max((entry.at for entry in known), default="")
    return StationRow(leg, name, state, at, main.result.findings[:FINDINGS_SHOWN] if main is not None else ())


def _against_preset(document: Document) -> tuple[str, list[Difference]]:
    """The shipped machine file that it began as, or that differs least where it does not say; what differs from it."""
    best: tuple[str, list[Difference]] | None = None
    shipped_files = sorted((DATA / "machines").glob("*.toml"))
    own = [path for path in shipped_files if path.stem == document.machine.machine.preset]
    for path in own or shipped_files:
        shipped = Document(path).values
        changed = [one for one in differences(shipped, document.values) if not one.path.startswith(LEFT_OUT)]
        if best is None or len(changed) < len(best[1]):
            best = path.stem, changed
    return best or ("the defaults", [])


def _conditions(session: Session) -> Iterator[str]:
    """Room, materials and sheets that its findings hold for."""
    machine, ledger = session.machine_now, session.ledger
    rooms = [number_or(ledger.opening(entry.id).get("room_c"), 0.0) for entry in ledger.runs(most=20)]
    warm = [celsius for celsius in rooms if celsius]
    if warm:
        yield f"room: {min(warm):.0f} to {max(warm):.0f} °C"
    for name, material in machine.materials.items():
        yield f"material {name}: nozzle {material.nozzle_c:g} °C, bed {material.bed_c:g} °C"
    for name, surface in machine.bed.surfaces.items():
        yield f"sheet {name}: {surface.thickness_mm:g} mm"
    for fact in ledger.facts_in_force():
        yield f"{fact.path.replace('.', ' ')} reported {fact.at[:10]}"


def _wiring(document: Document) -> Iterator[tuple[str, str]]:
    for path, value in document.values.items():
        if path.endswith(".socket") and value is not None:
            yield str(value), path.removesuffix(".socket").replace(".", " ")


def _outline(
    session: Session,
) -> tuple[dict[str, tuple[float, float, float, float]], dict[str, tuple[float, float]]]:
    """The machine from above: what the nozzle reaches, the bed, the mesh; screws, lifts and where the probe sits."""
    machine = session.machine_now
    axes, bed = machine.axes, machine.bed
    areas = {
        "reach of the nozzle": (axes.x.minimum_mm, axes.y.minimum_mm, axes.x.maximum_mm, axes.y.maximum_mm),
        "bed": (0.0, 0.0, bed.width_mm, bed.depth_mm),
    }
    if machine.mesh is not None and machine.mesh.heights_mm:
        mesh = machine.mesh
        areas["mesh"] = (mesh.from_x_mm, mesh.from_y_mm, mesh.to_x_mm, mesh.to_y_mm)
    places = {f"screw {name}": (screw.x_mm, screw.y_mm) for name, screw in bed.screws.items()}
    return areas, places


def _charts(session: Session) -> Iterator[Chart]:
    """A chart for each finding that has one in the ledger."""
    for trial, name in (("hotend-verify", "hotend"), ("bed-verify", "bed")):
        for entry in _each(session, trial):
            yield from _heat_chart(session, entry, name)
    machine = session.machine_now
    if machine.mesh is not None and machine.mesh.heights_mm:
        heights = np.array(machine.mesh.heights_mm, dtype=np.float64)
        xs = np.linspace(machine.mesh.from_x_mm, machine.mesh.to_x_mm, heights.shape[1])
        curves = {f"row {number + 1}": np.column_stack([xs, 1000 * row]) for number, row in enumerate(heights)}
        yield Chart("bed mesh: heights along X, row by row", "X, mm", "height, µm", curves, 0.0)
    for entry in _each(session, "resonance"):
        for title, series in _streams(session, entry, "transfer").items():
            points = np.column_stack([series.column("hz"), series.column("gain")])
            yield Chart(
                f"resonance, {title.removeprefix('transfer').strip()}: run {entry.id}", "Hz", "gain", {"": points}
            )
    for entry in _each(session, "flow-limit"):
        for _, series in _streams(session, entry, "flows").items():
            fed = series.column("measured_mm") / series.column("commanded_mm")
            points = np.column_stack([series.column("flow_mm3_s"), 100 * fed])
            yield Chart(f"flow limit: run {entry.id}", "flow, mm³/s", "delivered, %", {"": points}, 95.0, True)


def _each(session: Session, trial: str) -> list[RunEntry]:
    entry = session.ledger.latest(trial, "proven")
    return [entry] if entry is not None else []


def _streams(session: Session, entry: RunEntry, kind: str) -> dict[str, Series]:
    streams = session.ledger.streams(entry.id)
    return {title: series for title, series in streams.items() if title.split()[0] == kind and len(series.rows)}


def _heat_chart(session: Session, entry: RunEntry, name: str) -> Iterator[Chart]:
    steps = _streams(session, entry, "step")
    target = entry.result.conditions.get("target_c")
    level = float(target) if isinstance(target, (int, float)) else None
    for series in steps.values():
        points = np.column_stack([series.column("time_s"), series.column("temperature_c")])
        yield Chart(f"{name} control: run {entry.id}", "time, s", "°C", {"": points}, level)


def write_report(report: MachineReport, out: Path, paper: str) -> list[Path]:
    """Write it as its ending says: .pdf and .svg drawn (further pages of .svg beside it, numbered), .txt, .json.

    Raises:
        ReportError: another ending or paper. OSError: it cannot be written.
    """
    import json

    ending = out.suffix.lower()
    if ending == ".json":
        out.write_text(json.dumps(report.as_json(), ensure_ascii=False, indent=1) + "\n", encoding="utf-8")
        return [out]
    if ending == ".txt":
        out.write_text("\n".join(report.lines()) + "\n", encoding="utf-8")
        return [out]
    if ending in (".pdf", ".svg"):
        from ublet.figures.machine_report import PAPERS, draw_report

        if paper not in PAPERS:
            raise ReportError(f"--paper {paper}: allowed: {', '.join(PAPERS)}")
        return draw_report(report, out, paper)
    raise ReportError(f"{out.name}: a report is written as .pdf, .svg, .txt or .json")
