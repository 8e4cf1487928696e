"""The wiring bench: the board with its sockets, what is plugged where, and how to move it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.widgets import Static

from ublet.core.machine.edit import EditError
from ublet.core.machine.wiring import Plug, assignment, plug_list, plugs, state_of
from ublet.core.settings import Value
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.pickers import PickDialog, PickerItem, narrowed
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.machine.wiring_picture import Placed, draw_board, neighbour
from ublet.tui.trial.draft_bench import DraftBench

WIRING_HELP = Help(
    """\
    A plug on the wrong socket is the commonest first fault, and the costliest: a heater driven by another
    one's sensor. Here you see the board as it lies before you, and what the machine file says is where.
    """,
    """\
    Arrows go from socket to socket. Enter plugs something in: what sat there takes the place that becomes
    free. Backspace unplugs what may be without a socket. Edits go to the draft; ctrl+s writes the file.
    e draws the board as SVG and PDF, to print and take to the machine.
    """,
)


class WiringBench(DraftBench):
    """A drawing of the board to walk about on."""

    kind = "wiring"
    title = "Board and wiring"
    why = "what is plugged where; with the power off"
    help = WIRING_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("enter", "plug", "plug in", tooltip="Choose what is plugged into the chosen socket"),
        Binding("backspace", "unplug", "unplug", key_display="⌫", tooltip="Unplug what may be without a socket"),
        Binding("delete", "unplug", show=False),
        Binding("up", "go(0, -1)", "socket", key_display="↑↓←→", tooltip="Go from socket to socket"),
        Binding("down", "go(0, 1)", show=False),
        Binding("left", "go(-1, 0)", show=False),
        Binding("right", "go(1, 0)", show=False),
        Binding("e", "export", "export", tooltip="Draw the board as SVG and PDF beside the machine file"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.chosen = ""
        self._placed: list[Placed] = []

    def compose(self) -> ComposeResult:
        """Heading, drawing, what is at the chosen socket."""
        yield Static(id="heading")
        yield Static(id="board")
        yield Static(id="detail")

    def refresh_state(self) -> None:
        """Draw the board as the draft has it."""
        if not self.is_mounted:
            return
        draft = self.session.draft
        board = draft.document.boards.get(str(draft.given("board.model")))
        text = Text()
        text.append_text(self.heading_words())
        if board is None:
            text.append("The machine file names no known board: choose one in the station “machine file”.", Ink.stop)
            self.write("heading", text)
            return
        at = plugs(draft.tree)
        if self.chosen not in board.sockets:
            self.chosen = next(iter(board.sockets))
        states = [state_of(name, at, board) for name in board.sockets]
        elsewhere = [name for name in at if name not in board.sockets]
        text.append(f"{board.name}  ", Ink.text)
        text.append(f"● {states.count('used')} used  ", Ink.text)
        text.append(f"○ {states.count('free')} free  ", Ink.dim)
        wrong = states.count("doubly used") + states.count("wrong kind")
        if wrong:
            text.append(f"✗ {wrong} doubly used or of the wrong kind  ", f"bold {Ink.stop}")
        if elsewhere:
            text.append(f"✗ not on this board: {', '.join(sorted(elsewhere)[:6])}  ", f"bold {Ink.stop}")
        if draft.dirty:
            text.append("edits not written: ctrl+s", f"bold {Ink.proposal}")
        self.write("heading", text)
        place = self.query_one("#board", Static)
        columns, rows = max(70, place.size.width), max(14, place.size.height)
        lines, self._placed = draw_board(board, at, self.chosen, columns, rows)
        place.update(Text("\n").join(lines), layout=False)
        self.write("detail", self._detail(at.get(self.chosen, [])))
        self.refresh_bindings()

    def _detail(self, here: list[Plug]) -> Text:
        draft, text = self.session.draft, Text()
        board = draft.document.boards[str(draft.given("board.model"))]
        socket = board.sockets[self.chosen]
        text.append(f"{self.chosen}  ", f"bold {Ink.focus}")
        text.append(f"{socket.kind} socket, {socket.edge} edge", Ink.text)
        if socket.largest_a is not None:
            text.append(f", up to {socket.largest_a:g} A", Ink.text)
        if socket.pullup_ohm is not None:
            text.append(f", pull-up {socket.pullup_ohm:g} Ω", Ink.text)
        text.append("\n")
        if not here:
            text.append("○ free", Ink.dim)
        for plug in here:
            bad = len(here) > 1 or plug.kind != socket.kind
            text.append(f"{'✗' if bad else '●'} {plug.words}  ", f"bold {Ink.stop}" if bad else Ink.text)
            text.append(f"{plug.path}   ", Ink.dim)
        for problem in draft.checked.problems:
            if any(problem.key == plug.path for plug in here):
                text.append(f"\n{problem.mend} (found {problem.found})", Ink.stop)
                break
        if self.message is not None:
            text.append(f"\n{self.message[0]}", self.message[1])
        return text

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        if action == "unplug":
            return bool(self._removable())
        return super().check_action(action, parameters)

    def _removable(self) -> list[Plug]:
        here = plugs(self.session.draft.tree).get(self.chosen, [])
        return [plug for plug in here if plug.path.startswith("probe.")]

    def action_go(self, across: int, down: int) -> None:
        """To the next socket in a direction."""
        self.message = None
        self.chosen = neighbour(self._placed, self.chosen, across, down)
        self.refresh_state()

    def action_plug(self) -> None:
        """Choose what is plugged in here."""
        draft = self.session.draft
        board = draft.document.boards.get(str(draft.given("board.model")))
        if board is None or self.chosen not in board.sockets:
            return
        kind = board.sockets[self.chosen].kind
        fitting = [plug for plug in plug_list(draft.tree) if plug.kind == kind]
        if not fitting:
            self.message = (
                f"Nothing declared needs a {kind} socket: add the part in the station “machine file”.",
                Ink.focus,
            )
            self.refresh_state()
            return
        choices = [PickerItem(p.path, p.words, f"now at {p.socket}" if p.socket else "not plugged in") for p in fitting]

        def take(path: str | None) -> None:
            plug = next((plug for plug in fitting if plug.path == path), None)
            if plug is not None:
                edits = assignment(draft.tree, plug, self.chosen)
                self._edit(edits)
                moved = [f"{p.words} → {edits[p.path]}" for p in fitting if p.path in edits]
                self.message = (", ".join(moved), Ink.proposal)
                self.refresh_state()

        sitting = next((p.path for p in fitting if p.socket == self.chosen), "")
        title = f"What is plugged into {self.chosen}?"
        self.app.push_screen(PickDialog(title, narrowed(choices), sitting), take)

    def action_unplug(self) -> None:
        """Unplug what may be without a socket."""
        self._edit({plug.path: None for plug in self._removable()})

    def _edit(self, edits: Mapping[str, Value]) -> None:
        try:
            self.session.draft.set_all(edits)
        except EditError as error:
            self.message = (f"✗ Not done: {error}.", Ink.stop)
        self.post_message(self.Edited())

    def action_export(self) -> None:
        """Draw it as SVG and PDF beside the machine file."""
        self.run_worker(self._export(), group="export")

    async def _export(self) -> None:
        from ublet.session.export import wiring_files

        self.message = ("Drawing SVG and PDF …", Ink.dim)
        self.refresh_state()
        draft = self.session.draft
        board = draft.document.boards[str(draft.given("board.model"))]
        try:
            files = await asyncio.to_thread(wiring_files, draft.tree, board, self.session.document.path)
        except (OSError, ValueError) as error:
            self.message = (f"✗ Not exported: {error}", Ink.stop)
        else:
            names = ", ".join(file.name for file in files)
            self.message = (f"✓ Exported to {files[0].parent}: {names}", Ink.good)
        self.refresh_state()
