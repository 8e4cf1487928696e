"""The modules bench: what the image takes of the board's flash, module by module, and what could be left out."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.widgets import Static

from ublet.core.machine.edit import EditError
from ublet.core.machine.image import module_plan
from ublet.core.machine.modules import Module, ModulePlan
from ublet.session.picture import PictureError, start_picture
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList
from ublet.tui.trial.draft_bench import DraftBench

MODULES_HELP = Help(
    """\
    A board's flash is finite. What the machine needs must fit; what it does not need only costs room.
    """,
    """\
    The bar is one slot of the board. Each module is in when something declared needs it. Space changes that:
    put it in, leave it out, or let the machine decide. When the image overflows, the smallest sets of modules
    whose leaving out would make it fit are named. Nothing is sent from here: “write to board” does that.
    """,
)

NAME_COLUMNS, BYTES_COLUMNS = 22, 10


class ModulesBench(DraftBench):
    """The capacity bar and the modules."""

    kind = "modules"
    title = "Modules and capacity"
    why = "what the board's flash must hold"
    help = MODULES_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("space", "in_or_out", "in / out", tooltip="The module in, out, or as the machine needs it"),
        Binding("enter", "in_or_out", show=False),
        Binding("up", "move(-1)", "module", key_display="↑↓", tooltip="Choose a module"),
        Binding("down", "move(1)", show=False),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.cursor = 0
        self.plan: ModulePlan | None = None

    def compose(self) -> ComposeResult:
        """Heading, bar, list, what to do."""
        yield Static(id="heading")
        yield Static(id="bar")
        yield Static(id="titles")
        yield RowList(id="modules")
        yield Static(id="detail")

    def refresh_state(self) -> None:
        """Plan anew from the draft."""
        if not self.is_mounted:
            return
        draft, text = self.session.draft, Text()
        text.append_text(self.heading_words())
        machine = draft.checked.machine
        board = draft.document.boards.get(machine.board.model) if machine else None
        if machine is None or board is None:
            text.append("The draft has errors: mend them in the station “machine file” first.", Ink.stop)
            self.write("heading", text)
            return
        try:
            self.plan = module_plan(machine, board, start_picture(draft.document.path, machine))
        except PictureError as error:
            text.append(f"✗ {error}", Ink.stop)
            self.plan = module_plan(machine, board)
        plan = self.plan
        fraction = 100 * plan.used_bytes / plan.slot_bytes
        free = plan.slot_bytes - plan.used_bytes
        text.append(f"{plan.used_bytes:,} of {plan.slot_bytes:,} bytes, {fraction:.0f} %   ", Ink.text)
        if plan.overflow_bytes:
            text.append(f"✗ overflows by {plan.overflow_bytes:,} bytes  ", f"bold {Ink.stop}")
        else:
            text.append(f"✓ fits, {free:,} bytes free  ", Ink.good)
        if draft.dirty:
            text.append("edits not written: ctrl+s", f"bold {Ink.proposal}")
        self.write("heading", text)
        self.cursor = min(self.cursor, len(plan.modules) - 1)
        self.write("bar", capacity_bar(plan, self.module, max(20, self.size.width - 4)))
        head = f"   {'module':<{NAME_COLUMNS}}{'bytes':>{BYTES_COLUMNS}}   "
        self.write("titles", Text(f"{head}{'in the image':<16}why", Ink.dim))
        rows = [module_row(module) for module in plan.modules]
        self.query_one(RowList).show(rows, self.cursor, True)
        self.write("detail", self._detail(plan))
        self.refresh_bindings()

    @property
    def module(self) -> Module | None:
        """The module under the cursor."""
        return self.plan.modules[self.cursor] if self.plan and self.plan.modules else None

    def _detail(self, plan: ModulePlan) -> Text:
        text = Text()
        if plan.overflow_bytes:
            ways = plan.would_free()
            text.append("To make it fit, leave out ", Ink.text)
            if not ways:
                text.append("more than is optional: this machine needs a larger board.", Ink.stop)
            for number, way in enumerate(ways):
                text.append("  or  " if number else "", Ink.dim)
                freed = sum(module.bytes for module in way)
                text.append(" + ".join(module.name for module in way), f"bold {Ink.proposal}")
                text.append(f" ({freed:,})", Ink.dim)
        elif self.module is not None and not self.module.optional:
            text.append(f"{self.module.name} cannot be left out: {self.module.why}.", Ink.dim)
        elif self.module is not None:
            word = "leaves it out" if self.module.included else "puts it in"
            change = -self.module.bytes if self.module.included else self.module.bytes
            text.append(f"space {word}: {change:+,} bytes.", Ink.dim)
        text.append("\nSettings, picture and envelope take ", Ink.dim)
        text.append(f"{plan.other_bytes:,} bytes.", Ink.dim)
        return text

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        if action == "in_or_out":
            return self.module is not None and self.module.optional
        return super().check_action(action, parameters)

    def on_row_list_pointed(self, event: RowList.Pointed) -> None:
        """The mouse moves the cursor."""
        self.cursor = event.row
        self.refresh_state()

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        if self.plan:
            self.cursor = max(0, min(len(self.plan.modules) - 1, self.cursor + by))
            self.refresh_state()

    def action_in_or_out(self) -> None:
        """As the machine needs it → the other way → as needed again."""
        module = self.module
        if module is None:
            return
        path = f"modules.{module.name}"
        given = self.session.draft.given(path)
        try:
            self.session.draft.set(path, not module.included if given is None else None)
        except EditError as error:
            self.notify(str(error), severity="error")
        self.post_message(self.Edited())


def capacity_bar(plan: ModulePlan, chosen: Module | None, columns: int) -> Text:
    """One slot as a bar, module by module in turns of two shades; what overflows stands beyond the slot's end."""
    total = max(plan.used_bytes, plan.slot_bytes)
    pieces = [(m.name, m.bytes, m == chosen) for m in plan.modules if m.included] + [("rest", plan.other_bytes, False)]
    cells: list[tuple[str, str]] = []
    names: list[tuple[int, str]] = []
    done = 0
    for number, (name, size, here) in enumerate(pieces):
        start = len(cells)
        done += size
        end = round(columns * done / total)
        shade = Ink.focus if here else (Ink.dim, Ink.quiet)[number % 2]
        cells += [("█", shade)] * max(0, end - start)
        if end - start > len(name) + 1:
            names.append((start, name))
    slot = round(columns * plan.slot_bytes / total)
    cells += [("░", Ink.faint)] * max(0, columns - len(cells))
    bar = Text(no_wrap=True)
    for number, (letter, style) in enumerate(cells[:columns]):
        bar.append(letter, Ink.stop if number >= slot else style)
    labels = Text(no_wrap=True)
    for start, name in names:
        labels.append(" " * max(0, start - len(labels)))
        labels.append(name, Ink.dim)
    marker = Text(" " * max(0, slot - 1) + "▕" if plan.overflow_bytes else "", Ink.stop)
    marker.append(" the slot ends here" if plan.overflow_bytes and slot < columns - 20 else "", Ink.stop)
    lines = [bar, bar, labels, *([marker] if plan.overflow_bytes else [])]
    return Text("\n").join(lines)


def module_row(module: Module) -> Text:
    """One module: name, bytes, in or out, why."""
    row = Text(" ● " if module.included else " ○ ", Ink.good if module.included else Ink.quiet)
    style = Ink.text if module.included else Ink.dim
    row.append(f"{module.name:<{NAME_COLUMNS}}", style)
    row.append(f"{module.bytes:>{BYTES_COLUMNS},}   ", style)
    word = "in" if module.included else "out"
    row.append(f"{word if module.optional else 'in, always':<16}", style)
    row.append(module.why, Ink.dim)
    return row
