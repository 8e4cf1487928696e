"""A trial's parameters: in words for one line, and as a form, a line each, with the plan changing below."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input, Static

from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Declaration, Part, Value, ValueKind
from ublet.core.trial import TrialSpec
from ublet.core.typed import shown_value, typed_value
from ublet.core.units import NotAQuantity, duration, show, spelt_out
from ublet.session.orders import OrderError, parameters_from
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.sheet import RowList

LONG_S = 120
NAME_COLUMNS, VALUE_COLUMNS = 24, 18
UNIT_ENDINGS = ("_m_s2_hz", "_mm_s2", "_mm_s", "_mm_min", "_mm", "_c", "_s", "_hz", "_kg", "_v", "_um")
MOST_LINES = 18
"""Lines of the form that are shown at once; it scrolls."""

TABLES = {"material": "materials", "heater": "heaters", "sensor": "sensors"}
"""Parameters that name a part of the machine file, and the table that it stands in."""


def parameter_name(declared: Declaration) -> str:
    """What a parameter is called where people read it: without its unit."""
    name = declared.path
    for ending in UNIT_ENDINGS:
        name = name.removesuffix(ending)
    return name.replace("_", " ")


def parameter_value(declared: Declaration, value: Value) -> str:
    """A parameter's value with its unit, or what an empty one stands for."""
    number = isinstance(value, (int, float)) and not isinstance(value, bool)
    if (number or isinstance(value, str)) and not value and declared.zero:
        return declared.zero
    if number and declared.unit == "s" and float(str(value)) >= LONG_S:
        return duration(float(str(value)))
    unit = "" if declared.unit == declared.path else declared.unit
    return show(float(str(value)), unit) if number else shown_value(value)


def parameter_words(spec: TrialSpec, aim: Part) -> str:
    """Parameters in words, for one line."""
    return ", ".join(
        f"{parameter_name(declared)} {parameter_value(declared, getattr(aim, declared.path))}"
        for declared in spec.declared()
    )


@dataclass(frozen=True)
class Form:
    """What the form of a trial's parameters needs to know: the trial, its parameters so far, the machine, what a start
    would do with others, and the unit of a bare length.
    """

    spec: TrialSpec
    aim: Part
    machine: MachineFile
    plan: Callable[[Part], Text]
    length_unit: str

    def words_of(self, declared: Declaration) -> tuple[str, ...]:
        """The words that can be chosen for a parameter; none where it is typed."""
        if declared.kind is ValueKind.FLAG:
            return ("yes", "no")
        if declared.choices:
            return tuple(str(choice) for choice in declared.choices)
        if declared.path == "heater":
            return self.spec.heaters(self.machine) or tuple(self.machine.heaters)
        if declared.path in TABLES:
            empty = ("",) if declared.zero else ()
            return (*getattr(self.machine, TABLES[declared.path]), *empty)
        return ()


