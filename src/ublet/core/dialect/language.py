"""A line language, ready to be spoken by host and board: compiled from a dialect file, all errors of it at once."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import TypeVar

from ublet.core.capabilities import Capability
from ublet.core.dialect.acts import NEEDS, NEEDS_SETTINGS, NO_WORD, OF_BOARD, OF_PART, PARTS, READS, REQUESTS, part_in
from ublet.core.dialect.framing import Framing
from ublet.core.dialect.pattern import DialectWords, FieldKind, LinePatternError, Pattern
from ublet.core.dialect.schema import DialectFile, Reading, SettingRule
from ublet.core.heat.drills import DRIFT, NO_RISE, OVER_MAXIMUM, SENSOR_ENDS
from ublet.core.machine.check import parse_toml, validate
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.machine.lines import key_lines, line_of
from ublet.core.machine.problem import KeyLines, Problem, nearest, short
from ublet.core.settings import Declaration, Value, ValueKind

T = TypeVar("T")
NEVER = Pattern("(no pattern)", {}, DialectWords({}))
N = {"n": FieldKind.WHOLE}
WHY = {"why": FieldKind.TEXT}
ITEMS = "{items}"
VALUE_KINDS = {
    ValueKind.NUMBER: FieldKind.NUMBER,
    ValueKind.WHOLE: FieldKind.WHOLE,
    ValueKind.FLAG: FieldKind.FLAG,
    ValueKind.TEXT: FieldKind.WORD,
}
ROW, ROWS = "row", "rows"
"""Fields of a setting that is an array: which row a line carries, from 0, and how many there are."""

ROW_BETWEEN = ","
MOST_ROWS = 64

MAY_LACK = frozenset({"low", "hysteresis", "mm_s", "mm_s2"})
"""Fields of requests without which a line still says what is meant."""

ANY_PATH = "path"
"""Field of a setting's path that stands for the whole of it."""


@dataclass(frozen=True)
class Spoken:
    """A request: its lines, and the answer's line where there is one."""

    lines: tuple[Pattern, ...]
    answer: Pattern | None


@dataclass(frozen=True)
class ReadingLine:
    """Readings: what asks for them (empty: they come unasked), how their line looks."""

    ask: str
    whole: Pattern
    item: Pattern | None
    between: str

    def read(self, line: str) -> list[dict[str, Value]]:
        """What a line says, a record for each part that it speaks of; none where it is another line."""
        values = self.whole.read(line)
        if values is None:
            return []
        if self.item is None:
            return [values]
        records = [self.item.read(text) for text in str(values["items"]).split(self.between)]
        return [record for record in records if record is not None] if None not in records else []

    def write(self, records: Iterable[Mapping[str, Value]]) -> list[str]:
        """The lines that say these records; records that lack one of its fields are left out."""
        pattern = self.item or self.whole
        wanted = {one.name for one in pattern.fields}
        texts = [pattern.write(record) for record in records if wanted <= record.keys()]
        if self.item is None:
            return texts
        return [self.whole.write({"items": self.between.join(texts)})] if texts else []

    @property
    def fields(self) -> frozenset[str]:
        """What it reads: ``sensor.celsius``, ``moving`` ..."""
        names = {one.name for one in (self.item or self.whole).fields}
        part = part_in(names)
        return frozenset(f"{part}.{name}" if part else name for name in names - {part})


