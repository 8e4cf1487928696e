"""Where each key of a TOML text stands: line numbers for messages (a parsed document has none)."""

from __future__ import annotations

import json
import re
import tomllib

_BARE = re.compile(r"[A-Za-z0-9_-]+")
_HEADER = re.compile(r"^\s*\[(\[)?\s*(.+?)\s*\]\]?\s*(#.*)?$")
_ASSIGN = re.compile(
    r"^\s*((?:\"[^\"]*\"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:\"[^\"]*\"|'[^']*'|[A-Za-z0-9_-]+))*)\s*="
)


def key_lines(text: str) -> dict[tuple[str, ...], int]:
    """Line (from 1) of every table header and key, by its path.

    Works on text that parses; values that span lines are skipped by parsing what follows the key
    until it is complete.
    """
    key_line: dict[tuple[str, ...], int] = {}
    table: tuple[str, ...] = ()
    lines = text.split("\n")
    at = 0
    while at < len(lines):
        line = lines[at]
        if header := _HEADER.match(line):
            table = _split(header.group(2))
            for depth in range(1, len(table) + 1):
                key_line.setdefault(table[:depth], at + 1)
            key_line[table] = at + 1
        elif assign := _ASSIGN.match(line):
            path = table + _split(assign.group(1))
            key_line[path] = at + 1
            at += _extra_lines(lines, at)
        at += 1
    return key_line


def line_of(lines: dict[tuple[str, ...], int], path: tuple[str, ...]) -> int:
    """The line of a path, or of the nearest table around it; 1 when there is none."""
    for depth in range(len(path), 0, -1):
        if path[:depth] in lines:
            return lines[path[:depth]]
    return 1


def _split(dotted: str) -> tuple[str, ...]:
    parts = re.findall(r"\"([^\"]*)\"|'([^']*)'|([A-Za-z0-9_-]+)", dotted)
    return tuple(next(piece for piece in part if piece) if any(part) else "" for part in parts)


def _extra_lines(lines: list[str], at: int) -> int:
    """How many further lines the value that begins on this line takes."""
    if not any(mark in lines[at] for mark in ('"""', "'''", "[", "{")):
        return 0
    for extra in range(len(lines) - at):
        try:
            tomllib.loads("\n".join(lines[at : at + extra + 1]))
        except (ValueError, RecursionError):
            continue
        return extra
    return 0


def dotted(path: tuple[str, ...]) -> str:
    """A path as it would be written in the file, quoted where it must be."""
    return ".".join(part if _BARE.fullmatch(part) else json.dumps(part, ensure_ascii=False) for part in path)
