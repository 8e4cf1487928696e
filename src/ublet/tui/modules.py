"""The modules bench: what the image takes of the board's flash, module by module, and what could be left out."""

from __future__ import annotations

from collections.abc import Iterable

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.widgets import Static

from ublet.core.machine.edit import EditError
from ublet.core.machine.image import module_plan
from ublet.core.machine.modules import Module, ModulePlan
from ublet.session.picture import PictureError, start_picture
from ublet.session.session import Session
from ublet.tui.bench import DraftBench
from ublet.tui.sheet import Sheet
from ublet.tui.theme import Palette

MODULES_HELP = """\
WHY   A board's flash is finite. What the machine needs must fit; what it does not need only costs room.

HOW   The bar is one slot of the board. Each module is in when something declared needs it. Space changes that:
      put it in, leave it out, or let the machine decide. When the image overflows, the smallest sets of modules
      whose leaving out would make it fit are named. Nothing is sent from here: “write to board” does that.

KEYS  ↑ ↓ module   space in / out / as needed   u undo   U redo
"""

NAME_COLUMNS, BYTES_COLUMNS = 22, 10


class ModulesBench(DraftBench):
    """The capacity bar and the modules."""

    DEFAULT_CSS = """
    ModulesBench { layout: vertical; width: 1fr; height: 1fr; padding: 0 1; }
    ModulesBench #heading { height: auto; padding: 1 1 0 1; }
    ModulesBench #bar { height: auto; padding: 0 1; margin-top: 1; }
    ModulesBench #titles { height: 1; padding: 0 1; margin-top: 1; }
    ModulesBench Sheet { margin: 0 1; }
    ModulesBench #detail { height: 4; padding: 0 1; margin-top: 1; }
    """
    BINDINGS = [
        Binding("space", "in_or_out", "in / out / as needed"),
        Binding("enter", "in_or_out", show=False),
        Binding("up", "move(-1)", "module", key_display="↑↓"),
        Binding("down", "move(1)", show=False),
    ]

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session, palette)
        self.cursor = 0
        self.plan: ModulePlan | None = None

    def compose(self) -> ComposeResult:
        """Heading, bar, list, what to do."""
        yield Static(id="heading")
        yield Static(id="bar")
        yield Static(id="titles")
        yield Sheet(self.palette, id="modules")
        yield Static(id="detail")

    def refresh_state(self) -> None:
        """Plan anew from the draft."""
        if not self.is_mounted:
            return
        draft, palette, text = self.session.draft, self.palette, Text()
        text.append("Modules and capacity", f"bold {palette.text}")
        text.append("   what the board's flash must hold\n", palette.dim)
        machine = draft.checked.machine
        board = draft.document.boards.get(machine.board.model) if machine else None
        if machine is None or board is None:
            text.append("The draft has errors: mend them in the station “machine file” first.", palette.stop)
            self.write("heading", text)
            return
        try:
            self.plan = module_plan(machine, board, start_picture(draft.document.path, machine))
        except PictureError as error:
            text.append(f"✗ {error}", palette.stop)
            self.plan = module_plan(machine, board)
        plan = self.plan
        share = 100 * plan.used_bytes / plan.slot_bytes
        free = plan.slot_bytes - plan.used_bytes
        text.append(f"{plan.used_bytes:,} of {plan.slot_bytes:,} bytes, {share:.0f} %   ", palette.text)
        if plan.overflow_bytes:
            text.append(f"✗ overflows by {plan.overflow_bytes:,} bytes  ", f"bold {palette.stop}")
        else:
            text.append(f"✓ fits, {free:,} bytes free  ", palette.good)
        if draft.dirty:
            text.append("edits not written: ctrl+s", f"bold {palette.proposal}")
        self.write("heading", text)
        self.cursor = min(self.cursor, len(plan.modules) - 1)
        self.write("bar", capacity_bar(plan, self.module, max(20, self.size.width - 4), palette))
        head = f"   {'module':<{NAME_COLUMNS}}{'bytes':>{BYTES_COLUMNS}}   "
        self.write("titles", Text(f"{head}{'in the image':<16}why", palette.dim))
        rows = [module_row(module, palette) for module in plan.modules]
        self.query_one(Sheet).show(rows, self.cursor, True)
        self.write("detail", self._detail(plan))
        self.refresh_bindings()

    @property
    def module(self) -> Module | None:
        """The module under the cursor."""
        return self.plan.modules[self.cursor] if self.plan and self.plan.modules else None

    def _detail(self, plan: ModulePlan) -> Text:
        palette, text = self.palette, Text()
        if plan.overflow_bytes:
            ways = plan.would_free()
            text.append("To make it fit, leave out ", palette.text)
            if not ways:
                text.append("more than is optional: this machine needs a larger board.", palette.stop)
            for number, way in enumerate(ways):
                text.append("  or  " if number else "", palette.dim)
                freed = sum(module.bytes for module in way)
                text.append(" + ".join(module.name for module in way), f"bold {palette.proposal}")
                text.append(f" ({freed:,})", palette.dim)
        elif self.module is not None and not self.module.optional:
            text.append(f"{self.module.name} cannot be left out: {self.module.why}.", palette.dim)
        elif self.module is not None:
            word = "leaves it out" if self.module.included else "puts it in"
            change = -self.module.bytes if self.module.included else self.module.bytes
            text.append(f"space {word}: {change:+,} bytes.", palette.dim)
        text.append("\nSettings, picture and envelope take ", palette.dim)
        text.append(f"{plan.other_bytes:,} bytes.", palette.dim)
        return text

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        if action == "in_or_out":
            return self.module is not None and self.module.optional
        return super().check_action(action, parameters)

    def on_sheet_pointed(self, event: Sheet.Pointed) -> None:
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

    def commands(self) -> Iterable[tuple[str, str, str]]:
        """For the command palette."""
        return (("toggle module", "Put the module under the cursor in, or leave it out", "in_or_out"),)

    def help_words(self) -> str:
        """Why and how."""
        return MODULES_HELP