@dataclass(frozen=True)
class SettingLine:
    """A setting, or a family of them: how it is asked for, answered, changed."""

    path: Pattern
    ask: Pattern
    answer: Pattern
    change: Pattern | None
    ask_stored: Pattern | None
    way: str

    @property
    def in_rows(self) -> bool:
        """Whether it is of arrays: a line carries one row."""
        return any(one.name == ROW for one in self.answer.fields)

    def to_rows(self, value: Value) -> list[str]:
        """An array as words, one for each row; none where it is empty."""
        rows = value if isinstance(value, tuple) else ()
        nested = rows if rows and isinstance(rows[0], tuple) else (rows,) if rows else ()
        return [ROW_BETWEEN.join(f"{number:.9g}" for number in row if isinstance(row, tuple)) for row in nested]

    def from_rows(self, declared: Declaration | None, rows: Sequence[str]) -> Value:
        """Words of rows as an array; None where they are none of the setting's."""
        try:
            numbers = tuple(tuple(float(word) for word in row.split(ROW_BETWEEN)) for row in rows)
        except ValueError:
            return None
        if declared is None or len({len(row) for row in numbers}) > 1:
            return None
        return numbers if len(declared.shape) > 1 else numbers[0] if numbers else ()

    def to_wire(self, value: Value) -> Value:
        """A value as the board has it."""
        if self.way == "inverted":
            return not value
        if self.way == "power of two" and isinstance(value, int):
            return value.bit_length() - 1
        as_word = next(one for one in self.answer.fields if one.name == "value").kind is FieldKind.WORD
        return _as_word(value) if as_word else value

    def from_wire(self, declared: Declaration | None, value: Value) -> Value:
        """A value that the board has, as ours; None where it is none of the setting's."""
        if self.way == "inverted":
            return not value
        if self.way == "power of two" and isinstance(value, int):
            return 2**value if 0 <= value < 32 else None
        if isinstance(value, str) and declared is not None:
            return _from_word(declared, value)
        return value


