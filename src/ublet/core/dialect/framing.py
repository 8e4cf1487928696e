"""Lines on the wire: numbers in front, checksums behind, ends; written and read alike by host and board."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from ublet.core.dialect.pattern import DialectWords, FieldKind, Pattern
from ublet.core.dialect.schema import LineRules, SumRules

ENDS = {"lf": b"\n", "cr": b"\r", "crlf": b"\r\n"}


AROUND = 12
"""Room for a line's number, its checksum and their marks, beyond the longest text, characters."""


@dataclass(frozen=True)
class WireLine:
    """A line that arrived whole; number: where lines have numbers, and this one has one."""

    text: str
    number: int | None = None


class Framing:
    """Writes and reads lines by a dialect's rules.

    Raises:
        LinePatternError: the number's pattern cannot be used.
    """

    def __init__(self, rules: LineRules, words: DialectWords) -> None:
        self._rules = rules
        self._number = Pattern(rules.number, {"n": FieldKind.WHOLE}, words) if rules.number else None

    @property
    def numbered(self) -> bool:
        """Whether our lines have numbers."""
        return self._number is not None

    @property
    def sums_replies(self) -> bool:
        """Whether the board's lines carry checksums: else a spoilt digit makes a value."""
        return self._board_sum is not None

    def from_host(self, text: str, number: int) -> bytes:
        """A line of ours."""
        body = (self._number.write({"n": number}) if self._number is not None else "") + text
        return self._ended(body, self._rules.sum)

    def from_board(self, text: str) -> bytes:
        """A line of the board's."""
        return self._ended(text, self._board_sum)

    def read_host(self, line: bytes) -> WireLine | None:
        """What the host sent; None: damaged."""
        text = self._whole(line, self._rules.sum)
        if text is None or self._number is None:
            return WireLine(text) if text is not None else None
        split = self._number.read_start(text)
        if split is None:
            return None
        values, rest = split
        number = values["n"]
        return WireLine(rest, number if isinstance(number, int) else None)

    def read_board(self, line: bytes) -> WireLine | None:
        """What the board sent; None: damaged."""
        text = self._whole(line, self._board_sum)
        return WireLine(text) if text is not None else None

    @property
    def _board_sum(self) -> SumRules | None:
        rules = self._rules.sum
        return rules if rules is not None and rules.replies else None

    def _ended(self, body: str, rules: SumRules | None) -> bytes:
        data = body.encode(self._rules.encoding, "replace")
        if rules is not None:
            data += f"{rules.mark}{_digits(rules, checksum(data, rules))}".encode()
        return data + ENDS[self._rules.end]

    def _whole(self, line: bytes, rules: SumRules | None) -> str | None:
        if len(line) > self._rules.longest + AROUND:
            return None
        if rules is not None:
            line, mark, digits = line.rpartition(rules.mark.encode())
            if not mark or digits.strip() != _digits(rules, checksum(line, rules)).encode():
                return None
        try:
            text = line.decode(self._rules.encoding)
        except UnicodeDecodeError:
            return None
        return text if text.isprintable() else None


class LineCutter:
    """Cuts a stream of bytes into lines, whichever end they have; a line that never ends is dropped."""

    def __init__(self, longest: int) -> None:
        self._longest, self._rest = longest + AROUND, b""

    def feed(self, data: bytes) -> list[bytes]:
        """Lines completed by these bytes, their ends left out; empty ones are none."""
        pieces = (self._rest + data).replace(b"\r", b"\n").split(b"\n")
        self._rest = pieces.pop()[-4 * self._longest :]
        return [piece for piece in pieces if piece]


def checksum(data: bytes, rules: SumRules) -> int:
    """The checksum of a line's bytes: xor, sum modulo 2^bits, or a CRC (Williams 1993: width, polynomial, initial
    value, reflection, final xor).
    """
    mask = (1 << rules.bits) - 1
    value = rules.start & mask
    match rules.kind:
        case "xor":
            for byte in data:
                value ^= byte
        case "add":
            value = (value + sum(data)) & mask
        case "crc":
            table = _table(rules.bits, rules.polynomial & mask, rules.reflected)
            for byte in data:
                if rules.reflected:
                    value = (value >> 8) ^ table[(value ^ byte) & 0xFF]
                else:
                    value = ((value << 8) & mask) ^ table[((value >> (rules.bits - 8)) ^ byte) & 0xFF]
    return (value ^ rules.last) & mask


@cache
def _table(bits: int, polynomial: int, reflected: bool) -> tuple[int, ...]:
    """The CRC of each byte."""
    mask, top = (1 << bits) - 1, 1 << (bits - 1)
    if reflected:
        polynomial = int(f"{polynomial:0{bits}b}"[::-1], 2)
    table = []
    for byte in range(256):
        value = byte if reflected else byte << (bits - 8)
        for _ in range(8):
            if reflected:
                value = (value >> 1) ^ (polynomial if value & 1 else 0)
            else:
                value = ((value << 1) & mask) ^ (polynomial if value & top else 0)
        table.append(value)
    return tuple(table)


def _digits(rules: SumRules, value: int) -> str:
    return str(value) if rules.digits == "decimal" else f"{value:0{rules.bits // 4}x}"
