"""The machine editor: parts at the left, the settings of one part at the right, edited in place."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.timer import Timer
from textual.widget import Widget
from textual.widgets import Input, Static

from ublet.core.machine import outline
from ublet.core.machine.edit import EditError
from ublet.core.machine.outline import PartNode, Property
from ublet.core.settings import Value, ValueKind
from ublet.core.typed import shown_value, typed_value
from ublet.core.units import NotAQuantity
from ublet.session.layers import LayerRow, rows
from ublet.session.parts import KnownPart
from ublet.session.session import Session
from ublet.session.stale import Supposed
from ublet.tui.frame.pickers import ConfirmDialog, LineDialog, PickDialog, PickerItem, narrowed
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.drawing import Drawing
from ublet.tui.instruments.sheet import RowList
from ublet.tui.machine.choices import choices_of
from ublet.tui.machine.editor_words import (
    EDITOR_HELP,
    detail,
    echo,
    file_state,
    part_row,
    property_row,
    titles,
    value_columns,
)
from ublet.tui.machine.part_picture import part_picture
from ublet.tui.trial.draft_bench import DraftBench
from ublet.tui.trial.redo import RedoDialog

MOST_FOUND = 200


SKETCH_S = 0.08
"""Delay from the cursor's last move to the drawing of its part, s."""

ANOTHER = "another value"
"""Is no value of any setting: nothing that rests on one holds with it."""

OTHER_FILE = "/"
"""No part's file is called that: the choice of another machine file."""