class Language:
    """One line language.

    Raises:
        LinePatternError: a pattern cannot be used; :func:`check_dialect` has them all.
    """

    def __init__(self, file: DialectFile, problems: Problems | None = None) -> None:
        say = problems if problems is not None else Problems(None)
        self.file = file
        self.words = DialectWords(file.names, file.line.true, file.line.false)
        self._say = say
        line, greeting = file.line, file.greeting
        plain = line.model_copy(update={"number": ""})
        self.framing = say.tried("line.number", lambda: Framing(line, self.words), Framing(plain, self.words))
        self.done = self._pattern("line.done", line.done, N) or NEVER
        self.error = self._pattern("line.error", line.error, N | WHY) or NEVER
        self.patience = self._pattern("line.patience", line.patience, {})
        self.again = self._pattern("line.again", line.again, N)
        named = {"board": FieldKind.WORD, "firmware": FieldKind.WORD, "boot": FieldKind.WHOLE}
        self.greeting = self._pattern("greeting.reply", greeting.reply, named) or NEVER
        self.start = self._pattern("greeting.start", greeting.start, named)
        self.requests = {name: self._request(name) for name in file.requests if self._known_request(name)}
        self.readings: dict[str, ReadingLine] = {}
        for name, reading in file.readings.items():
            if (read := self._reading(name, reading)) is not None:
                self.readings[name] = read
        self.settings: dict[str, SettingLine] = {}
        self._setting_for: dict[str, tuple[SettingLine, dict[str, Value]] | None] = {}
        for name, rule in file.settings.items():
            if (setting := self._setting(name, rule)) is not None:
                self.settings[name] = setting

    # what it can do

    @cached_property
    def _gaps(self) -> dict[Capability, list[str]]:
        """Requests and readings that are not described, by the capability that needs them."""
        said = {name for name, spoken in self.requests.items() if spoken.lines}
        reads = {name for one in self.readings.values() for name in one.fields}
        gaps = {
            capability: sorted([*(asks - said), *(f"reading {name}" for name in looks - reads)])
            for capability, (asks, looks) in NEEDS.items()
        }
        for capability, paths in NEEDS_SETTINGS.items():
            gaps[capability] = [f"setting {path}" for path in paths if self.setting_for(path) is None]
        gaps["advance"] += gaps["lines"]
        return gaps

    def can(self) -> frozenset[Capability]:
        """Capabilities of which every request, reading and setting is described."""
        return frozenset(capability for capability, gaps in self._gaps.items() if not gaps)

    def guards_lacking(self) -> frozenset[str]:
        """Guards that the board does not keep by itself."""
        own = self.file.guards
        has = {SENSOR_ENDS: own.sensor_ends, OVER_MAXIMUM: own.over_maximum, NO_RISE: own.no_rise, DRIFT: own.drift}
        return frozenset(name for name, there in has.items() if not there)

    def missing(self) -> dict[Capability, list[str]]:
        """What is not described of each capability that is lacking."""
        return {capability: gaps for capability, gaps in self._gaps.items() if gaps}

    def setting_for(self, path: str) -> tuple[SettingLine, dict[str, Value]] | None:
        """How a setting is spoken of, and the fields of its path; looked up once: screens ask for every setting."""
        if path not in self._setting_for:
            self._setting_for[path] = self._looked_up(path)
        return self._setting_for[path]

    def _looked_up(self, path: str) -> tuple[SettingLine, dict[str, Value]] | None:
        declared = BOARD_SETTINGS.find(path)
        if declared is None:
            return None
        for rule in self.settings.values():
            if rule.in_rows != bool(declared.shape):
                continue
            fields = rule.path.read(path) if "{" in rule.path.source else ({} if rule.path.source == path else None)
            if fields is not None:
                return rule, fields
        return None

    def meaning(self, line: str, of_host: bool) -> str:
        """The key that describes a line of the host's or of the board's; empty: none does."""
        said = self._host_lines if of_host else self._board_lines
        return next((key for key, pattern in said if pattern.read(line) is not None), "")

    @cached_property
    def _host_lines(self) -> tuple[tuple[str, Pattern], ...]:
        return tuple(self.said_by_host())

    @cached_property
    def _board_lines(self) -> tuple[tuple[str, Pattern], ...]:
        return tuple(self.said_by_board())

    # compiling

    def _pattern(self, key: str, source: str, kinds: Mapping[str, FieldKind]) -> Pattern | None:
        if not source:
            return None
        made: Pattern | None = self._say.tried(key, lambda: Pattern(source, kinds, self.words), None)
        return made

    def _lacks(self, key: str, line: str, fields: Iterable[str], mend: str) -> None:
        """A line lacks fields that it must have."""
        wanted = ", ".join(f"{{{one}}}" for one in sorted(fields))
        self._say.add(key, f"“{short(line)}”", f"a line with {wanted}", mend)

    def _known_request(self, name: str) -> bool:
        if name in REQUESTS:
            return True
        near = nearest(name, REQUESTS)
        mend = f"Did you mean “{near[0]}”?" if near else "Remove it."
        self._say.add(f"requests.{name}", f"the request “{short(name)}”", ", ".join(REQUESTS), mend)
        return False

    def _request(self, name: str) -> Spoken:
        kind, file = REQUESTS[name], self.file.requests[name]
        key = f"requests.{name}"
        made = [self._pattern(f"{key}.send", line, kind.fields) for line in _lines(file.send)]
        lines = tuple(line for line in made if line is not None)
        said = {one.name for line in lines for one in line.fields}
        if lines and len(lines) == len(made) and (lacks := kind.fields.keys() - said - MAY_LACK):
            self._lacks(f"{key}.send", file.send, lacks, "Say there which part and which value is meant.")
        return Spoken(lines, self._pattern(f"{key}.reply", file.reply, kind.answer))

    def _reading(self, name: str, file: Reading) -> ReadingLine | None:
        key = f"readings.{name}"
        whole = self._pattern(f"{key}.line", file.line, {"items": FieldKind.TEXT} if file.item else READS)
        item = self._pattern(f"{key}.item", file.item, READS)
        if whole is None or (file.item and item is None):
            return None
        if file.item and ITEMS not in file.line:
            self._say.add(f"{key}.line", f"“{short(file.line)}”", f"a line with {ITEMS}", "Say where the list stands.")
        names = {one.name for one in (item or whole).fields}
        parts = [one for one in names if one in PARTS]
        allowed = OF_PART.get(parts[0], frozenset()) if parts else OF_BOARD
        if len(parts) > 1 or not names - set(parts) <= allowed:
            what = f"a {parts[0]} may have: {', '.join(sorted(allowed))}" if parts else ", ".join(sorted(OF_BOARD))
            self._say.add(
                f"{key}.{'item' if file.item else 'line'}",
                f"readings of {', '.join(sorted(names))}",
                what,
                "Make a table of readings for each kind of part.",
            )
        return ReadingLine(file.ask, whole, item, file.between)

    def _setting(self, name: str, file: SettingRule) -> SettingLine | None:
        key = f"settings.{name}"
        kinds: dict[str, FieldKind] = {**PARTS, ANY_PATH: FieldKind.WORD}
        path: _PathPattern | None = self._say.tried(f"{key}.path", lambda: _PathPattern(file.path, kinds), None)
        if path is None:
            return None
        concrete = re.sub(r"\{(\w+)\}", lambda at: "x" if at[1] == "axis" else "a", file.path)
        declared = BOARD_SETTINGS.find(concrete)
        whole = any(one.name == ANY_PATH for one in path.fields)
        if not whole and declared is None:
            what = f"“{file.path}”: a path that no board holds"
            self._say.add(f"{key}.path", what, "a setting of docs/machine-file.md", "Correct it.")
            return None
        in_rows = f"{{{ROW}}}" in file.reply + file.read
        if not whole and declared is not None and in_rows != bool(declared.shape):
            what = "an array" if declared.shape else "no array"
            allowed = "lines with {row} for arrays, which carry one row each, and for nothing else"
            self._say.add(f"{key}.reply", f"“{file.path}”, which is {what}", allowed, "Correct its lines.")
            return None
        value = FieldKind.WORD if whole or in_rows or declared is None else VALUE_KINDS[declared.kind]
        value = FieldKind.WHOLE if file.way == "power of two" else value
        fits = {"inverted": FieldKind.FLAG, "power of two": FieldKind.WHOLE}.get(file.way, value)
        if fits is not value:
            self._say.add(f"{key}.way", f"“{file.way}” of a {value}", f"a {fits}", "Leave it out.")
        fields = {one.name: kinds[one.name] for one in path.fields}
        row = {ROW: FieldKind.WHOLE} if in_rows else {}
        rows = {ROW: FieldKind.WHOLE, ROWS: FieldKind.WHOLE} if in_rows else {}
        ask = self._pattern(f"{key}.read", file.read, {**fields, **row})
        answer = self._pattern(f"{key}.reply", file.reply, {**fields, **rows, "value": value})
        change = self._pattern(f"{key}.write", file.write, {**fields, **rows, "value": value})
        stored = self._pattern(f"{key}.stored", file.stored, {**fields, **row})
        if ask is None or answer is None:
            return None
        for what, pattern, wants in (
            ("read", ask, {*fields, *row}),
            ("write", change, {*fields, *rows, "value"}),
            ("stored", stored, {*fields, *row}),
            ("reply", answer, {*rows, "value"}),
        ):
            lacks = wants - {one.name for one in pattern.fields} if pattern is not None else set()
            if pattern is not None and lacks:
                self._lacks(f"{key}.{what}", pattern.source, lacks, "Say there which part is meant.")
        return SettingLine(path, ask, answer, change, stored, file.way)

    # everything that may be said

    def said_by_host(self) -> Iterator[tuple[str, Pattern]]:
        """Every line that a host may send, by the key that describes it."""
        for name, spoken in self.requests.items():
            for line in spoken.lines:
                yield f"requests.{name}.send", line
        plain = [
            ("greeting.ask", self.file.greeting.ask),
            ("halt.line", self.file.halt.line),
            ("alive.line", self.file.alive.line),
            ("layers.store", self.file.layers.store),
            *((f"readings.{name}.ask", one.ask) for name, one in self.readings.items()),
        ]
        for key, text in plain:
            if text:
                yield key, literal(text)
        for name, rule in self.settings.items():
            for what, pattern in (("read", rule.ask), ("write", rule.change), ("stored", rule.ask_stored)):
                if pattern is not None:
                    yield f"settings.{name}.{what}", pattern

    def said_by_board(self) -> Iterator[tuple[str, Pattern]]:
        """Every line that decides what becomes of a reply, and those within one."""
        yield from (
            (key, pattern)
            for key, pattern in (
                ("line.done", self.done),
                ("line.error", self.error),
                ("line.patience", self.patience),
                ("line.again", self.again),
                ("greeting.start", self.start),
                ("greeting.reply", self.greeting),
            )
            if pattern is not None
        )
        for name, one in self.readings.items():
            yield f"readings.{name}.line", one.whole
        for name, rule in self.settings.items():
            yield f"settings.{name}.reply", rule.answer


