"""The bench of the bed mesh: the bed from above with signed heights and relief, and a section through the cursor."""

from __future__ import annotations

import contextlib
import math

import numpy as np
from rich.text import Text
from textual.binding import Binding

from ublet.core.arrays import Point
from ublet.core.level.mesh.live import FOLLOWS, live_correction, live_mesh
from ublet.core.level.mesh.mesh import Mesh
from ublet.core.level.mesh.trials import MESHED, GridParameters, grid_of
from ublet.core.run import Series, TrialFailed
from ublet.core.settings import Part
from ublet.core.trouble import Trouble
from ublet.session.meshes import correction_at, raising
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import BedMap, bed_map
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.instruments.picture import Picture
from ublet.tui.level.relief import RELIEF, put_numbers, put_relief
from ublet.tui.motion.jog import JogBench
from ublet.tui.trial.recorded import RecordedBench, SeriesReader
from ublet.tui.trial.watch import TrialWatch

SIDE_FRACTION = 0.45
BY_MM = 0.02
"""One press raises or lowers the nozzle by this, mm."""

SAME_PLACE_MM = 0.05
"""A point that was touched is one of a grid when it lies as near as this to it, mm."""


class MeshBench(RecordedBench, JogBench):
    """The bed's shape."""

    kind = "mesh"
    title = "Bed mesh"
    why = "a first layer follows the bed as it is, not as it should be"
    BINDINGS = [
        Binding(
            "ctrl+right",
            "cursor(1, 0)",
            "cursor",
            key_display="ctrl ←→↑↓",
            tooltip="The section through another row or column",
        ),
        Binding("ctrl+left", "cursor(-1, 0)", show=False),
        Binding("ctrl+up", "cursor(0, 1)", show=False),
        Binding("ctrl+down", "cursor(0, -1)", show=False),
        Binding("m", "meshes", "meshes", tooltip="All meshes: compare two, load one; which a print would load"),
        Binding(
            "plus",
            "raise_here(1)",
            "higher / lower",
            key_display="+ -",
            tooltip="The nozzle 0.02 mm higher (+) or lower (-) at the cursor, as a correction of the live mesh",
        ),
        Binding("minus", "raise_here(-1)", show=False),
        Binding("n", "turn", "turn the section", tooltip="Along X or along Y"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.at, self.along_x = (0, 0), True
        self._placed = False
        self._of: tuple[Series | None, Part, Mesh | None] | None = None

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """A live mesh is raised and lowered while nothing runs: the keys are a question's else."""
        if action == "raise_here":
            return self.session.usable and self.watched is None and live_mesh(self.session.live) is not None
        return super().check_action(action, parameters)

    def action_cursor(self, columns: int, rows: int) -> None:
        """Move the cursor within the grid."""
        mesh = self.shown_mesh()
        if mesh is not None:
            column, row = self.at
            self.at = (
                max(0, min(mesh.columns - 1, column + columns)),
                max(0, min(mesh.rows - 1, row + rows)),
            )
            self.beat()

    def action_turn(self) -> None:
        """The section along the other axis."""
        self.along_x = not self.along_x
        self.beat()

    async def action_raise_here(self, way: int) -> None:
        """Raise or lower the nozzle at the cursor."""
        mesh = live_mesh(self.session.live)
        assert mesh is not None
        place = self.cursor_place()
        if math.dist(place, mesh.places[mesh.cell(place)[0] * mesh.columns + mesh.cell(place)[1]]) > SAME_PLACE_MM:
            self.say("What is drawn is not the live mesh: keep it first (k), or load it (m).", Ink.focus)
            return
        option = raising(self.session, place, way * BY_MM)
        try:
            await self.session.keep(option, None, self.station)
        except Trouble as error:
            self.say(f"✗ Not kept: {error}", Ink.stop)
            return
        here = correction_at(self.session, place)
        stands = f"the nozzle stands {abs(here):.2f} mm {'higher' if here > 0 else 'lower'} than the mesh says"
        words = stands if abs(here) > BY_MM / 4 else "the nozzle stands as the mesh says"
        self.say(
            f"✓ At X {place[0]:.0f}, Y {place[1]:.0f} {words}. Live, not saved; the next print shows it.", Ink.proposal
        )

    def cursor_place(self) -> Point:
        """Where over the bed the cursor stands, mm."""
        mesh = self.shown_mesh()
        assert mesh is not None
        column, row = min(self.at[0], mesh.columns - 1), min(self.at[1], mesh.rows - 1)
        return float(mesh.x[column]), float(mesh.y[row])

    def action_meshes(self) -> None:
        """All meshes of this machine."""
        self.run_worker(self._show_meshes(), group="meshes", exclusive=True)

    async def _show_meshes(self) -> None:
        from ublet.tui.level.meshes import MeshesDialog

        await self.app.push_screen_wait(MeshesDialog(self.session))
        self.post_message(self.Edited())
        self.refresh_state()

    def shown_mesh(self) -> Mesh | None:
        """What the running trial has, else what the last one recorded, else what is live on the board."""
        series, aim = self.read(MESHED.name), self.aim
        if self._of is None or self._of[0] is not series or self._of[1] is not aim or self.watched is not None:
            mesh = mesh_recorded(self.session, self.read, aim) if isinstance(aim, GridParameters) else None
            self._of = (series, aim, mesh)  # a fine one is not made anew at every key
        mesh = self._of[2]
        if mesh is None:
            mesh = live_mesh(self.session.live)
        if mesh is not None and not self._placed:
            self.at, self._placed = (mesh.columns // 2, mesh.rows // 2), True
        return mesh

    def next_words(self, mesh: Mesh | None) -> str:
        """What would be touched next, where that is another grid than the one that is drawn."""
        if self.watched is not None or mesh is None or not isinstance(self.aim, GridParameters):
            return ""
        try:
            _, xs, ys = grid_of(self.session.document.machine, self.aim)
        except TrialFailed:
            return ""
        same = (len(xs), len(ys)) == (mesh.columns, mesh.rows)
        return "" if same else f"drawn: {mesh.columns} x {mesh.rows}; the next run measures {len(xs)} x {len(ys)}"

    def picture(self) -> Picture:
        """The bed from above, and the section."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            mesh = self.shown_mesh()
            if watched is not None and (series := self.read(MESHED.name)) is not None and len(series.rows):
                self.at = int(series.rows[-1, 0]), int(series.rows[-1, 1])  # where it probes now
            drawn = mesh_picture(
                session, mesh, self.at, self.along_x, width, height - 2, self.next_words(mesh), self.aim
            )
            return drawn + Text("\n") + self.next_line(width)

        return draw


def mesh_recorded(session: Session, read: SeriesReader, aim: GridParameters) -> Mesh | None:
    """The points of a run where it touched them. Where they are places of the grid that is asked for, what is not
    touched yet is a hole; the points of another grid stand by themselves.
    """
    series = read(MESHED.name)
    if series is None or not len(series.rows):
        return None
    rows = series.rows
    wide, deep = int(rows[:, 0].max()) + 1, int(rows[:, 1].max()) + 1
    x, y = np.full(wide, np.nan), np.full(deep, np.nan)
    with contextlib.suppress(TrialFailed):
        _, xs, ys = grid_of(session.document.machine, aim)
        places = [(int(column), int(row), at_x, at_y) for column, row, at_x, at_y, _ in rows.tolist()]
        if (
            len(xs) >= wide
            and len(ys) >= deep
            and all(
                math.dist((xs[column], ys[row]), (at_x, at_y)) < SAME_PLACE_MM for column, row, at_x, at_y in places
            )
        ):
            x, y = np.array(xs), np.array(ys)
    heights = np.full((len(y), len(x)), np.nan)
    for column, row, at_x, at_y, height in rows.tolist():
        x[int(column)], y[int(row)] = at_x, at_y
        heights[int(row), int(column)] = height
    whole = min(heights.shape) >= 2 and not np.isnan(x).any() and not np.isnan(y).any()
    return Mesh(x, y, heights) if whole else None


def mesh_picture(
    session: Session,
    mesh: Mesh | None,
    at: tuple[int, int],
    along_x: bool,
    width: int,
    height: int,
    grid: str = "",
    aim: Part | None = None,
) -> Text:
    """Relief and heights in µm over their mean, the cursor's line, and that line as a section beside it."""
    cells = Cells(width, height)
    bed = session.document.machine.bed
    side = round(width * SIDE_FRACTION)
    wide = width - side
    drawn = bed_map(cells, bed, (), wide, height)
    cells.put(0, 0, *_live_words(session))
    cells.put(0, 1, grid, Ink.focus)
    if mesh is not None and not grid:
        here = (float(mesh.x[min(at[0], mesh.columns - 1)]), float(mesh.y[min(at[1], mesh.rows - 1)]))
        if abs(added := correction_at(session, here)) >= 0.0005:
            cells.put(0, 1, f"at the cursor corrected by {1000 * added:+.0f} µm", Ink.proposal)
    if mesh is None:
        _put_plan(cells, session, drawn, aim)
        cells.put(wide + 2, 0, "not probed yet", Ink.text)
        cells.put(wide + 2, 2, "· points of the next run", Ink.dim)
        cells.put(wide + 2, 3, "┄ what the probe reaches", Ink.dim)
        return cells.text()
    mean = float(np.nanmean(mesh.heights))
    um = 1000 * (mesh.heights - mean)
    reach = max(10.0, float(np.nanmax(np.abs(um))))
    lines = ""
    if not np.isnan(um).any():
        lines = f", a line every {put_relief(cells, drawn, mesh, mean, reach):g} µm"
    column, row = min(at[0], mesh.columns - 1), min(at[1], mesh.rows - 1)
    put_numbers(cells, drawn, mesh, um, (column, row), along_x)
    cells.put(0, height - 1, f"µm over the mean; {RELIEF[1]} low to {RELIEF[3]} high{lines}", Ink.dim)
    _section(cells, mesh, um, (column, row), along_x, wide + 2, side - 3, height, reach)
    return cells.text()


def _put_plan(cells: Cells, session: Session, drawn: BedMap, aim: Part | None) -> None:
    """Where the next run would touch, and what the probe reaches at all."""
    machine = session.machine_now
    with contextlib.suppress(TrialFailed):
        reach, xs, ys = grid_of(machine, aim if isinstance(aim, GridParameters) else GridParameters())
        upper, lower = drawn.cell((reach.x[0], reach.y[1])), drawn.cell((reach.x[1], reach.y[0]))
        cells.box(upper[0], upper[1], lower[0], lower[1], Ink.quiet, "┄┆┌┐└┘")
        for y in ys:
            for x in xs:
                drawn.mark((x, y), "·", f"bold {Ink.focus}")
        below = drawn.cell((machine.bed.width_mm / 2, 0.0))
        cells.put(below[0] - 3, below[1], " front ", Ink.quiet)


def _live_words(session: Session) -> tuple[str, str]:
    """What the board does with a mesh now, and in which ink."""
    live = live_mesh(session.live)
    if live is None:
        return "no mesh is live on the board", Ink.dim
    laid = live_correction(session.live, live)
    with_it = f" and a correction of {laid.columns} x {laid.rows}" if laid is not None else ""
    words = f"live on the board: {live.columns} x {live.rows}{with_it}"
    if session.live(FOLLOWS) is True:
        return f"{words}, Z follows it", Ink.good
    return f"{words}, not followed now", Ink.focus


def _section(
    cells: Cells,
    mesh: Mesh,
    um: np.ndarray,
    at: tuple[int, int],
    along_x: bool,
    left: int,
    width: int,
    height: int,
    reach: float,
) -> None:
    """The line through the cursor, heights to scale in µm."""
    column, row = at
    where = mesh.x if along_x else mesh.y
    heights = um[row] if along_x else um[:, column]
    fixed = f"Y {mesh.y[row]:.0f}" if along_x else f"X {mesh.x[column]:.0f}"
    words = (f"section at {fixed} mm, µm over the mean", f"{'X' if along_x else 'Y'}, mm")
    drawn = graph(
        cells, left, 0, (width, height), (float(where[0]), float(where[-1])), (-1.15 * reach, 1.15 * reach), words
    )
    good = ~np.isnan(heights)
    if not np.isnan(um).any():
        fine = np.linspace(where[0], where[-1], 80)
        between = mesh.over(fine, [mesh.y[row]])[0] if along_x else mesh.over([mesh.x[column]], fine)[:, 0]
        mean = float(np.nanmean(mesh.heights))
        drawn.line(fine.tolist(), (1000 * (between - mean)).tolist(), Ink.proposal)
    elif good.sum() >= 2:
        drawn.line(where[good].tolist(), heights[good].tolist(), Ink.proposal)
    for number, (mm, height_um) in enumerate(zip(where.tolist(), heights.tolist(), strict=True)):
        if not np.isnan(height_um):
            here = number == (column if along_x else row)
            drawn.mark(mm, height_um, "◉" if here else "•", f"bold {Ink.focus}" if here else Ink.text)