class EditorBench(DraftBench):
    """Edits the draft of the machine file. Every edit is checked at once and can be undone."""

    kind = "editor"
    title = "Machine file"
    why = "what the machine is: everything else builds on it"
    help = EDITOR_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("enter", "change", "change", tooltip="Change the setting in its place; on a part, go to its settings"),
        Binding("slash", "search", "search", key_display="/", tooltip="Search every setting by its key or help"),
        Binding("up", "move(-1)", "move", key_display="↑↓←→", tooltip="Move; ← and → go between parts and settings"),
        Binding("down", "move(1)", show=False),
        Binding("pageup", "move(-12)", show=False),
        Binding("pagedown", "move(12)", show=False),
        Binding("home", "move(-999)", show=False),
        Binding("end", "move(999)", show=False),
        Binding("left", "side('parts')", show=False),
        Binding("right", "side('settings')", show=False),
        Binding("space", "next_choice", "next choice", tooltip="The next of the values that can be chosen"),
        Binding(
            "backspace", "leave_out", "leave out", key_display="⌫", tooltip="Leave the setting out: its default counts"
        ),
        Binding("delete", "leave_out", show=False),
        Binding("a", "add", "add part", tooltip="Add a part"),
        Binding("x", "remove", "remove part", tooltip="Remove the part"),
        Binding("i", "take_over", "import", tooltip="Import a part: a known one, or that of another machine file"),
        Binding("f", "what_if", "what if", tooltip="What your edits, or another value here, would make stale"),
        Binding("n", "next_problem", "next problem", tooltip="Go to the next error or warning"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.side = "parts"
        self.part = 0
        self.item = 0
        self.editing: Property | None = None
        self._sketching: Timer | None = None
        self._layers: dict[str, LayerRow] = {}
        self._known_for: object = None
        self.nodes: tuple[PartNode, ...] = ()
        self.items: tuple[Property, ...] = ()

    def compose(self) -> ComposeResult:
        """Heading, parts and settings, what there is to say of the one under the cursor."""
        yield Static(id="heading")
        with Horizontal(id="body"):
            yield RowList(id="parts", marks=True)
            with Vertical(id="right"):
                yield Static(id="titles")
                yield RowList(id="settings")
                yield Static(id="detail")
                yield Drawing(id="sketch")

    # what is shown

    @property
    def node(self) -> PartNode:
        """The part under the cursor."""
        return self.nodes[self.part]

    @property
    def property(self) -> Property | None:
        """The setting under the cursor, when the cursor is among the settings."""
        return self.items[self.item] if self.side == "settings" and self.item < len(self.items) else None

    def refresh_state(self) -> None:
        """Bring everything up to date with the draft and the board."""
        if not self.is_mounted:
            return
        connection = self.session.connection
        self._layers = {row.path: row for row in rows(self.session.document, connection)}
        self._read_draft()
        self._draw()
        self.refresh_bindings()

    def _read_draft(self) -> None:
        """Take parts and settings from the draft when it changed; the cursor stays at its part."""
        draft = self.session.draft
        here = self.nodes[self.part].path if self.nodes else ""
        if self._known_for is not draft.tree:
            self._known_for = draft.tree
            self.nodes = outline.outline(draft.tree)
            self.part = next(
                (n for n, node in enumerate(self.nodes) if node.path == here), min(self.part, len(self.nodes) - 1)
            )
        node = self.node
        shown = node.present and node.sort != "group"
        self.items = outline.properties(draft.tree, node.path) if shown else ()
        self.item = max(0, min(self.item, len(self.items) - 1))
        if not self.items:
            self.side = "parts"

    def _draw(self) -> None:
        width = self.query_one("#right").size.width or 80
        problems = self.session.draft.checked.problems
        self.write("heading", self.heading_words() + file_state(self.session))
        parts = [part_row(node, problems) for node in self.nodes]
        self.query_one("#parts", RowList).show(parts, self.part, self.side == "parts" and self.editing is None)
        settings = [property_row(item, self._layers.get(item.path), problems, width) for item in self.items]
        sheet = self.query_one("#settings", RowList)
        sheet.styles.height = max(1, len(settings))
        sheet.show(settings, self.item, self.side == "settings" and self.editing is None)
        self.write("titles", titles(width, bool(self.items)))
        if self.editing is None:
            words = detail(
                self.session, self.node, self.property, self._layers, self.query_one("#detail").content_size.width
            )
            if self.message is not None:
                words = Text(f"{self.message[0]}\n", self.message[1]) + words
            self.write("detail", words)
            self.call_later(self._sketch_soon)  # a board's event draws too: a timer needs the app's own context

    def _sketch_soon(self) -> None:
        """Draw the part once the cursor rests: a key does not wait for it."""
        if self._sketching is not None:
            self._sketching.stop()
        self._sketching = self.set_timer(SKETCH_S, self._sketch)

    def _sketch(self) -> None:
        if not self.is_mounted or not self.nodes:
            return
        place = self.query_one("#sketch", Drawing)
        size = place.size
        place.update(part_picture(self.session, self.node.path, size.width, size.height), layout=False)

    # moving

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse moves the cursor."""
        self.side = "parts" if event.sheet.id == "parts" else "settings"
        self._move_to(event.row)

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self._move_to((self.part if self.side == "parts" else self.item) + by)

    def _move_to(self, row: int) -> None:
        self.message = None
        if self.side == "parts":
            before, self.part = self.part, max(0, min(len(self.nodes) - 1, row))
            if self.part != before:
                self.item = 0
        else:
            self.item = max(0, min(len(self.items) - 1, row))
        self._read_draft()
        self._draw()
        self.refresh_bindings()

    def panes(self) -> Iterable[tuple[Widget, str]]:
        """Parts and settings."""
        return ((self.query_one("#parts"), "side('parts')"), (self.query_one("#settings"), "side('settings')"))

    def action_side(self, side: str) -> None:
        """Between the parts and the settings."""
        self.side = side if self.items else "parts"
        self.message = None
        self._draw()
        self.refresh_bindings()

    def go_to(self, path: str) -> bool:
        """Put the cursor on a setting, or on a part; False when the file has no such part."""
        part = path
        while part and not any(node.path == part and node.present for node in self.nodes):
            part = part.rpartition(".")[0]
        if not part:
            return False
        self.part = next(n for n, node in enumerate(self.nodes) if node.path == part)
        self._read_draft()
        matches = [n for n, item in enumerate(self.items) if item.path == path]
        self.side = "settings" if matches else "parts"
        self.item = matches[0] if matches else 0
        self.refresh_state()
        return True

    def action_search(self) -> None:
        """Search all settings by key or help."""
        tree = self.session.draft.tree

        def found(words: str) -> Sequence[PickerItem]:
            items = outline.search(words, tree)[:MOST_FOUND]
            return [PickerItem(item.path, item.path, item.declared.help) for item in items]

        def go(answer: str | None) -> None:
            if answer:
                self.go_to(answer)

        dialog = PickDialog("Search every setting by key or help", found, hint="for example: offset")
        self.app.push_screen(dialog, go)

    def action_next_problem(self) -> None:
        """Go to the next error or warning."""
        problems = self.session.draft.checked.problems
        if not problems:
            return
        here = self.property.path if self.property else self.node.path
        keys = [problem.key for problem in problems]
        at = (keys.index(here) + 1) % len(keys) if here in keys else 0
        if not self.go_to(keys[at]):
            self.say(problems[at].sentence(self.session.document.path.name), Ink.stop)

    # changing

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        if self.editing is not None:
            return False
        item, draft = self.property, self.session.draft
        if not self.nodes:
            return action == "search"
        if action == "leave_out":
            return item is not None and item.given is not None and not item.declared.required
        if action == "next_choice":
            return item is not None and (bool(item.declared.choices) or item.declared.kind is ValueKind.FLAG)
        if action == "add":
            return self.side == "parts" and (self.node.sort in ("group", "named") or not self.node.present)
        if action == "remove":
            return self.side == "parts" and self.node.present and self.node.sort in ("named", "optional")
        if action == "take_over":
            return self.side == "parts"
        if action == "what_if":
            return bool(draft.changes()) or item is not None
        if action == "next_problem":
            return bool(draft.checked.problems)
        return super().check_action(action, parameters)

    def action_what_if(self) -> None:
        """What the edits would make stale; without edits, another value of the setting under the cursor."""
        changes, item = self.session.draft.changes(), self.property
        if changes:
            values = {change.path: change.after for change in changes}
            words = f"{changes[0].path} is written" if len(changes) == 1 else f"your {len(changes)} edits are written"
        elif item is not None:
            values, words = {item.path: ANOTHER}, f"{item.path} were another"
        else:
            return
        self.app.push_screen(RedoDialog(self.session, Supposed(values), words))

    def action_change(self) -> None:
        """Change the setting under the cursor; on a part, go to its settings or add it."""
        item = self.property
        if item is None:
            if self.side == "parts" and (self.node.sort == "group" or not self.node.present):
                self.action_add()
            else:
                self.action_side("settings")
            return
        if item.declared.shape:
            words = f"{item.path} is not typed: the station “{item.declared.bench}” makes it. ⌫ leaves it out."
            self.message = (words, Ink.focus)
            self._draw()
            return
        options = choices_of(self.session.draft, item)
        if options is None:
            self._open_field(item)
            return

        def take(answer: str | None) -> None:
            if answer is not None:
                self._give(item, typed_value(item.declared, answer))

        dialog = PickDialog(f"{item.path}: {item.declared.help}", narrowed(options), shown_value(item.given))
        self.app.push_screen(dialog, take)

    def _open_field(self, item: Property) -> None:
        """A field over the value's place."""
        self.editing = item
        sheet = self.query_one("#settings", RowList)
        left, columns = value_columns(self.query_one("#right").size.width)
        field = Input(self._shown(item), id="field", select_on_focus=True)
        field.styles.offset = (left, 1 + sheet.line_of(self.item))
        field.styles.width = max(columns, 24)
        self.query_one("#right").mount(field)
        field.focus()
        self._echo(field.value)
        self._draw()

    def _shown(self, item: Property) -> str:
        """A value as it stands in the field; with its unit, where a bare number would mean another one."""
        if item.given is None:
            return ""
        text = shown_value(item.given)
        return text if self.spelt(text, item.declared.unit) == text else f"{text} {item.declared.unit}"

    def _typed(self, item: Property, text: str) -> Value:
        """What was typed for a setting; None leaves it out. Raises NotAQuantity."""
        return typed_value(item.declared, self.spelt(text, item.declared.unit)) if text.strip() else None

    def on_input_changed(self, event: Input.Changed) -> None:
        """Say while one types what would be set, and what it would contradict."""
        event.stop()
        if self.editing is not None:
            self._echo(event.value)

    def _echo(self, text: str) -> None:
        item, trouble, value = self.editing, "", None
        assert item is not None
        try:
            value = self._typed(item, text)
        except NotAQuantity as error:
            trouble = str(error)
        problems = () if trouble else self.session.draft.try_value(item.path, value)
        self.write("detail", echo(item, value, trouble, problems))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take what was typed, when it can be."""
        event.stop()
        item = self.editing
        if item is None:
            return
        text = event.value.strip()
        if not text and item.declared.required:
            return
        try:
            value = self._typed(item, text)
        except NotAQuantity:
            return  # what is wrong stands below already
        self._close_field()
        self._give(item, value)

    def on_input_blurred(self, event: Input.Blurred) -> None:
        """Who goes elsewhere leaves the field as it was."""
        if self.editing is not None:
            self.editing = None
            event.input.remove()
            self.refresh_state()

    def on_key(self, event: object) -> None:
        """Escape leaves the field as it was."""
        if self.editing is not None and getattr(event, "key", "") == "escape":
            self._close_field()
            self.refresh_state()

    def _close_field(self) -> None:
        self.editing = None
        for field in self.query("#field"):
            field.remove()
        self.focus()

    def _give(self, item: Property, value: Value) -> None:
        self._edit(lambda: self.session.draft.set(item.path, value))

    def _edit(self, work: object) -> None:
        """Make an edit; what cannot be done is said."""
        assert callable(work)
        self.message = None
        try:
            work()
        except EditError as error:
            self.message = (f"✗ Not done: {error}.", Ink.stop)
        self.edited()

    def edited(self) -> None:
        """The draft changed: the whole app follows."""
        self.refresh_state()
        self.post_message(self.Edited())

    def action_next_choice(self) -> None:
        """The next of the allowed words."""
        item = self.property
        if item is None:
            return
        choices: tuple[Value, ...] = (True, False) if item.declared.kind is ValueKind.FLAG else item.declared.choices
        now = item.given if item.given is not None else item.declared.default
        at = choices.index(now) + 1 if now in choices else 0
        self._give(item, choices[at % len(choices)])

    def action_leave_out(self) -> None:
        """Leave a setting out, so that its default counts."""
        if self.property is not None:
            self._give(self.property, None)

    def action_add(self) -> None:
        """Add a part: an optional one, or one more of a group."""
        node, draft = self.node, self.session.draft
        if not node.present:
            self._edit(lambda: draft.add(node.path))
            return
        group = node.path if node.sort == "group" else node.path.rpartition(".")[0]
        there = outline.part_at(draft.tree, group) or {}

        def check(name: str) -> str | None:
            if name in there:
                return f"there is a part {group}.{name} already"
            good = name[:1].isalnum() and name.replace("-", "").replace("_", "").isalnum() and len(name) <= 32
            return None if good and name.isascii() else "letters, digits and dashes, 32 at the most"

        def take(name: str | None) -> None:
            if name:
                self._edit(lambda: draft.add(f"{group}.{name}"))
                self.go_to(f"{group}.{name}")

        self.app.push_screen(LineDialog(f"Name of the new part in {group}", "", check, "for example: left"), take)

    def action_remove(self) -> None:
        """Remove a part and everything in it; undo brings it back."""
        path, draft = self.node.path, self.session.draft

        def take(answer: str | None) -> None:
            if answer:
                self._edit(lambda: draft.remove(path))

        text = Text(f"{path} and everything in it leaves the draft. u brings it back.", Ink.text)
        self.app.push_screen(ConfirmDialog(f"Remove {path}?", text, "remove it"), take)

    def action_take_over(self) -> None:
        """Take this part over: the numbers of a known part that fits there, or the same part of another machine
        file.
        """
        from ublet.session.parts import parts_for

        known = parts_for(self.session.document.path.parent)
        fitting = {one.path.stem: one for one in known.fitting(self.node.path)}
        if not fitting or not self.node.present:
            self._take_from_file(self.node.path)
            return
        items = [PickerItem(stem, one.part.name, one.words) for stem, one in fitting.items()]
        items.append(PickerItem(OTHER_FILE, "of another machine file", "its path is asked for"))

        def take(stem: str | None) -> None:
            if stem == OTHER_FILE:
                self._take_from_file(self.node.path)
            elif stem:
                self._take_part(fitting[stem])

        if known.broken:
            self.say(f"Left out: {' '.join(known.broken)}", Ink.focus)
        self.app.push_screen(PickDialog(f"Whose numbers for {self.node.path}?", narrowed(items), ""), take)

    def _take_part(self, one: KnownPart) -> None:
        from ublet.core.machine.part_files import PartFileError
        from ublet.session.parts import take_part

        path, draft = self.node.path, self.session.draft
        try:
            edits = take_part(draft, one, path)
        except (PartFileError, EditError) as error:
            self.say(f"✗ Not taken: {error}.", Ink.stop)
            return
        mount = " Its offset counts as by the part, within 1 mm, until it is measured." * (one.part.of == "probe mount")
        source = f", {one.part.source}" if one.part.source else ""
        self.say(f"{one.part.name}: {len(edits)} settings of {path}{source}.{mount} u takes it back.", Ink.proposal)
        self.edited()

    def _take_from_file(self, path: str) -> None:
        """Ask for another machine file, and take the same part of it."""
        from pathlib import Path

        from ublet.session.document import DocumentError

        def check(name: str) -> str | None:
            return None if Path(name).expanduser().is_file() else "no such file"

        def take(name: str | None) -> None:
            if name:
                try:
                    self._edit(lambda: self.session.draft.take(Path(name).expanduser(), path))
                except DocumentError as error:
                    self.say(f"✗ {error}", Ink.stop)

        self.app.push_screen(
            LineDialog(f"Import {path} from which machine file?", "", check, "/path/to/other.toml"), take
        )

    def say(self, words: str, style: str) -> None:
        """Say something below the settings."""
        self.message = (words, style)
        self.refresh_state()
