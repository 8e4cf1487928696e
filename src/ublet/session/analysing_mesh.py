"""The analysis of a recorded mesh: its figures, what the screws could take out, and how it differs from another one."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from ublet.core.level.mesh import Described, Mesh, describe, mesh_of
from ublet.core.level.mesh_compare import Compared, compare
from ublet.core.level.screws import screw_heights, shape_for, staying, turns_for
from ublet.core.level.surface import fit_surface
from ublet.core.machine.schema import MachineFile
from ublet.core.recorded import RecordError, Table, parse_table

COLUMNS = ("x_mm", "y_mm", "z_mm")

Draw = Callable[[Path], None]


def mesh_from(text: str, file: Path) -> tuple[Mesh, Table]:
    """A mesh from a table of points in any order.

    Raises:
        RecordError: the table is none, or its points make no grid.
    """
    table = parse_table(text, COLUMNS, str(file))
    try:
        return mesh_of(*(table.columns[name] for name in COLUMNS)), table
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error


def analyse_mesh(
    text: str, file: Path, machine: MachineFile | None, other: tuple[str, Path] | None, spread_mm: float | None
) -> tuple[dict[str, Any], Draw]:
    """Report of a mesh, and what draws it. machine: its screws are told turns; other: the text of a mesh that it is
    held against, and its file.

    Raises:
        RecordError: one of the two cannot be used, or they have too little in common.
    """
    mesh, table = mesh_from(text, file)
    try:
        found = describe(mesh)
        compared = None
        if other is not None:
            compared = compare(mesh, mesh_from(*other)[0], spread_mm)
    except ValueError as error:
        raise RecordError(f"{file}: {error}.") from error

    def draw(path: Path) -> None:
        from ublet.figures.mesh import draw_mesh

        draw_mesh(compared.difference if compared is not None else mesh, found.outliers, file.name, path)

    report: dict[str, Any] = {
        "kind": "mesh",
        "columns": mesh.columns,
        "rows": mesh.rows,
        "range_mm": found.range_mm,
        "rms_mm": found.rms_mm,
        "tilt_x_mm": found.tilt_x_mm,
        "tilt_y_mm": found.tilt_y_mm,
        "warp_range_mm": found.warp_range_mm,
        "warp_rms_mm": found.warp_rms_mm,
        "holes": [list(place) for place in mesh.holes],
        "outliers": [list(place) for place in found.outliers],
        "choice": compared.verdict if compared is not None else "mesh",
        "why": compared.words if compared is not None else _words(found),
        "notes": list(table.notes),
    }
    if machine is not None:
        report["screws"] = _screws(machine, found, file)
    if compared is not None:
        report["against"] = _against(compared)
    return report, draw


def _words(found: Described) -> str:
    """Whether it is good enough to print on, in words."""
    flat = found.warp_range_mm
    words = "as flat as a first layer needs" if flat < 0.05 else "a mesh is worth it" if flat < 0.4 else "warped"
    return (
        f"{found.range_mm:.3f} mm from lowest to highest; without its tilt {flat:.3f}, {words}; screws can only take "
        "out the tilt"
    )


def _screws(machine: MachineFile, found: Described, file: Path) -> list[dict[str, Any]]:
    if not machine.bed.screws:
        raise RecordError(
            f"{file}: the machine file declares no screws of the bed: leave out --machine, or add [bed.screws]."
        )
    screws = machine.bed.screws
    good = found.mesh.without(found.outliers)
    there = [(place, mm) for place, mm in zip(good.places, good.heights.ravel().tolist(), strict=True) if mm == mm]
    surface = fit_surface([place for place, _ in there], [mm for _, mm in there], shape_for(screws))
    heights = screw_heights(screws, surface)
    stays = staying(heights)
    return [
        {
            "name": name,
            "turns": 0.0 if turn.rests or name == stays else turn.turns,
            "direction": "clockwise" if turn.clockwise else "counter-clockwise",
            "effect": "stays" if name == stays else turn.words,
        }
        for name, turn in turns_for(screws, heights, stays).items()
    ]


def _against(compared: Compared) -> dict[str, Any]:
    return {
        "verdict": compared.verdict,
        "shift_mm": compared.shift_mm,
        "tilt_x_mm": compared.tilt_x_mm,
        "tilt_y_mm": compared.tilt_y_mm,
        "shape_rms_mm": compared.shape_rms_mm,
        "spread_mm": compared.spread_mm,
        "points": compared.points,
    }
