"""The bench that writes to the board: what would change, the upload, then the stored values that hide the file's."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.widgets import Static

from ublet.core.machine.image import ImageError
from ublet.core.machine.schema import SETTINGS
from ublet.core.typed import shown_value
from ublet.core.units import duration
from ublet.core.words import counted
from ublet.link.controller import UploadProgress
from ublet.link.upload import BITS_A_BYTE
from ublet.session.layers import LayerRow, Settling, rows, settled_values
from ublet.session.picture import PictureError
from ublet.session.saving import SaveFailed
from ublet.session.session import Session
from ublet.session.writing import Planned, WriteRefused, back_up_store
from ublet.tui.frame.help import Help
from ublet.tui.frame.pickers import ConfirmDialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList
from ublet.tui.machine.layer_words import layer_lines, setting_words
from ublet.tui.trial.bench import StationBench
from ublet.tui.trial.settlement import key_words

WRITE_HELP = Help(
    """\
    A value lives in four places: the machine file, the image built from it, what the board has stored, and
    what is live. A stored value silently hides the image's: you change the file, write it, and nothing happens.
    """,
    """\
    The table shows every setting whose layers do not agree, and which one wins. Enter builds the image and
    says what it would change before anything is sent. It goes into the slot that does not run, in checked
    blocks; a break at any byte leaves the board on the old image, and the upload goes on where it ended. The
    board checks the digest, switches and restarts; nothing moves or heats.

    Afterwards settle what stays hidden, one by one or all together: take the file's value, keep the stored
    one, or put the stored one into the file. The board's store is backed up beside the file first.
    """,
)

CHOICES: tuple[Settling, ...] = ("stored", "file", "adopt")
CHOICE_WORDS: dict[Settling, str] = {
    "stored": "keep the stored one",
    "file": "take the file's",
    "adopt": "put it in the file",
}
NARROW_WORDS = {
    "keep the stored one": "keep stored",
    "take the file's": "take file's",
    "put it in the file": "into file",
    "write brings it": "outdated",
    "kept, not saved: ctrl+s": "not saved",
}
"""What is said where a row has no room for more."""

PATH_COLUMNS, LAYER_COLUMNS = 36, 12
NARROW_PATH_COLUMNS, NARROW_LAYER_COLUMNS = 26, 8
NARROW = 100
BAR_COLUMNS = 60


class WriteBench(StationBench):
    """Layers, upload, shadows."""

    kind = "write"
    title = "Write to board"
    why = "the image on the board, with nothing hidden"
    help = WRITE_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("enter", "go", "write / settle", tooltip="Write the image; or settle what was chosen"),
        Binding("space", "choose", "choose", tooltip="Choose what to do with this shadowed setting"),
        Binding("A", "choose_all", "same for all", tooltip="The same for every shadowed setting"),
        Binding("f", "filter", "all / differing", tooltip="Every setting, or only those whose layers differ"),
        Binding("b", "back_up", "back up store", tooltip="Back up the board's store beside the file"),
        Binding("up", "move(-1)", "setting", key_display="↑↓", tooltip="Choose a setting"),
        Binding("down", "move(1)", show=False),
        Binding("pageup", "move(-15)", show=False),
        Binding("pagedown", "move(15)", show=False),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.everything = self.preferences.all_layers
        self.cursor = 0
        self.choices: dict[str, Settling] = {}
        self.phase = ""
        self.progress: UploadProgress | None = None
        self.planned: Planned | None = None
        self.why_not = ""
        self.shown: list[LayerRow] = []

    def compose(self) -> ComposeResult:
        """Heading, the upload while there is one, the layers, what comes next."""
        yield Static(id="heading")
        yield Static(id="upload", classes="empty")
        yield Static(id="titles")
        yield RowList(id="layers")
        yield Static(id="detail")
        yield Static(id="chosen")

    def on_mount(self) -> None:
        """Show the layers."""
        self.refresh_state()

    def on_resize(self) -> None:
        """The columns follow the width."""
        self.call_after_refresh(self.refresh_state)

    # what is shown

    @property
    def busy(self) -> bool:
        """While an image is written."""
        return bool(self.phase)

    def refresh_state(self) -> None:
        """Hold file and board against each other anew."""
        if not self.is_mounted:
            return
        session = self.session
        self.planned, self.why_not = None, ""
        try:
            self.planned = session.plan_write()
        except (ImageError, PictureError) as error:
            self.why_not = str(error)
        layer_rows = rows(session.document, session.connection)
        self.shown = [row for row in layer_rows if self.everything or row.differs]
        hidden = {row.path for row in layer_rows if row.shadowed}
        self.choices = {path: way for path, way in self.choices.items() if path in hidden}
        self.cursor = max(0, min(self.cursor, len(self.shown) - 1))
        self._draw()
        self.refresh_bindings()

    def beat(self) -> None:
        """Follow the upload."""
        if self.phase:
            self._draw_upload()

    def _draw(self) -> None:
        self.write("heading", self._heading())
        width = self.size.width - 4
        self.write("titles", self._titles(width))
        sheet_rows = [self._row(row, width) for row in self.shown]
        if not sheet_rows:
            linked = self.session.connection.linked
            message = "Every layer agrees: the board runs what the file says." if linked else "No board is linked."
            sheet_rows = [Text(f"  {message}", Ink.good if linked else Ink.dim)]
        sheet = self.query_one(RowList)
        sheet.styles.height = len(sheet_rows)
        sheet.show(sheet_rows, self.cursor, bool(self.shown) and not self.phase)
        self._draw_upload()
        self.write("detail", self._detail())
        self.write("chosen", self._chosen())

    def _chosen(self) -> Text:
        """The setting under the cursor in full: what it is for, and where each layer's value came from."""
        if (row := self.row) is None:
            return Text()
        declared = SETTINGS.find(row.path)
        text = setting_words(row.path, declared)
        text.append("\n\n")
        unit = declared.unit if declared is not None else ""
        text.append_text(layer_lines(self.session, row, unit, self.query_one("#chosen").content_size.width))
        return text

    def _heading(self) -> Text:
        session, text = self.session, Text()
        text.append_text(self.heading_words())
        about = session.connection.image
        if self.why_not:
            text.append(f"✗ {self.why_not}", Ink.stop)
            return text
        assert self.planned is not None
        image = self.planned.image
        text.append(f"file: image of {len(image.data):,} bytes, {image.head.version}, {image.digest[:8]}", Ink.text)
        if about is None or not session.connection.linked:
            text.append("   ✗ no board is linked", Ink.stop)
        else:
            if "image" not in session.connection.can:
                return text.append(f"   board: {about.firmware}, no image", Ink.dim)
            more = f"{about.bytes:,} bytes, {about.firmware}, " if self.size.width >= NARROW else ""
            text.append(f"   board: slot {about.slot}, {more}{about.digest[:8]}", Ink.dim)
        return text

    def _titles(self, width: int) -> Text:
        row = Text(f"  {'setting':<{self._path_columns(width)}}", Ink.dim)
        row.append(
            "".join(f"{name:>{self._layer_columns(width)}}" for name in ("file", "image", "stored", "live")),
            Ink.dim,
        )
        row.append("   wins     ", Ink.dim)
        row.append("settle", Ink.dim)
        return row

    def _path_columns(self, width: int) -> int:
        return PATH_COLUMNS if width >= NARROW else NARROW_PATH_COLUMNS

    def _layer_columns(self, width: int) -> int:
        return LAYER_COLUMNS if width >= NARROW else NARROW_LAYER_COLUMNS

    def _row(self, row: LayerRow, width: int) -> Text:
        line = Text("≠ " if row.differs else "  ", Ink.focus)
        columns, layer_columns = self._path_columns(width), self._layer_columns(width)
        path = row.path if len(row.path) < columns else "…" + row.path[-(columns - 2) :]
        line.append(f"{path:<{columns}}", Ink.text)
        for name in ("file", "image", "stored", "live"):
            value = getattr(row, name) if name == "file" or row.on_board else None
            text = shown_value(value, 6)
            text = text if len(text) < layer_columns else text[: layer_columns - 2] + "…"
            wins = name == row.wins or (name == "live" and row.wins == "kept")
            line.append(f"{text:>{layer_columns}}", f"bold {Ink.focus}" if wins and row.differs else Ink.dim)
        line.append(f"   {row.wins:<8} ", Ink.text if row.differs else Ink.dim)
        words, ink = "", Ink.dim
        if row.shadowed:
            way = self.choices.get(row.path)
            words, ink = (CHOICE_WORDS[way], Ink.proposal) if way else ("shadowed", Ink.focus)
        elif row.outdated and row.on_board:
            words = "write brings it"
        elif row.wins == "kept":
            words, ink = "kept, not saved: ctrl+s", Ink.proposal
        return line.append(words if width >= NARROW else NARROW_WORDS.get(words, words), ink)

    def _draw_upload(self) -> None:
        widget = self.query_one("#upload", Static)
        widget.set_class(not self.phase, "empty")
        if not self.phase:
            return
        text = Text(f"{self.phase}\n", f"bold {Ink.focus}")
        progress = self.progress
        if progress is not None:
            fraction = progress.done / progress.total
            full = round(BAR_COLUMNS * fraction)
            text.append("█" * full, Ink.focus)
            text.append("░" * (BAR_COLUMNS - full), Ink.faint)
            text.append(f" {100 * fraction:3.0f} %   {progress.done:,} of {progress.total:,} bytes", Ink.text)
            if progress.rate:
                text.append(f"   {progress.rate / 1000:.1f} kB/s", Ink.text)
            if progress.left_s is not None and progress.done < progress.total:
                text.append(f"   {duration(progress.left_s)} left", Ink.text)
        self.write("upload", text)

    def _detail(self) -> Text:
        text = Text()
        if self.message is not None:
            text.append(f"{self.message[0]}\n", self.message[1])
        if self.planned is None or not self.session.connection.linked:
            return text
        if self.phase:
            return text  # how far it is stands above
        if self.session.draft.dirty:
            text.append("The draft has edits that are not in the file yet: ctrl+s writes them first.\n", Ink.proposal)
        takes_image = "image" in self.session.connection.can
        if not takes_image:
            text.append(
                "This board takes no image over its line: it has two layers, what it will have after power-on ", Ink.dim
            )
            text.append("(stored) and what is live, and each setting is written by itself.\n", Ink.dim)
        elif self.planned.refused:
            text.append(f"✗ Cannot be written: {self.planned.refused}.", Ink.stop)
        elif not self.planned.same_as_running:
            key_words(text, "enter", f"writes the image: {self._summary()}.")
            text.append(" You see what changes before it is sent. Nothing moves, nothing heats.", Ink.dim)
        hidden = self.hidden
        if hidden and self.planned.same_as_running:
            if takes_image:
                text.append(f"{len(hidden)} stored value{'s' * (len(hidden) > 1)} hide the file's. ", Ink.focus)
            else:
                text.append(f"{counted(len(hidden), 'setting')} differ from the file. ", Ink.focus)
            key_words(text, "space", "chooses what to do with one, ")
            key_words(text, "A", "the same for all, ")
            key_words(text, "enter", "settles what is chosen." if self.choices else "takes the file's for all.")
        elif hidden:
            text.append(f"\n{len(hidden)} stored values will hide the image's: settle them after.", Ink.focus)
        return text

    def _summary(self) -> str:
        planned = self.planned
        assert planned is not None
        parts = []
        if planned.changes:
            count = len(planned.changes)
            parts.append(f"{count} setting{'s change' if count > 1 else ' changes'}")
        if planned.modules_added:
            parts.append(f"{len(planned.modules_added)} modules come in")
        if planned.modules_removed:
            parts.append(f"{', '.join(planned.modules_removed)} leave{'s' * (len(planned.modules_removed) == 1)}")
        return ", ".join(parts) or "nothing changes"

    # what can be done

    @property
    def row(self) -> LayerRow | None:
        """The setting under the cursor."""
        return self.shown[self.cursor] if self.shown else None

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        ready = self.session.connection.linked and self.session.connection.state.mode == "ready" and not self.phase
        if action == "go":
            return ready and self.planned is not None and (not self.planned.same_as_running or bool(self.hidden))
        if action == "choose":
            return ready and self.row is not None and self.row.shadowed
        if action == "choose_all":
            return ready and bool(self.hidden)
        if action == "back_up":
            return ready
        return True

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse moves the cursor."""
        self.action_move(event.row - self.cursor)

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self.cursor = max(0, min(len(self.shown) - 1, self.cursor + by))
        self._draw()
        self.refresh_bindings()

    def action_filter(self) -> None:
        """All settings, or only those whose layers differ."""
        here = self.row.path if self.row else ""
        self.everything = not self.everything
        self.prefer(all_layers=self.everything)
        self.refresh_state()
        self.cursor = next((n for n, row in enumerate(self.shown) if row.path == here), 0)
        self._draw()

    @property
    def hidden(self) -> list[LayerRow]:
        """Settings whose stored value hides the file's."""
        return [row for row in self.shown if row.shadowed]

    def action_choose(self) -> None:
        """The next way to settle the setting under the cursor."""
        if self.row is not None and self.row.shadowed:
            now = self.choices.get(self.row.path)
            at = CHOICES.index(now) + 1 if now else 1
            self.choices[self.row.path] = CHOICES[at % len(CHOICES)]
            self.message = None
            self._draw()
            self.refresh_bindings()

    def action_choose_all(self) -> None:
        """The same way for every shadowed setting: that of the one under the cursor, or the file's."""
        way = self.choices.get(self.row.path, "file") if self.row else "file"
        self.choices = {row.path: way for row in self.shown if row.shadowed}
        self.message = None
        self._draw()
        self.refresh_bindings()

    def action_go(self) -> None:
        """Write the image; or, when it is written, settle what was chosen."""
        if self.planned is not None and not self.planned.same_as_running:
            self._offer_write(self.planned)
        elif self.hidden:
            if not self.choices:
                self.action_choose_all()
            self._offer_settling()

    def _offer_write(self, planned: Planned) -> None:
        text = Text()
        if planned.refused:
            self._say(f"✗ Not written: {planned.refused}.", Ink.stop)
            return
        for change in planned.changes:
            text.append(f"{change.path:<34}", Ink.text)
            text.append(f"{shown_value(change.before):>11} → ", Ink.dim)
            text.append(f"{shown_value(change.after)}\n", f"bold {Ink.proposal}")
        if planned.modules_added:
            text.append(f"modules in: {', '.join(planned.modules_added)}\n", Ink.text)
        if planned.modules_removed:
            text.append(f"modules out: {', '.join(planned.modules_removed)}\n", Ink.text)
        baud = self.session.document.machine.board.baud
        seconds = duration(len(planned.image.data) * BITS_A_BYTE / baud)
        text.append(f"\n{len(planned.image.data):,} bytes at {baud:,} baud: about {seconds} on this line. ", Ink.dim)
        text.append("Then the board restarts with it. Nothing moves, nothing heats.", Ink.dim)

        def take(answer: str | None) -> None:
            if answer:
                self.run_worker(self._write(planned), group="write", exclusive=True)

        self.app.push_screen(ConfirmDialog("This would change on the board", text, "write it"), take)

    async def _write(self, planned: Planned) -> None:
        self.message, self.progress = None, None
        self._say_phase("building")
        try:
            running = await self.session.write_image(planned, self._progress, self._say_phase)
        except WriteRefused as error:
            self.message = (f"✗ {error}", Ink.stop)
        else:
            self.message = (
                f"✓ The board runs {running.digest[:8]} from slot {running.slot}, checked by its digest.",
                Ink.good,
            )
        self.phase = ""
        self.refresh_state()
        self.post_message(self.Edited())

    def _progress(self, progress: UploadProgress) -> None:
        self.progress = progress

    def _say_phase(self, phase: str) -> None:
        self.phase = phase
        self._draw()
        self.refresh_bindings()

    def _offer_settling(self) -> None:
        text = Text()
        shadowed = {row.path: row for row in self.hidden}
        for path, value in settled_values(self.choices, shadowed).items():
            row = shadowed[path]
            text.append(f"{path:<32}", Ink.text)
            if self.choices[path] == "adopt":
                text.append(f"file  {shown_value(row.file)} → {shown_value(row.stored)}\n", Ink.proposal)
            else:
                after = "cleared, so the image's counts" if value is None else shown_value(value)
                text.append(f"store  {shown_value(row.stored)} → {after}; ", Ink.proposal)
                text.append(f"live {shown_value(row.file)}\n", f"bold {Ink.proposal}")
        kept = [path for path, way in self.choices.items() if way == "stored"]
        if kept:
            text.append(f"stay as they are: {', '.join(kept)}\n", Ink.dim)
        text.append("\nThe board's store is backed up beside the machine file before it changes.", Ink.dim)

        def take(answer: str | None) -> None:
            if answer:
                self.run_worker(self._settle(), group="write", exclusive=True)

        self.app.push_screen(ConfirmDialog("Settle these", text, "settle them"), take)

    async def _settle(self) -> None:
        try:
            count, backup = await self.session.settle_shadows(self.choices)
        except SaveFailed as error:
            self._say(f"✗ {error}", Ink.stop)
            return
        self.choices = {}
        words = f"✓ {count} settled and read back."
        if backup is not None:
            words += f" The store as it was: {backup.name}"
        self._say(words, Ink.good)
        self.post_message(self.Edited())

    def action_back_up(self) -> None:
        """Write what the board has stored beside the machine file."""
        try:
            path = back_up_store(self.session.document, self.session.connection)
        except OSError as error:
            self._say(f"✗ Not backed up: {error.strerror or error}.", Ink.stop)
        else:
            self._say(f"✓ The board's store is in {path.name}.", Ink.good)

    def _say(self, words: str, style: str) -> None:
        self.message = (words, style)
        self.refresh_state()
