"""The panel of a question: what is asked, the keys that answer it, or a field to type a reading or a target into."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

from rich.cells import cell_len
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.events import Key
from textual.geometry import Size
from textual.message import Message
from textual.widget import Widget
from textual.widgets import Input, Static

from ublet.core.questions import Judge, Live, Measure, Pick, Question, letter_of
from ublet.core.units import NotAQuantity, parse, show, spelt_out
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink

BETWEEN = "    "
"""Between two answers."""


def answer_keys(answers: tuple[str, ...]) -> dict[str, str]:
    """The key of each answer: enter for the first; first letters where no two are the same, else numbers."""
    letters = [answer[0].lower() for answer in answers[1:]]
    if len(set(letters)) == len(letters) and not {"k", "q"} & set(letters) and len(answers) < 7:
        return {"enter": answers[0], **dict(zip(letters, answers[1:], strict=True))} if answers else {}
    return {str(number): answer for number, answer in enumerate(answers, start=1)}


MOST_KEYS = 9
"""More answers than this are typed: their number, or the beginning of the word."""


def keys_of(question: Question) -> dict[str, str]:
    """The key of each answer, and of each control of live ones; none where it is typed.

    Controls beside something that goes on have numbers, or a letter of their own: a second quick enter must not use
    one.
    """
    if isinstance(question, Live):
        words = (*(question.controls or {}), *question.answers)
        lettered = {letter: word for word in words if (letter := letter_of(word))}
        numbered = [word for word in words if word not in lettered.values()]
        return {str(number): word for number, word in enumerate(numbered, start=1)} | lettered
    return {} if is_typed(question) else answer_keys(question.answers)


def is_typed(question: Question) -> bool:
    """Whether its answer is typed into the field."""
    return isinstance(question, (Measure, Judge, Pick)) or len(question.answers) > MOST_KEYS


def answer_for(answers: tuple[str, ...], key: str) -> str | None:
    """The answer that a key gives, besides enter: the first answer has its letter too, where no other one has it."""
    keys = answer_keys(answers)
    if key in keys or "enter" not in keys or key != answers[0][0].lower():
        return keys.get(key)
    return answers[0]


def refusal_of(question: Question) -> Callable[[str], str | None]:
    """What is wrong with a typed answer, or None."""

    def refusal(text: str) -> str | None:
        try:
            question.taken(text)
        except NotAQuantity as error:
            return str(error)
        return None

    return refusal


def grid_text(question: Judge, typed: str) -> Text:
    """The places of a grid as they lie, the front at the bottom: each with the verdict typed for it, or its number."""
    words = typed.replace(",", " ").split()
    given = words if words[:1] != ["all"] else [*words[1:2]] * question.places
    text = Text()
    for row in reversed(range(question.rows)):
        for column in range(question.columns):
            at = row * question.columns + column
            patch = given[at] if at < len(given) else ""
            verdict = question.verdicts[int(patch) - 1] if patch.isdigit() and patch in question.numbers else patch
            name = question.names[at] if at < len(question.names) else ""
            words_here = f"{name}: {verdict or '?'}" if name else verdict or f"{at + 1}"
            text.append(f"{words_here:^14}{'  ' if name else ''}", f"bold {Ink.focus}" if verdict else Ink.dim)
        text.append("\n")
    return text


class Field(Input):
    """The field; escape leaves it."""

    BINDINGS = [Binding("escape", "leave", "leave")]

    class Left(Message):
        """Escape was pressed."""

    def action_leave(self) -> None:
        """Tell the panel."""
        self.post_message(self.Left())


class QuestionPanel(Widget):
    """Hidden while nothing is asked. ``refusal`` says what is wrong with what was typed."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    class Typed(Message):
        """A line was typed and is right."""

        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    class Left(Message):
        """The field was left without an answer."""

    def __init__(self) -> None:
        super().__init__()
        self.display = False
        self.unit = self._bare = ""
        self._words: tuple[str, ...] = ()
        self._refusal: Callable[[str], str | None] = lambda text: None
        self._shown = Text()
        self._typing = False
        self._offered: Key | None = None
        self._measured: tuple[object, int] = (None, 0)

    def compose(self) -> ComposeResult:
        """Words, field, what is wrong with it."""
        yield Static(id="asked")
        yield Field(id="typed", select_on_focus=False)
        yield Static(id="echo")

    def wanted_height(self, container: Size) -> int:
        """Rows that it takes where it is not squeezed, its margins too."""
        width = max(1, self.content_size.width)
        now = (self._shown.plain, self.typing, self.query_one("#echo").display, width, container)
        if self._measured[0] != now:  # a layout costs too much for every beat
            within = self.get_content_height(container, self.screen.size, width)
            self._measured = (now, within + self.gutter.height + self.styles.margin.height)
        return self._measured[1]

    @property
    def typing(self) -> bool:
        """Whether the field is open."""
        return self._typing

    def say(self, text: Text) -> None:
        """Show these words; an empty text hides the panel unless something is being typed."""
        self.display = bool(text.plain) or self.typing
        if text != self._shown or text.spans != self._shown.spans:
            self._shown = text
            self.query_one("#asked", Static).update(text)

    def ask(self, question: Question, notes: Text, hot: str = "") -> None:
        """Show a question with the keys that answer it; first of all what would burn a hand."""
        text = Text()
        if hot:
            text.append(f"▲ {hot} ▲\n", f"bold {Ink.stop}")
        text.append(question.text, f"bold {Ink.text}")
        if question.answers and not is_typed(question):
            text.append("\n")
        controls = (question.controls or {}) if isinstance(question, Live) else {}
        width = self.content_size.width
        column = 0
        for key, answer in keys_of(question).items():
            words = f"{answer.removeprefix(f'{key} ')}{f' ({does})' if (does := controls.get(answer)) else ''}"
            taken = cell_len(f"{key} {words}")
            if column and width and column + taken > width:  # none of them is broken by the end of a line
                text.append("\n")
                column = 0
            text.append(f"{key} ", Ink.focus)
            text.append(f"{words}{BETWEEN}", Ink.text)
            column += taken + len(BETWEEN)
        if is_typed(question):
            text.append(f"\n{question.allowed()}; enter takes it", Ink.dim)
        if isinstance(question, Judge):
            text.append("\n")
            text.append_text(grid_text(question, self.query_one("#typed", Field).value))
        text.append_text(notes)
        self.say(text)

    def open_field(
        self,
        value: str,
        refusal: Callable[[str], str | None],
        unit: str = "",
        bare: str = "",
        words: tuple[str, ...] = (),
    ) -> None:
        """Open the field with a value in it. unit: of the quantity that is typed, if any; bare: of a bare number;
        words: what may be typed instead.
        """
        self._refusal, self.unit, self._typing, self._words = refusal, unit, True, words
        self._bare = bare or unit
        field = self.query_one("#typed", Field)
        field.value = value
        field.cursor_position = len(value)
        self.display = field.display = True
        self.screen.set_focus(field)  # at once: the next key is already on its way
        self._echo(value)

    def on_key(self, event: Key) -> None:
        """A key that comes up from the field was offered to it already."""
        self._offered = event

    def take_key(self, event: Key) -> None:
        """A key that was on its way to the bench when the field opened."""
        if event is self._offered:
            return
        event.stop()
        event.prevent_default()
        field = self.query_one("#typed", Field)
        if event.key == "enter":
            self._submit(field.value)
        elif event.is_printable and event.character:
            field.insert_text_at_cursor(event.character)

    def close_field(self) -> None:
        """Close the field; nothing is taken."""
        self._typing = False
        self.query_one("#typed", Field).display = False
        self._say_echo(Text())
        self.display = bool(self._shown.plain)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Say while one types what it would be."""
        event.stop()
        if self.typing:
            self._echo(event.value)

    def _echo(self, typed: str) -> None:
        typed = spelt_out(typed, self.unit, self._bare)
        reason = self._refusal(typed) if typed.strip() else None
        words = Text()
        if reason:
            words.append(f"✗ {reason}", Ink.stop)
        elif self.unit and typed.strip():
            words.append(f"= {self._meant(typed)}", f"bold {Ink.focus}")
        self._say_echo(words)

    def _meant(self, typed: str) -> str:
        """What was typed, in the unit that is asked for; or the word that is meant."""
        with contextlib.suppress(NotAQuantity):
            return show(parse(typed, self.unit), self.unit, 6)
        return next((word for word in self._words if word.startswith(typed.strip().lower())), typed)

    def _say_echo(self, words: Text) -> None:
        echo = self.query_one("#echo", Static)
        echo.display = bool(words.plain)
        echo.update(words)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take a good line."""
        event.stop()
        self._submit(event.value)

    def _submit(self, text: str) -> None:
        text = spelt_out(text, self.unit, self._bare)
        if text.strip() and self._refusal(text) is None:
            self.close_field()
            self.post_message(self.Typed(text.strip()))

    def on_field_left(self, event: Field.Left) -> None:
        """Nothing was typed."""
        event.stop()
        self.close_field()
        self.post_message(self.Left())