class _PathPattern(Pattern):
    """A setting's path: whole words between its dots."""

    def __init__(self, source: str, kinds: Mapping[str, FieldKind]) -> None:
        super().__init__(f" {source}" if source == f"{{{ANY_PATH}}}" else source, kinds, DialectWords({}))

    def read(self, line: str) -> dict[str, Value] | None:
        """The fields of a path."""
        return super().read(f" {line}" if self.source.startswith(" ") else line)

    def write(self, values: Mapping[str, Value]) -> str:
        """The path of these fields."""
        return super().write(values).strip()


def literal(text: str) -> Pattern:
    """The pattern of a line that holds no fields."""
    return Pattern(text.replace("{", "{{").replace("}", "}}"), {}, DialectWords({}))


def _lines(text: str) -> list[str]:
    return [line for line in text.split("\n") if line.strip()]


def _as_word(value: Value) -> Value:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.9g}"
    return NO_WORD if value in (None, "") else str(value)


def _from_word(declared: Declaration, word: str) -> Value:
    """A word as a value of a setting; None where it is none."""
    if word == NO_WORD:
        return "" if declared.kind is ValueKind.TEXT else None
    try:
        match declared.kind:
            case ValueKind.NUMBER:
                return float(word)
            case ValueKind.WHOLE:
                return int(word)
            case ValueKind.FLAG:
                return {"yes": True, "no": False}.get(word)
            case _:
                return word
    except ValueError:
        return None


