"""Settings of a board over a dialect: read and changed by its lines, arrays row by row, as they were before a line cut
their digits.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from ublet.core.dialect.acts import NO_WORD
from ublet.core.dialect.language import MOST_ROWS, ROW, ROWS, SettingLine
from ublet.core.dialect.pattern import Pattern
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.settings import Value
from ublet.link.errors import NOT_ALLOWED, BoardRefused, Malformed

if TYPE_CHECKING:
    from ublet.link.dialect_client import DialectClient


MOST_READ = 4
"""How often a value is read again at the most that came without a checksum and is not the one that we know."""


class DialectSettings:
    """The settings of the board at the end of a dialect's client."""

    def __init__(self, client: DialectClient) -> None:
        self._client = client
        self._wrote: dict[str, Value] = {}  # as they were before a line cut their digits

    async def read(self, path: str, stored: bool = False) -> Value:
        """The live or stored value of a setting; None: the board has none, or the language does not speak of it.

        Raises:
            LinkLost.
        """
        spoken = self._client.language.setting_for(path)
        if spoken is None:
            return None
        rule, fields = spoken
        ask = rule.ask_stored if stored else rule.ask
        if ask is None:
            return None
        try:
            if rule.in_rows:
                return await self._read_rows(path, rule, ask, fields)
            line = ask.write(fields)
            value = self.said(path, await self._client.ask(line, wants=rule.answer))
            for _ in range(MOST_READ if self._may_be_spoilt(value, path) else 0):
                before, value = value, self.said(path, await self._client.ask(line, wants=rule.answer))
                if value == before:
                    break
        except BoardRefused:
            return None
        return value

    def _may_be_spoilt(self, value: Value, path: str) -> bool:
        """Whether a value is another one than we know, and came without a checksum: then it is read until it stays."""
        return value != self.known(path) and not self._client.language.framing.sums_replies

    async def _read_rows(self, path: str, rule: SettingLine, ask: Pattern, fields: Mapping[str, Value]) -> Value:
        """An array, row by row: as the board has it, or as we know it where that makes the same lines."""
        rows: list[str] = []
        count = 1
        while len(rows) < count:
            lines = await self._client.ask(ask.write({**fields, ROW: len(rows)}), wants=rule.answer)
            said = first_read(rule.answer, lines)
            announced = said.get(ROWS) if said is not None else None
            if said is None or not isinstance(announced, int) or not 0 <= announced <= MOST_ROWS:
                raise Malformed(f"the board says that {path} has {announced} rows: allowed 0 to {MOST_ROWS}")
            count = announced
            if count:
                rows.append(str(said["value"]))
        value = rule.from_rows(BOARD_SETTINGS.find(path), rows)
        known = self.known(path)
        return known if rule.to_rows(known) == rows else value

    def said(self, path: str, lines: list[str]) -> Value:
        """The value of a setting that lines of a reply say, as it was before a line cut its digits: what we wrote, or
        what the machine file says, where either makes the same line. None: they say none.
        """
        spoken = self._client.language.setting_for(path)
        said = first_read(spoken[0].answer, lines) if spoken is not None else None
        if spoken is None or said is None:
            return None
        rule, fields = spoken
        value = rule.from_wire(BOARD_SETTINGS.find(path), said["value"])
        if rule.change is None or value is None:
            return value
        line = rule.change.write({**fields, "value": rule.to_wire(value)})
        for known in (self._wrote.get(path), self._client.parts.settings.get(path)):
            if known is not None and rule.change.write({**fields, "value": rule.to_wire(known)}) == line:
                return known
        return value

    async def write(self, path: str, value: Value) -> None:
        """Change a live setting. What the machine file would not allow is not sent.

        Raises:
            BoardRefused, LinkLost.
        """
        spoken = self._client.language.setting_for(path)
        if spoken is None or spoken[0].change is None:
            raise BoardRefused(NOT_ALLOWED, f"{self._client.language.file.name} has no line that changes {path}")
        rule, fields = spoken
        declared = BOARD_SETTINGS.find(path)
        low, high = (declared.low, declared.high) if declared is not None else (None, None)
        for number in numbers_in(value):
            if (low is not None and number < low) or (high is not None and number > high):
                allowed = declared.allowed() if declared is not None else ""
                raise BoardRefused(NOT_ALLOWED, f"{path} = {number:g} is not sent: allowed {allowed}")
        assert rule.change is not None
        for values in self._rows_of(rule, value) if rule.in_rows else [{"value": rule.to_wire(value)}]:
            await self._client.ask(self._client.line_for(path, rule.change.write, {**fields, **values}))
        self._wrote[path] = value

    def _rows_of(self, rule: SettingLine, value: Value) -> list[dict[str, Value]]:
        """The fields of each line of an array; the board takes it with the last of them."""
        rows = rule.to_rows(value)
        return [{ROW: row, ROWS: len(rows), "value": words} for row, words in enumerate(rows or [NO_WORD])]

    def known(self, path: str) -> Value:
        """The value of a setting as we wrote it last, else as the machine file has it."""
        return self._wrote.get(path, self._client.parts.settings.get(path))


def first_read(pattern: Pattern | None, lines: list[str]) -> dict[str, Value] | None:
    """The fields of the first line that a pattern reads."""
    read = (pattern.read(line) for line in lines) if pattern is not None else iter(())
    return next((fields for fields in read if fields is not None), None)


def numbers_in(value: Value) -> list[float]:
    """The numbers of a value: itself, or those of an array."""
    if isinstance(value, tuple):
        return [number for row in value for number in (row if isinstance(row, tuple) else (row,))]
    return [value] if isinstance(value, (int, float)) and not isinstance(value, bool) else []
