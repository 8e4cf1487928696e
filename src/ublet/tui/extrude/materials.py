"""The sheet of materials: the values of each, the run that measured them, and whether it still holds."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Static

from ublet.core.typed import shown_value
from ublet.ledger.errors import LedgerError
from ublet.session.materials import (
    FOUND,
    MaterialRow,
    MaterialValue,
    copy_material,
    material_rows,
    use_material,
    why_no_name,
)
from ublet.session.session import Session
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.pickers import LineDialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList

COLUMNS = (
    ("nozzle_c", "nozzle °C", 10),
    ("bed_c", "bed °C", 8),
    ("fan", "fan", 6),
    ("largest_flow_mm3_s", "flow mm³/s", 12),
    ("advance_s", "advance s", 12),
    ("retract_mm", "retract mm", 12),
    ("shrinks_percent", "shrinks %", 12),
)
"""Keys of a material, their heads, and columns."""

NAME_COLUMNS = 16


class MaterialsDialog(Dialog):
    """Every material a row; closes with what was done."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "move(-1)", "choose", priority=True),
        Binding("down", "move(1)", "choose", priority=True),
        Binding("enter", "use", "loaded", priority=True),
        Binding("c", "copy", "copy"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.rows = material_rows(session)
        self.cursor = next((at for at, row in enumerate(self.rows) if row.loaded), 0)

    def compose(self) -> ComposeResult:
        """Heading, rows, what is known of the one under the cursor, keys."""
        with Vertical():
            yield Static(Text("Materials", f"bold {Ink.text}"))
            yield Static(self._heads())
            yield RowList(id="kinds", marks=True)
            yield Static(id="about")
            yield Static(self._keys(), classes="keys")

    def on_mount(self) -> None:
        """Begin with the one that is loaded."""
        self.query_one("#kinds", RowList).styles.height = max(1, len(self.rows))
        self._draw()

    def action_move(self, by: int) -> None:
        """Another row."""
        self.cursor = max(0, min(len(self.rows) - 1, self.cursor + by))
        self._draw()

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse chooses, too."""
        self.cursor = event.row
        self._draw()

    def action_use(self) -> None:
        """This one is loaded from now on."""
        if not self.rows:
            return
        name = self.rows[self.cursor].name
        try:
            use_material(self.session, name)
        except LedgerError as error:
            self.query_one("#about", Static).update(Text(f"✗ {error}", Ink.stop))
            return
        self.close_with(f"{name} is loaded: trials of the leg Extrude are for it, and their results land in its row")

    def action_copy(self) -> None:
        """A row for a new spool."""
        if not self.rows:
            return
        name = self.rows[self.cursor].name

        def check(new: str) -> str | None:
            return why_no_name(self.session, new.strip())

        def take(new: str | None) -> None:
            if new:
                copy_material(self.session, name, new.strip())
                self.close_with(f"{new.strip()} stands in the draft, marked as copied from {name}: ctrl+s writes it")

        title = f"Copy {name} for a new spool: what is it called?"
        self.app.push_screen(LineDialog(title, f"{name}-2", check, "small letters"), take)

    def _heads(self) -> Text:
        text = Text(f"  {'':<{NAME_COLUMNS}}", Ink.quiet)
        for _, head, columns in COLUMNS:
            text.append(f"{head:>{columns}}", Ink.quiet)
        return text

    def _draw(self) -> None:
        self.query_one("#kinds", RowList).show([self._row(row) for row in self.rows], self.cursor, True)
        about = self.rows[self.cursor] if self.rows else None
        words = (
            _about(about) if about is not None else Text("The machine file has no materials: add one there.", Ink.text)
        )
        self.query_one("#about", Static).update(words)

    def _row(self, row: MaterialRow) -> Text:
        text = Text("● " if row.loaded else "  ", Ink.good).append(
            f"{_short(row.name):<{NAME_COLUMNS}}", f"bold {Ink.text}"
        )
        for key, _, columns in COLUMNS:
            of = row.values[key]
            text.append(f"{_shown(of):>{columns}}", _ink(of))
        return text

    def _keys(self) -> Text:
        keys = Text()
        for key, words in (("↑↓", "which"), ("enter", "it is loaded"), ("c", "copy for a new spool"), ("esc", "close")):
            keys.append(f"{key} ", Ink.focus)
            keys.append(f"{words}    ", Ink.text)
        return keys


def _short(name: str) -> str:
    return name if len(name) < NAME_COLUMNS else f"{name[: NAME_COLUMNS - 2]}…"


def _shown(of: MaterialValue) -> str:
    """A value with its mark: ! does not hold, * another spool's."""
    if of.value is None:
        return "–"
    return f"{shown_value(of.value, 4)}{'!' if of.why_not else '*' if of.copied_from else ' '}"


def _ink(of: MaterialValue) -> str:
    if of.value is None:
        return Ink.quiet
    if of.why_not or of.copied_from:
        return Ink.focus
    return Ink.good if of.run is not None else Ink.text


def _about(row: MaterialRow) -> Text:
    """The measured values of a material: by which run, whether it holds, which are missing."""
    text = Text("\n")
    for key, station in FOUND.items():
        of, head = row.values[key], next(head for name, head, _ in COLUMNS if name == key)
        text.append(f"  {head:<12}", Ink.dim)
        if of.value is None:
            words = f"not found yet: station {station}"
        elif of.why_not:
            words = f"! run {of.run} found it, and it does not hold: {of.why_not}"
        elif of.run is not None:
            words = f"found by run {of.run}, holds"
        elif of.copied_from:
            words = f"* that of {of.copied_from}: not proven for this spool; station {station}"
        else:
            words = f"typed into the machine file, found by no run: station {station}"
        text.append(f"{words}\n", _ink(of) if of.value is not None else Ink.text)
    return text