class Problems:
    """What is wrong with a file, collected; without lines the first problem is raised instead."""

    def __init__(self, lines: KeyLines | None) -> None:
        self._lines = lines
        self.every: list[Problem] = []

    def add(self, key: str, found: str, allowed: str, mend: str) -> None:
        """One more.

        Raises:
            LinePatternError: where problems are not collected.
        """
        problem = Problem(line_of(self._lines or {}, tuple(key.split("."))), key, found, allowed, mend)
        if self._lines is None:
            raise LinePatternError(f"{key}: found {found}; allowed: {allowed}. {mend}")
        self.every.append(problem)

    def tried(self, key: str, make: Callable[[], T], otherwise: T) -> T:
        """What is made, or something else where its pattern cannot be used."""
        try:
            return make()
        except LinePatternError as error:
            self.add(key, str(error), "a pattern that can be read in one way only", "Rewrite it.")
            return otherwise


EXAMPLES: tuple[Mapping[FieldKind, Value], ...] = (
    {
        FieldKind.NUMBER: 21.5,
        FieldKind.WHOLE: 3,
        FieldKind.FLAG: True,
        FieldKind.WORD: "word",
        FieldKind.PART: "a1",
        FieldKind.TEXT: "two words",
    },
    {
        FieldKind.NUMBER: -4.0,
        FieldKind.WHOLE: 120,
        FieldKind.FLAG: False,
        FieldKind.WORD: "7",
        FieldKind.PART: "7",
        FieldKind.TEXT: "7",
    },
)
"""Values of lines that are written to see which other pattern would read them."""


