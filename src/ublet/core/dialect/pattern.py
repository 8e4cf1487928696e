"""Patterns of lines: one text writes a line and reads it back.

``hold {heater} at {celsius:.1f}`` writes ``hold A at 60.0`` and reads it. A field is ``{name}``, with what the line's
number is multiplied or divided by (``{mm_s*60}``), how a number is written (``:.2f``, ``:d``), and the word that stands
for nothing (``{target_c|off}``). Double braces are plain ones.

Each kind of field excludes the character that follows it, so that a line can be read in one way only and in time
proportional to its length: a pattern that would need more is refused.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from ublet.core.settings import Value

LONGEST_PATTERN = 300
NUMBER = r"[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d{1,3})?"
NUMBER_STARTS = set("0123456789.eE+-")
_FIELD = re.compile(
    r"(?P<name>[a-z][a-z0-9_]*)(?:(?P<by>[*/])(?P<factor>[0-9.]+))?(?::(?P<format>\.[0-9]f|d))?(?:\|(?P<nothing>.*))?"
)


class FieldKind(StrEnum):
    """What a field of a line holds."""

    PART = "part"  # a heater, a fan ...: a name, by the dialect's table where it has one
    NUMBER = "number"
    WHOLE = "whole number"
    FLAG = "flag"  # one of two words of the dialect
    WORD = "word"
    TEXT = "text"  # the rest of the line


class LinePatternError(ValueError):
    """A pattern cannot be used; the message says why, and what to write."""


@dataclass(frozen=True)
class LineField:
    """A place in a pattern that holds a value; ``factor``: the line's number is the value times it."""

    name: str
    kind: FieldKind
    factor: float = 1.0
    format: str = ""
    nothing: str | None = None


@dataclass(frozen=True)
class DialectWords:
    """The words of a dialect: names of parts by kind (ours to the board's), and its two words for true and false."""

    names: Mapping[str, Mapping[str, str]]
    true: str = "1"
    false: str = "0"

    def of_board(self, kind: str, name: str) -> str:
        """A part's name as the board has it."""
        return self.names.get(kind, {}).get(name, name)

    def of_ours(self, kind: str, word: str) -> str:
        """The part that the board's name stands for."""
        return next((ours for ours, theirs in self.names.get(kind, {}).items() if theirs == word), word)


class Pattern:
    """A line's pattern. ``kinds``: what each field may be called here, and what it holds.

    Raises:
        LinePatternError: it cannot be read in one way only.
    """

    def __init__(self, source: str, kinds: Mapping[str, FieldKind], words: DialectWords) -> None:
        self.source = source
        self._words = words
        self.pieces = _pieces(source, kinds)
        self.fields = tuple(piece for piece in self.pieces if isinstance(piece, LineField))
        _must_be_plain(source, self.pieces, words)
        self._reads = re.compile("".join(self._expression(at) for at in range(len(self.pieces))))

    def write(self, values: Mapping[str, Value]) -> str:
        """The line for these values.

        Raises:
            KeyError: a value is missing. LinePatternError: one cannot be written here.
        """
        return "".join(
            piece if isinstance(piece, str) else self._written(piece, values[piece.name]) for piece in self.pieces
        )

    def read(self, line: str) -> dict[str, Value] | None:
        """The values of a line; None where it is another one. A number that is not finite makes it another one."""
        match = self._reads.fullmatch(line)
        return self._values(match) if match is not None else None

    def read_start(self, line: str) -> tuple[dict[str, Value], str] | None:
        """The same of a line's beginning, and what follows it."""
        match = self._reads.match(line)
        values = self._values(match) if match is not None else None
        return (values, line[match.end() :]) if match is not None and values is not None else None

    def _values(self, match: re.Match[str]) -> dict[str, Value] | None:
        values: dict[str, Value] = {}
        for number, piece in enumerate(self.fields):
            word = match.group(number + 1)
            if piece.nothing is not None and word == piece.nothing:
                values[piece.name] = None
                continue
            value = self._value(piece, word)
            if isinstance(value, float) and not math.isfinite(value):
                return None
            values[piece.name] = value
        return values

    def _written(self, piece: LineField, value: Value) -> str:
        if value is None:
            if piece.nothing is None:
                raise LinePatternError(f"“{self.source}” has no word for no {piece.name}: write {{{piece.name}|word}}")
            return piece.nothing
        match piece.kind:
            case FieldKind.PART:
                return self._words.of_board(piece.name, str(value))
            case FieldKind.FLAG:
                return self._words.true if value else self._words.false
            case FieldKind.NUMBER | FieldKind.WHOLE:
                if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
                    raise LinePatternError(f"“{self.source}”: {piece.name} is no number: {str(value)[:40]}")
                scaled = value * piece.factor
                whole = piece.kind is FieldKind.WHOLE or piece.format == "d"
                return f"{round(scaled):d}" if whole else f"{scaled:{piece.format or '.9g'}}"
            case FieldKind.WORD | FieldKind.TEXT:
                return str(value)

    def _value(self, piece: LineField, word: str) -> Value:
        match piece.kind:
            case FieldKind.PART:
                return self._words.of_ours(piece.name, word)
            case FieldKind.FLAG:
                return word == self._words.true
            case FieldKind.NUMBER:
                return float(word) / piece.factor
            case FieldKind.WHOLE:
                return round(float(word) / piece.factor)
            case FieldKind.WORD | FieldKind.TEXT:
                return word

    def _expression(self, at: int) -> str:
        piece = self.pieces[at]
        if isinstance(piece, str):
            return re.escape(piece)
        following = self.pieces[at + 1] if at + 1 < len(self.pieces) else ""
        stop = following[0] if isinstance(following, str) and following else ""
        reads = {
            FieldKind.PART: self._names(piece.name, stop),
            FieldKind.NUMBER: NUMBER,
            FieldKind.WHOLE: r"[-+]?\d{1,18}",
            FieldKind.FLAG: _one_of((self._words.true, self._words.false)),
            FieldKind.WORD: _until(stop),
            FieldKind.TEXT: ".*",
        }[piece.kind]
        end = f"(?={re.escape(stop)})" if stop else "$"
        nothing = f"{re.escape(piece.nothing)}{end}|" if piece.nothing is not None else ""
        return f"((?>{nothing}{reads}))"  # atomic: what a field has taken it does not give back

    def _names(self, kind: str, stop: str) -> str:
        known = self._words.names.get(kind, {}).values()
        return _one_of(known) if known else _until(stop)


