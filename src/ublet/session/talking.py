"""The raw dialogue with a board: lines as they are, and as a dialect understands them."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import IO, TextIO

from ublet.core.dialect.framing import LineCutter
from ublet.core.dialect.language import Language
from ublet.link.transport import Transport, open_transport

LONGEST = 4096


class RawTalk:
    """An open port, its lines shown and kept.

    Raises:
        PortError: the port cannot be opened. OSError: the transcript cannot be written.
    """

    def __init__(
        self, port: str, baud: int, language: Language | None, transcript: Path | None, show: Callable[[str], None]
    ) -> None:
        self._port, self._baud, self._language, self._show = port, baud, language, show
        self._path = transcript
        self._kept: IO[str] | None = None
        self._cutter = LineCutter(language.file.line.longest if language is not None else LONGEST)
        self._number = 0
        self._transport: Transport | None = None
        self.arrived_at = 0.0
        self.ended = ""

    async def __aenter__(self) -> RawTalk:
        self._transport = await open_transport(self._port, self._baud)
        self._transport.received = self._received
        self._transport.lost = self._lost
        self._kept = self._path.open("a", encoding="utf-8") if self._path is not None else None
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._transport is not None:
            self._transport.close()
        if self._kept is not None:
            self._kept.close()

    def send(self, line: str) -> None:
        """Send a line, numbered and summed where the dialect has that."""
        if self._transport is None:
            return
        self._number += 1
        framed = self._language.framing.from_host(line, self._number) if self._language else f"{line}\n".encode()
        self._keep(">", framed.decode("utf-8", "replace").rstrip("\r\n"))
        self._transport.write(framed)

    def _received(self, data: bytes) -> None:
        self.arrived_at = asyncio.get_running_loop().time()
        for raw in self._cutter.feed(data):
            text = raw.decode("utf-8", "replace")
            self._keep("<", text)
            self._show(f"< {text}{self._understood(raw)}")

    def _understood(self, raw: bytes) -> str:
        """What a dialect makes of a line of the board's."""
        language = self._language
        if language is None:
            return ""
        line = language.framing.read_board(raw)
        if line is None:
            return "   (damaged: its checksum or its length is not as the dialect says)"
        return f"   ({language.meaning(line.text, of_host=False) or 'not described'})"

    def _lost(self, why: str) -> None:
        self.ended = why
        self._show(f"the line is gone: {why}")

    def _keep(self, way: str, text: str) -> None:
        if self._kept is not None:
            self._kept.write(f"{way} {text}\n")
            self._kept.flush()


async def talk_lines(raw: RawTalk, lines: TextIO, quiet_s: float) -> None:
    """Send what is typed, line by line; the lines of a script one after the other, each once the board is quiet."""
    typed = lines.isatty()
    if typed:
        with contextlib.suppress(ImportError):
            import readline  # noqa: F401  arrow keys bring back what was sent
    while not raw.ended:
        try:
            line = await asyncio.to_thread(input) if typed else await asyncio.to_thread(lines.readline)
        except EOFError:
            return
        if not typed and not line:
            return
        if text := line.rstrip("\r\n"):
            raw.send(text)
        if not typed:
            await _quiet(raw, quiet_s)


async def _quiet(raw: RawTalk, quiet_s: float) -> None:
    loop = asyncio.get_running_loop()
    raw.arrived_at = loop.time()
    while (left := raw.arrived_at + quiet_s - loop.time()) > 0:
        if raw.ended:
            return
        await asyncio.sleep(left)