def examples_of(pattern: Pattern, words: DialectWords) -> list[str]:
    """Lines that a pattern writes."""
    lines = []
    for example in EXAMPLES:
        values = {
            one.name: next(iter(words.names.get(one.name, {})), example[one.kind])
            if one.kind is FieldKind.PART
            else example[one.kind]
            for one in pattern.fields
        }
        lines.append(pattern.write(values))
    for one in pattern.fields:
        if one.nothing is not None:
            lines.append(pattern.write({**values, one.name: None}))
    return lines


@lru_cache(maxsize=16)
def check_dialect(text: str) -> tuple[Language | None, tuple[Problem, ...]]:
    """Read and check a dialect file's text: the language where it has no fault, and every fault. Never raises on any
    text.
    """
    tree, broken = parse_toml(text)
    if broken is not None:
        return None, (broken,)
    lines = key_lines(text)
    file, wrong = validate(DialectFile, tree, lines)
    if not isinstance(file, DialectFile):
        return None, tuple(wrong)
    say = Problems(lines)
    language = Language(file, say)
    if not say.every:
        _contradictions(language, say)
    problems = tuple(sorted(say.every, key=lambda problem: (problem.line, problem.key)))
    return (None if problems else language), problems


def _contradictions(language: Language, say: Problems) -> None:
    """Whatever two descriptions may not say at once."""
    file, words = language.file, language.words
    if not file.halt.byte and not file.halt.line:
        say.add("halt.byte", "neither a byte nor a line", "one of them", "Say what stops everything at once.")
    if file.line.sum is not None and file.line.sum.kind == "crc" and not file.line.sum.polynomial:
        say.add("line.sum.polynomial", "0", "the CRC's polynomial", "Take it from the board's documents.")
    if file.line.waiting > 1:
        replies = {"line.done": language.done, "line.error": language.error}
        unnumbered = [] if language.framing.numbered else ["line.number"]
        unnumbered += [key for key, one in replies.items() if all(field.name != "n" for field in one.fields)]
        if unnumbered:
            say.add(
                "line.waiting",
                f"{file.line.waiting} lines at once, with no {{n}} in {', '.join(unnumbered)}",
                "1, or numbers in lines and replies",
                "Without numbers nobody knows which line a reply belongs to.",
            )
    for need, of in (("off", ("hold", "relay", "fan")), ("stop", ("turn", "move", "home"))):
        asked = [name for name in of if name in language.requests]
        if asked and need not in language.requests:
            say.add(
                f"requests.{asked[0]}",
                f"{asked[0]} without {need}",
                f"a table [requests.{need}]",
                f"What can be begun must be ended: {REQUESTS[need].help}.",
            )
    _must_all_differ([DescribedLine(key, one, words) for key, one in language.said_by_host()], say)
    board = [DescribedLine(key, one, words) for key, one in language.said_by_board()]
    within = [one for one in board if not one.key.startswith("settings.") and one.key != "greeting.reply"]
    _must_all_differ(within, say)
    deciding = [one for one in within if one.key.startswith(("line.", "greeting.start"))]
    for one in board:
        if one not in within:
            for other in deciding:
                _must_differ(one, other, say)


class DescribedLine:
    """A pattern, the key that describes it, and lines that it writes."""

    def __init__(self, key: str, pattern: Pattern, words: DialectWords) -> None:
        self.key, self.pattern = key, pattern
        self.lines = examples_of(pattern, words)


def _must_all_differ(patterns: list[DescribedLine], say: Problems) -> None:
    for at, one in enumerate(patterns):
        for other in patterns[:at]:
            asks = one.key.endswith(".ask") and other.key.endswith(".ask")
            if not (asks and one.pattern.source == other.pattern.source):
                _must_differ(one, other, say)


def _must_differ(one: DescribedLine, other: DescribedLine, say: Problems) -> None:
    """Neither may read what the other writes."""
    for mine, theirs in ((one, other), (other, one)):
        for line in mine.lines:
            if theirs.pattern.read(line) is not None:
                say.add(
                    one.key,
                    f"“{one.pattern.source}”, which is ambiguous: “{short(line)}” may be {other.key}, too",
                    "lines that differ in at least one word",
                    "Make the two patterns differ.",
                )
                return