def _one_of(words: Iterable[str]) -> str:
    """The longer ones first: one may begin like another."""
    return "|".join(re.escape(word) for word in sorted(words, key=len, reverse=True))


def _until(stop: str) -> str:
    return rf"[^\s{re.escape(stop)}]+"


def _pieces(source: str, kinds: Mapping[str, FieldKind]) -> tuple[str | LineField, ...]:
    """Plain text and fields in turn."""
    if len(source) > LONGEST_PATTERN:
        raise LinePatternError(f"it is longer than {LONGEST_PATTERN} characters")
    pieces: list[str | LineField] = []
    plain, at = "", 0
    while at < len(source):
        if source[at : at + 2] in ("{{", "}}"):
            plain, at = plain + source[at], at + 2
        elif source[at] == "{":
            end = source.find("}", at)
            if end < 0:
                raise LinePatternError(f"“{source}”: a brace is not closed: write {{name}}, or {{{{ for a plain one")
            pieces += [plain] if plain else []
            pieces.append(_field(source, source[at + 1 : end], kinds))
            plain, at = "", end + 1
        elif source[at] == "}":
            raise LinePatternError(f"“{source}”: a brace is not opened: write }}}} for a plain one")
        else:
            plain, at = plain + source[at], at + 1
    return (*pieces, plain) if plain else tuple(pieces)


def _field(source: str, text: str, kinds: Mapping[str, FieldKind]) -> LineField:
    match = _FIELD.fullmatch(text)
    if match is None:
        raise LinePatternError(f"“{source}”: {{{text}}} is no field: write {{name}}, {{name*60:.1f}} or {{name|word}}")
    name = match["name"]
    if name not in kinds:
        raise LinePatternError(f"“{source}”: no field “{name}” here; known: {', '.join(sorted(kinds)) or 'none'}")
    kind, factor = kinds[name], 1.0
    if (match["by"] or match["format"]) and kind not in (FieldKind.NUMBER, FieldKind.WHOLE):
        raise LinePatternError(f"“{source}”: {name} is a {kind}: only numbers have a factor or a format")
    if match["by"]:
        try:
            factor = float(match["factor"])
        except ValueError:
            factor = 0.0
        if not 0 < factor < math.inf:
            raise LinePatternError(f"“{source}”: {name} has the factor {match['factor']}: a number above 0 is allowed")
        factor = 1 / factor if match["by"] == "/" else factor
    nothing = match["nothing"]
    if nothing is not None and (not nothing or re.search(r"\s", nothing)):
        raise LinePatternError(f"“{source}”: the word for no {name} is “{nothing}”: one word is allowed")
    return LineField(name, kind, factor, match["format"] or "", nothing)


def _closed(piece: LineField, following: LineField, words: DialectWords) -> bool:
    """Whether a part's name ends by itself before a number: its table is known, and no name ends like a number."""
    names = words.names.get(piece.name, {}).values()
    number = following.kind in (FieldKind.NUMBER, FieldKind.WHOLE) and following.nothing is None
    plain = not any(name[-1:] in NUMBER_STARTS - set("eE") for name in names)
    return piece.kind is FieldKind.PART and number and bool(names) and plain


def _must_be_plain(source: str, pieces: tuple[str | LineField, ...], words: DialectWords) -> None:
    """Raises LinePatternError where a line could be read in more ways than one."""
    if not any(isinstance(piece, str) for piece in pieces):
        raise LinePatternError(f"“{source}” is no line of its own: give it at least one word that stands for itself")
    names = [piece.name for piece in pieces if isinstance(piece, LineField)]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise LinePatternError(f"“{source}”: {twice} stands twice")
    for piece, following in zip(pieces, (*pieces[1:], None), strict=True):
        if not isinstance(piece, LineField) or following is None:
            continue
        if piece.kind is FieldKind.TEXT:
            raise LinePatternError(
                f"“{source}” is ambiguous: {piece.name} takes the rest of the line, so it comes last"
            )
        if isinstance(following, LineField) and not _closed(piece, following, words):
            raise LinePatternError(
                f"“{source}” is ambiguous: nothing separates {piece.name} from {following.name}: put a space or a mark "
                "between them"
            )
        number = piece.kind in (FieldKind.NUMBER, FieldKind.WHOLE)
        if number and isinstance(following, str) and following[0] in NUMBER_STARTS:
            raise LinePatternError(
                f"“{source}” is ambiguous: after the number {piece.name} comes “{following[0]}”, which may belong to it"
            )
