"""A program on a pseudo-terminal, with the time at which things appear; and a bare one to compare with."""

from __future__ import annotations

import contextlib
import fcntl
import os
import pty
import select
import signal
import struct
import termios
import time
from pathlib import Path

BARE_APP = """
from textual.app import App
from textual.widgets import Label
class Bare(App):
    BINDINGS = [("down", "say('lower-word')", ""), ("up", "say('upper-word')", "")]
    def compose(self):
        yield Label("ready-to-use")
    def action_say(self, word):
        self.query_one(Label).update(word)
Bare().run()
"""


class PseudoTerminal:
    """A program on a pseudo-terminal of 160 x 47, with the time at which things appear."""

    def __init__(self, command: list[str]) -> None:
        self.began = time.perf_counter()
        self.pid, self.end = pty.fork()
        if self.pid == 0:
            os.environ.update(TERM="xterm-256color", COLORTERM="truecolor")
            os.execvp(command[0], command)
        fcntl.ioctl(self.end, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 1280, 800))
        self.seen = b""

    def wait_for(self, text: str, timeout: float = 60.0) -> float:
        """Seconds since the start until the text was painted.

        Raises:
            TimeoutError: it never was.
        """
        wanted = text.encode()
        while wanted not in self.seen:
            if time.perf_counter() - self.began > timeout:
                raise TimeoutError(f"{text!r} was not painted in {timeout:.0f} s")
            self.read(0.05)
        return time.perf_counter() - self.began

    def read(self, timeout: float) -> bytes:
        """What was painted within a time, or nothing."""
        if not select.select([self.end], [], [], timeout)[0]:
            return b""
        with contextlib.suppress(OSError):
            data = os.read(self.end, 1 << 16)
            self.seen = (self.seen + data)[-400_000:]
            return data
        return b""

    def rest(self, seconds: float) -> None:
        """Let time pass, reading what is painted meanwhile: a program that nobody reads stops painting."""
        began = time.perf_counter()
        while time.perf_counter() - began < seconds:
            self.read(0.02)

    def key_to_paint(self, key: bytes, text: bytes, timeout: float = 3.0) -> float:
        """Seconds from a key until a frame that contains the text."""
        while self.read(0.0):
            pass
        began, got = time.perf_counter(), b""
        os.write(self.end, key)
        while text not in got:
            if time.perf_counter() - began > timeout:
                raise TimeoutError(f"no paint of {text!r} after {key!r}")
            got += self.read(0.01)
        return time.perf_counter() - began

    def go_to(self, station: bytes, station_shown: str, shown: str) -> None:
        """Go to a station of the app by its palette. found: what the palette says of it; shown: what its bench does."""
        self.wait_for("no errors")
        self.rest(1.5)
        for words, painted in ((b"\x10", "Search"), (station, station_shown), (b"\r", shown)):
            os.write(self.end, words)
            self.wait_for(painted)
            self.rest(1.0)

    def cpu_s(self) -> float:
        """Processor seconds that the program has used."""
        fields = Path(f"/proc/{self.pid}/stat").read_text(encoding="utf-8").rsplit(")", 1)[1].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    def close(self) -> None:
        """End the program."""
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGTERM)
        deadline = time.perf_counter() + 3
        while time.perf_counter() < deadline:
            self.read(0.05)
            if os.waitpid(self.pid, os.WNOHANG)[0]:
                break
        else:
            os.kill(self.pid, signal.SIGKILL)
            os.waitpid(self.pid, 0)
        os.close(self.end)