def capacity_bar(plan: ModulePlan, chosen: Module | None, columns: int, palette: Palette) -> Text:
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
        shade = palette.focus if here else (palette.dim, palette.quiet)[number % 2]
        cells += [("█", shade)] * max(0, end - start)
        if end - start > len(name) + 1:
            names.append((start, name))
    slot = round(columns * plan.slot_bytes / total)
    cells += [("░", palette.faint)] * max(0, columns - len(cells))
    bar = Text(no_wrap=True)
    for number, (letter, style) in enumerate(cells[:columns]):
        bar.append(letter, palette.stop if number >= slot else style)
    labels = Text(no_wrap=True)
    for start, name in names:
        labels.append(" " * max(0, start - len(labels)))
        labels.append(name, palette.dim)
    marker = Text(" " * max(0, slot - 1) + "▕" if plan.overflow_bytes else "", palette.stop)
    marker.append(" the slot ends here" if plan.overflow_bytes and slot < columns - 20 else "", palette.stop)
    lines = [bar, bar, labels, *([marker] if plan.overflow_bytes else [])]
    return Text("\n").join(lines)


def module_row(module: Module, palette: Palette) -> Text:
    """One module: name, bytes, in or out, why."""
    row = Text(" ● " if module.included else " ○ ", palette.good if module.included else palette.quiet)
    style = palette.text if module.included else palette.dim
    row.append(f"{module.name:<{NAME_COLUMNS}}", style)
    row.append(f"{module.bytes:>{BYTES_COLUMNS},}   ", style)
    word = "in" if module.included else "out"
    row.append(f"{word if module.optional else 'in, always':<16}", style)
    row.append(module.why, palette.dim)
    return row
