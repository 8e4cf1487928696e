"""The start-up picture: a PBM file (Netpbm's bitmap, P1 or P4) as the bytes that go into the image."""

from __future__ import annotations

from pathlib import Path

from ublet.core.machine.schema import MachineFile
from ublet.core.trouble import Trouble

MOST_COLUMNS, MOST_ROWS = 128, 64


class PictureError(Trouble):
    """A start-up picture cannot be used; the message says why."""


def start_picture(machine_file: Path, machine: MachineFile) -> bytes:
    """The declared picture, packed to one bit a dot with its size before it; empty when none is declared or wanted.

    Raises:
        PictureError: missing, not PBM, or too large.
    """
    display = machine.display
    if display is None or display.picture is None or machine.modules.picture is False:
        return b""
    path = machine_file.parent / display.picture
    try:
        data = path.read_bytes()
    except OSError as error:
        raise PictureError(f"display.picture: {path} cannot be read ({error.strerror or error}).") from error
    return packed(data, str(path))


def packed(data: bytes, name: str) -> bytes:
    """Width and height (one byte each), then rows of packed bits, from a PBM.

    Raises:
        PictureError: not PBM, truncated, or larger than the display.
    """
    words, at = _header(data)
    if len(words) < 3 or words[0] not in (b"P1", b"P4") or not (words[1].isdigit() and words[2].isdigit()):
        raise PictureError(f"{name} is no PBM picture: save it as PBM (bitmap), P1 or P4.")
    columns, rows = int(words[1]), int(words[2])
    if not (0 < columns <= MOST_COLUMNS and 0 < rows <= MOST_ROWS):
        raise PictureError(f"{name} has {columns} x {rows} dots; allowed: up to {MOST_COLUMNS} x {MOST_ROWS}.")
    row_bytes = (columns + 7) // 8
    if words[0] == b"P4":
        bits = data[at : at + row_bytes * rows]
        if len(bits) < row_bytes * rows:
            raise PictureError(f"{name} ends before its last row: save it again.")
        return bytes((columns, rows)) + bits
    dots = [byte for byte in data[at:] if byte in b"01"]
    if len(dots) < columns * rows:
        raise PictureError(f"{name} ends before its last row: save it again.")
    packed_rows = bytearray((columns, rows))
    for row in range(rows):
        line = "".join(chr(dot) for dot in dots[row * columns : (row + 1) * columns]).ljust(row_bytes * 8, "0")
        packed_rows += int(line, 2).to_bytes(row_bytes, "big")
    return bytes(packed_rows)


def _header(data: bytes) -> tuple[list[bytes], int]:
    """The three words of a PBM's header, comments skipped, and where the dots begin."""
    words: list[bytes] = []
    at = 0
    while len(words) < 3 and at < len(data):
        if data[at : at + 1].isspace():
            at += 1
        elif data[at : at + 1] == b"#":
            end = data.find(b"\n", at)
            at = len(data) if end < 0 else end + 1
        else:
            start = at
            while at < len(data) and not data[at : at + 1].isspace() and data[at : at + 1] != b"#":
                at += 1
            words.append(data[start:at])
    return words, at + 1
