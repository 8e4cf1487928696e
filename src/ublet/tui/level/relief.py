"""A mesh from above: shades from low to high that read without colour, lines of equal height, numbers in µm."""

from __future__ import annotations

import numpy as np

from ublet.core.level.mesh.mesh import Mesh
from ublet.core.machine.level_parts import BedSettings
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import BedMap, bed_map
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.dots import BLANK, DOT_BITS

RELIEF = " ░▒▓"
"""From low to high, readable without colour."""

NUMBER_COLUMNS = 6
STEPS_UM = (5, 10, 20, 25, 50, 100, 200, 250, 500, 1000)
LINES = 6
"""About so many lines of equal height."""


def step_um(reach_um: float) -> float:
    """A round distance between lines of equal height, µm, for heights up to so much either way."""
    return float(next((step for step in STEPS_UM if 2 * reach_um / step <= LINES), STEPS_UM[-1]))


def put_relief(cells: Cells, drawn: BedMap, mesh: Mesh, mean_mm: float, reach_um: float) -> float:
    """Shades over the grid's area by what lies between its points, and lines of equal height; returns their step."""
    upper, lower = drawn.cell((mesh.x[0], mesh.y[-1])), drawn.cell((mesh.x[-1], mesh.y[0]))
    columns, rows = lower[0] - upper[0] + 1, lower[1] - upper[1] + 1
    step = step_um(reach_um)
    if columns < 2 or rows < 2:
        return step
    across, down = 2 * columns, 4 * rows  # the dots of a cell
    fine = mesh.over(np.linspace(mesh.x[0], mesh.x[-1], across), np.linspace(mesh.y[0], mesh.y[-1], down))
    um = 1000 * (fine[::-1] - mean_mm)
    shades = um.reshape(rows, 4, columns, 2).mean(axis=(1, 3))
    levels = np.clip(((shades / reach_um + 1) / 2 * len(RELIEF)).astype(int), 0, len(RELIEF) - 1)
    for row in range(rows):
        cells.put(upper[0], upper[1] + row, "".join(RELIEF[level] for level in levels[row].tolist()), Ink.faint)
    _isolines(cells, upper, np.floor(um / step))
    return step


def _isolines(cells: Cells, upper: tuple[int, int], bands: np.ndarray) -> None:
    """Dots where the height passes from one band into the next."""
    edge = np.zeros(bands.shape, dtype=bool)
    edge[:, 1:] |= bands[:, 1:] != bands[:, :-1]
    edge[1:, :] |= bands[1:, :] != bands[:-1, :]
    rows, columns = len(edge) // 4, edge.size // len(edge) // 2
    codes = np.einsum("rycx,yx->rc", edge.reshape(rows, 4, columns, 2).astype(np.uint8), DOT_BITS)
    for row, column in np.argwhere(codes).tolist():
        cells.add_dots(upper[0] + column, upper[1] + row, BLANK + int(codes[row, column]), Ink.dim)


def put_numbers(
    cells: Cells, drawn: BedMap, mesh: Mesh, um: np.ndarray, cursor: tuple[int, int] | None, along_x: bool
) -> None:
    """Every height in µm, as many as there is room for; the row or column of the cursor stands out."""
    left, right = drawn.cell((mesh.x[0], 0))[0], drawn.cell((mesh.x[-1], 0))[0]
    every = max(1, -(-NUMBER_COLUMNS * (mesh.columns - 1) // max(1, right - left)))
    top, bottom = drawn.cell((0, mesh.y[-1]))[1], drawn.cell((0, mesh.y[0]))[1]
    each_row = max(1, -(-(mesh.rows - 1) // max(1, bottom - top)))
    for r, y in enumerate(mesh.y.tolist()):
        for c, x in enumerate(mesh.x.tolist()):
            here = cursor is not None and (c, r) == cursor
            chosen = cursor is not None and (r == cursor[1] if along_x else c == cursor[0])
            if not here and (c % every or r % each_row):
                continue
            number = "·" if np.isnan(um[r, c]) else f"{um[r, c]:+.0f}"
            at = drawn.cell((x, y))
            ink = f"bold {Ink.focus}" if here else Ink.text if chosen or cursor is None else Ink.dim
            cells.put(at[0] - len(number) // 2, at[1], number, ink)


def put_map(cells: Cells, bed: BedSettings, mesh: Mesh, width: int, height: int, over_mean: bool = True) -> None:
    """A whole mesh without holes on a bed: relief, lines, numbers over its mean, or as they are."""
    drawn = bed_map(cells, bed, (), width, height)
    mean = float(mesh.heights.mean()) if over_mean else 0.0
    um = 1000 * (mesh.heights - mean)
    put_relief(cells, drawn, mesh, mean, max(10.0, float(np.abs(um).max())))
    put_numbers(cells, drawn, mesh, um, None, True)