class ParametersDialog(Dialog):
    """The form. Closes with the parameters as NAME=VALUE lines, or None when nothing was changed."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "move(-1)", "choose", show=False, priority=True),
        Binding("down", "move(1)", "choose", show=False, priority=True),
        Binding("escape", "done", "done", show=False, priority=True),
    ]

    def __init__(self, form: Form, at: str = "") -> None:
        super().__init__()
        self.form, self.aim = form, form.aim
        self.known: Sequence[Declaration] = form.spec.declared()
        self.cursor = next((n for n, declared in enumerate(self.known) if declared.path == at), 0)

    def compose(self) -> ComposeResult:
        """Heading, a line each, the field, what it would mean, the plan, keys."""
        name = self.form.spec.name.replace("-", " ")
        with Vertical():
            yield Static(Text(f"Parameters of {name}", "bold"))
            yield RowList(id="parameters")
            yield Static(id="about")
            yield Input(placeholder="type a value")
            yield Static(id="echo")
            yield Static(id="plan")
            yield Static(classes="keys", id="keys")

    def on_mount(self) -> None:
        """Show them."""
        self.query_one(RowList).styles.height = min(len(self.known), MOST_LINES)
        self._show()

    @property
    def declared(self) -> Declaration:
        """The parameter under the cursor."""
        return self.known[self.cursor]

    def _show(self) -> None:
        usual = self.form.spec.parameters()
        rows = []
        for declared in self.known:
            value = getattr(self.aim, declared.path)
            changed = value != getattr(usual, declared.path)
            row = Text(f" {parameter_name(declared):<{NAME_COLUMNS}}", Ink.text)
            shown = f"{parameter_value(declared, value):>{VALUE_COLUMNS}}"
            row.append(shown, f"bold {Ink.focus}" if changed else Ink.focus)
            row.append(f"   {self._allowed(declared)}", Ink.dim)
            rows.append(row)
        self.query_one(RowList).show(rows, self.cursor, True)
        declared = self.declared
        about = Text(f"\n{declared.help}", Ink.text)
        default = parameter_value(declared, getattr(usual, declared.path))
        about.append(f"  Usually {default}. On the command line: --set {declared.path}=VALUE", Ink.dim)
        self.query_one("#about", Static).update(about)
        plan = Text("With these a start ", Ink.quiet)
        self.query_one("#plan", Static).update(plan.append_text(self.form.plan(self.aim)))
        self.query_one("#keys", Static).update(self._keys())

    def _allowed(self, declared: Declaration) -> str:
        if words := self.form.words_of(declared):
            return ", ".join(word or declared.zero for word in words)
        empty = f"; 0: {declared.zero}" if declared.zero and declared.kind.numeric else ""
        return "text" if declared.kind is ValueKind.TEXT else f"{declared.allowed()}{empty}"

    def _keys(self) -> Text:
        keys = Text()
        chosen = "enter takes the next" if self.form.words_of(self.declared) else "type, enter takes it"
        for key, words in (("↑↓", "choose"), ("", chosen), ("⌫", "as usual"), ("esc", "done")):
            keys.append(f"{key} " if key else "", Ink.focus)
            keys.append(f"{words}    ", Ink.text)
        return keys

    def action_move(self, by: int) -> None:
        """Another parameter; what was typed and not taken goes."""
        self.cursor = max(0, min(len(self.known) - 1, self.cursor + by))
        self.query_one(Input).value = ""
        self._show()

    def action_done(self) -> None:
        """Close; what was taken counts."""
        changed = self.aim != self.form.aim
        self.close_with("\n".join(self._as_typed()) if changed else None)

    def _as_typed(self) -> list[str]:
        pairs = [(declared.path, getattr(self.aim, declared.path)) for declared in self.known]
        return [f"{path}={shown_value(value, 12)}" for path, value in pairs if value is not None]

    def on_key(self, event: object) -> None:
        """With nothing typed, backspace and delete give the usual value back, and space takes the next word."""
        key, field = getattr(event, "key", ""), self.query_one(Input)
        if field.value:
            return
        if key in ("backspace", "delete"):
            usual = getattr(self.form.spec.parameters(), self.declared.path)
            self._take(self.declared, usual)
        elif key == "space" and self.form.words_of(self.declared):
            field.value = ""
            self._next_word()

    def _next_word(self) -> None:
        declared, words = self.declared, self.form.words_of(self.declared)
        now = shown_value(getattr(self.aim, declared.path))
        at = words.index(now) + 1 if now in words else 0
        self._take(declared, typed_value(declared, words[at % len(words)]) if words[at % len(words)] else "")

    def _take(self, declared: Declaration, value: Value) -> None:
        self.aim = self.aim.model_copy(update={declared.path: value})
        self._show()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Say while one types what it would be, or what is wrong with it."""
        text = event.value.strip()
        if not text:
            self._say("", wrong=False)
            if event.value:
                event.input.value = ""
            return
        try:
            value = None if "=" in text else self._typed(text)
            if "=" in text:
                parameters_from(self.form.spec, text.split())
        except (NotAQuantity, OrderError) as error:
            self._say(str(error), wrong=True)
        else:
            self._say(f"= {parameter_value(self.declared, value)}" if value is not None else "", wrong=False)

    def _typed(self, text: str) -> Value:
        declared = self.declared
        words = [word for word in self.form.words_of(declared) if word and word.startswith(text.lower())]
        exact = [word for word in words if word == text.lower()]
        if declared.kind is not ValueKind.FLAG and not declared.kind.numeric and len(exact or words) == 1:
            return typed_value(declared, (exact or words)[0])
        return typed_value(declared, spelt_out(text, declared.unit, self.form.length_unit))

    def _say(self, words: str, wrong: bool) -> None:
        echo = self.query_one("#echo", Static)
        echo.update(Text(words))
        echo.set_class(wrong, "wrong")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take the value; NAME=VALUE words, as on the command line, are all taken and close the form."""
        text = event.value.strip()
        try:
            if "=" in text:
                given = parameters_from(self.form.spec, text.split())
                named = {word.partition("=")[0] for word in text.split()}
                self.aim = self.aim.model_copy(update={name: getattr(given, name) for name in named})
                self.action_done()
            elif text:
                value = self._typed(text)
                event.input.value = ""
                self._take(self.declared, value)
            elif self.form.words_of(self.declared):
                self._next_word()
        except (NotAQuantity, OrderError):
            return  # what is wrong stands below already
