"""The sheet of meshes: all that were taken, one less another as a picture, which is live, which a print would load."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Static

from ublet.core.level.mesh.mesh import filled
from ublet.core.run import Option
from ublet.core.trouble import Trouble
from ublet.session.meshes import (
    LONGEST_NAME,
    StoredMesh,
    at_start,
    compared,
    difference_words,
    loading,
    none_live,
    rename,
    take_off,
    taken,
)
from ublet.session.session import Session
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.pickers import LineDialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.level.relief import put_map

NAME_COLUMNS = 26
BESIDE_ROWS, LEAST_ROWS, BESIDE_COLUMNS, MOST_COLUMNS = 24, 11, 12, 108
"""Rows and columns of the terminal that the picture does not take; its least height and its greatest width."""


class MeshesDialog(Dialog):
    """A table of meshes below the picture of two."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "choose(-1)", show=False),
        Binding("down", "choose(1)", show=False),
        Binding("c", "compare", show=False),
        Binding("u", "use", show=False),
        Binding("n", "none", show=False),
        Binding("r", "rename", show=False),
        Binding("x", "take_off", show=False),
        Binding("z", "bring_back", show=False),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.known = taken(session)
        self.chosen = 0
        self.other = next((n for n, stored in enumerate(self.known) if stored.live), 0)
        self.said: tuple[str, str] = ("", Ink.text)
        self.taken_off: list[StoredMesh] = []

    def compose(self) -> ComposeResult:
        """Heading, picture, table, what was said, keys."""
        with Vertical():
            yield Static(id="meshes-heading")
            yield Static(id="meshes-picture")
            yield Static(id="meshes-table")
            yield Static(id="meshes-message")
            yield Static(
                "↑↓ mesh    c compare with it    u make it live    n none for this print    r name    "
                "x off the list    esc closes",
                classes="keys",
            )

    def on_mount(self) -> None:
        """Show it."""
        self._show()

    def _show(self) -> None:
        _, why = at_start(self.session, self.known)
        heading = Text("Meshes of this machine. ", f"bold {Ink.text}").append("A print would load ", Ink.dim)
        heading.append(why, Ink.text)
        self.query_one("#meshes-heading", Static).update(heading)
        self.query_one("#meshes-picture", Static).update(self._picture())
        self.query_one("#meshes-table", Static).update(self._table())
        self.query_one("#meshes-message", Static).update(Text(*self.said))

    def _picture(self) -> Text:
        """The chosen mesh less the one that it is compared with; itself where that is the same."""
        wide = min(MOST_COLUMNS, self.app.size.width - BESIDE_COLUMNS)
        high = max(LEAST_ROWS, self.app.size.height - BESIDE_ROWS)
        cells = Cells(wide, high)
        if not self.known:
            cells.put(0, 1, "None yet: probe the bed, and keep what is found.", Ink.dim)
            return cells.text()
        one, other = self.known[self.chosen], self.known[self.other]
        bed = self.session.document.machine.bed
        if one is other:
            put_map(cells, bed, one.mesh, wide, high - 1)
            cells.put(0, 0, f"“{one.name}”, µm over its mean", Ink.text)
            return cells.text()
        try:
            comparison = compared(one, other)
        except ValueError as error:
            cells.put(0, 1, str(error), Ink.stop)
            return cells.text()
        put_map(cells, bed, filled(comparison.difference), wide, high - 1, over_mean=False)
        cells.put(0, 0, f"“{one.name}” less “{other.name}”, µm", Ink.text)
        words = difference_words(one, other, comparison)
        cells.put(0, high - 1, words, Ink.good if comparison.verdict == "same" else Ink.focus)
        return cells.text()

    def _table(self) -> Text:
        text, best = Text(no_wrap=True), at_start(self.session, self.known)[0]
        for number, stored in enumerate(self.known):
            here = number == self.chosen
            text.append("▸ " if here else "  ", Ink.focus)
            text.append(f"{stored.name:<{NAME_COLUMNS}}"[:NAME_COLUMNS], f"bold {Ink.focus}" if here else Ink.text)
            label = f" {stored.at[:10]}  run {stored.run:>4}  {stored.mesh.columns} x {stored.mesh.rows}"
            text.append(f"{label}  {1000 * float(np.ptp(stored.mesh.heights)):>4.0f} µm", Ink.dim)
            text.append("  ◆ live" if stored.live else "", Ink.good)
            text.append("  ← compared with" if number == self.other and len(self.known) > 1 else "", Ink.proposal)
            text.append("  ● for a print" if stored is best else "", Ink.good)
            text.append(f"  ▲ {stored.reasons[0]}" if stored.reasons else "", Ink.focus)
            text.append("\n")
        return text

    def action_choose(self, by: int) -> None:
        """Another mesh."""
        if self.known:
            self.chosen = (self.chosen + by) % len(self.known)
            self._show()

    def action_compare(self) -> None:
        """Compare all others with the chosen one."""
        self.other = self.chosen
        self._show()

    async def action_use(self) -> None:
        """Make the chosen one live."""
        if not self.known:
            return
        chosen: StoredMesh = self.known[self.chosen]
        said = f"✓ “{chosen.name}” is live; lost at power-off until it is saved."
        await self._keep(loading(self.session, chosen), chosen.run, said)

    async def action_none(self) -> None:
        """No mesh for this print."""
        stored = "the stored one counts again at power-on, or u loads one"
        await self._keep(none_live(self.session), None, f"✓ No mesh is live, for this print: {stored}.")

    async def _keep(self, option: Option, run: int | None, said: str) -> None:
        try:
            await self.session.keep(option, run)
            self.said = (said, Ink.proposal)
        except Trouble as error:
            self.said = (f"✗ Not loaded: {error}", Ink.stop)
        self._read_again()

    def _read_again(self) -> None:
        self.known = taken(self.session)
        self.chosen = max(0, min(self.chosen, len(self.known) - 1))
        self.other = max(0, min(self.other, len(self.known) - 1))
        self._show()

    def action_rename(self) -> None:
        """A name of the builder's own for the chosen one."""
        if not self.known:
            return
        chosen = self.known[self.chosen]

        def wrong(text: str) -> str | None:
            return f"at most {LONGEST_NAME} characters" if len(" ".join(text.split())) > LONGEST_NAME else None

        def named(name: str | None) -> None:
            if name is not None:
                self._noted(lambda: rename(self.session, chosen, name), f"✓ It is called “{' '.join(name.split())}”.")

        hint = f"empty: {chosen.usual_name}"
        self.app.push_screen(LineDialog(f"Name of “{chosen.name}”", chosen.own_name, wrong, hint, True), named)

    def action_take_off(self) -> None:
        """Offer the chosen one no longer."""
        if not self.known:
            return
        chosen = self.known[self.chosen]
        if chosen.live:
            self.said = (f"✗ “{chosen.name}” is live: load another, or none (n), first.", Ink.stop)
            self._show()
            return
        self.taken_off.append(chosen)
        said = f"✓ “{chosen.name}” is off the list; its run {chosen.run} stays in the ledger. z brings it back."
        self._noted(lambda: take_off(self.session, chosen), said)

    def action_bring_back(self) -> None:
        """Offer again what was taken off last."""
        if self.taken_off:
            last = self.taken_off.pop()
            self._noted(lambda: take_off(self.session, last, back=True), f"✓ “{last.name}” is on the list again.")

    def _noted(self, note: Callable[[], None], said: str) -> None:
        try:
            note()
            self.said = (said, Ink.proposal)
        except Trouble as error:
            self.said = (f"✗ {error}", Ink.stop)
        self._read_again()
