"""A real terminal with the real app in it, for tests: keys through tmux, the screen read back."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

from tests.waiting import must_wait

SPEED = "60"

UNCOUNTED_S = 3.0

PATIENCE_S = 120.0
"""What is waited for comes in a moment; on a machine that is starved of its processor a moment may be this long."""


def unmet_is_not_asked(config: Path) -> None:
    """Walks begin in the middle of the route: what does not hold before is noted with a run, and not asked about."""
    kept = config / "ublet" / "preferences.toml"
    if not kept.exists():
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.write_text("ask_unmet = false\n", encoding="utf-8")


class Screen:
    """A terminal of 160 x 47 with a program in it."""

    def __init__(
        self, folder: Path, *words: str, size: tuple[int, int] = (160, 47), through: tuple[str, ...] = ()
    ) -> None:
        must_wait()
        self.folder = folder
        self.socket = str(folder / "tmux")
        self.sent = 0
        kept = {f"XDG_{kind.upper()}_HOME": str(folder / kind) for kind in ("state", "config", "data")}
        unmet_is_not_asked(folder / "config")
        env = {**os.environ, **kept, "TERM": "xterm-256color", "UBLET_TELL_KEYS": "1"}
        command = ["new-session", "-d", "-s", "t", "-x", str(size[0]), "-y", str(size[1])]
        program = [*through, sys.executable, "-m", "ublet", *words]
        conf = folder / "tmux.conf"
        conf.write_text("set -g status off\nset -g remain-on-exit on\nset -s escape-time 0\n", encoding="utf-8")
        subprocess.run(["tmux", "-S", self.socket, "-f", str(conf), *command, *program], check=True, env=env)

    def tmux(self, *words: str) -> str:
        done = subprocess.run(["tmux", "-S", self.socket, *words], capture_output=True, text=True, check=False)
        return done.stdout

    def text(self) -> str:
        return self.tmux("capture-pane", "-p", "-t", "t")

    def key(self, *names: str) -> None:
        for name in names:
            before = self.dealt()
            self.tmux("send-keys", "-t", "t", name)
            self.passed(before + 1)

    def type(self, text: str) -> None:
        """Characters, all at once."""
        before = self.dealt()
        self.tmux("send-keys", "-t", "t", "-l", "--", text)
        self.passed(before + len(text))

    def dealt(self) -> int:
        """How many keys the app has dealt with and painted, by its own word."""
        word, _, count = self.tmux("display-message", "-p", "-t", "t", "#{pane_title}").strip().partition(" ")
        return int(count) if word == "ublet" and count.isdigit() else 0

    def passed(self, count: int) -> None:
        """Wait until so many keys are; one that ends the app, or that nobody counts, is not waited for long."""
        end = time.monotonic() + UNCOUNTED_S
        while self.dealt() < count and time.monotonic() < end:
            time.sleep(0.02)

    def wait(self, words: str, timeout: float = PATIENCE_S) -> str:
        end = time.monotonic() + timeout
        while words not in (shown := self.text()):
            assert time.monotonic() < end, f"“{words}” did not appear; the screen was:\n{shown}"
            time.sleep(0.1)
        for _ in range(4):  # the rest of that frame
            time.sleep(0.06)
            if (later := self.text()) == shown:
                break
            shown = later if words in later else shown
        return shown

    def start(self, words: str) -> str:
        """Start the trial under the cursor, until words are there; once more where there was no link just then."""
        self.key("Enter", "Enter")
        end, refused = time.monotonic() + PATIENCE_S, False
        while words not in (shown := self.text()):
            assert time.monotonic() < end, f"“{words}” did not appear; the screen was:\n{shown}"
            if refused and "Not started" not in shown:
                self.key("Enter")
            refused = "Not started" in shown
            time.sleep(0.1)
        return self.wait(words)

    def gone(self, words: str, timeout: float = PATIENCE_S) -> None:
        """Wait until words are off the screen."""
        end = time.monotonic() + timeout
        while words in (shown := self.text()):
            assert time.monotonic() < end, f"“{words}” did not go away; the screen was:\n{shown}"
            time.sleep(0.1)

    def close(self) -> None:
        self.tmux("kill-server")


def demo(screens: list[Screen], folder: Path, size: tuple[int, int] = (160, 47), speed: str = SPEED) -> Screen:
    folder.mkdir(exist_ok=True)
    screen = Screen(folder, "demo", "--dir", str(folder / "tern"), "--speed", speed, size=size)
    screens.append(screen)
    screen.wait("no errors")
    screen.wait("clock ×")  # the link is there
    return screen


def hotend(screens: list[Screen], folder: Path, size: tuple[int, int] = (160, 47), speed: str = SPEED) -> Screen:
    """The demonstration with the cursor at the station hotend control."""
    screen = demo(screens, folder, size, speed)
    screen.key("NPage", "NPage", "NPage", "Down")
    screen.wait("from room")
    return screen
