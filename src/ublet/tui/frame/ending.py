"""How the app ends: everything off first, whatever ends it, and nothing lost without having been asked."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import os
import signal
import sys
import threading
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ublet.session.session import Session
    from ublet.tui.frame.host import Host

FAULT = 70
SIGNALLED = 130
STUCK_AT_THE_END_S = 8.0
"""Neither a terminal that takes nothing any more nor a board that confirms nothing keeps the process longer, s."""

TERMINAL_LOOKS_S = 0.5
"""Period of the check whether the terminal is still there, s: long before a full output buffer would stop us."""


class AppEnding:
    """Ends an app that was quit, was sent a signal, or met a fault of ours."""

    def __init__(self, app: Host) -> None:
        self._app = app
        self._ending: asyncio.Task[None] | None = None
        self.unconfirmed = ""  # why it is not confirmed that everything was off at the end

    def heed_signals(self) -> None:
        """Signals that would end the program end the app as quitting does: everything off first."""
        if sys.platform == "win32":
            return
        loop = asyncio.get_running_loop()
        for name in ("SIGTERM", "SIGHUP", "SIGQUIT"):
            loop.add_signal_handler(getattr(signal, name), self._end_by_signal, name)
        if not self._app.is_headless:
            self._app.set_interval(TERMINAL_LOOKS_S, self._look_at_terminal)

    def _look_at_terminal(self) -> None:
        """When a terminal hangs up, only the first process of its session is notified: that may be who started us."""
        import termios

        if sys.__stdin__ is None:
            return
        try:
            termios.tcgetattr(sys.__stdin__.fileno())
        except termios.error as error:
            if error.args[0] == errno.EIO:
                self._end_by_signal("SIGHUP")

    def _end_by_signal(self, name: str) -> None:
        """End as quitting does; where the terminal is gone nothing more can be drawn, and the process just ends."""
        if self._ending is None:
            self._ending = asyncio.get_running_loop().create_task(self._finish(name))

    async def _finish(self, name: str) -> None:
        stuck = threading.Timer(STUCK_AT_THE_END_S, os._exit, (SIGNALLED,))  # the loop may hang in a full terminal
        stuck.daemon = True
        stuck.start()
        gone = name == "SIGHUP"
        unpainted = self._app.batch_update() if gone else contextlib.nullcontext()  # nobody would take it
        with unpainted:
            await self.close()
            if gone:
                os._exit(SIGNALLED)
        self._app.exit(return_code=SIGNALLED, message=f"ublet: ended by {name}")

    async def close(self) -> None:
        """Leave nothing hot and nothing open."""
        if self._app.session is not None:
            self.unconfirmed = await self._app.session.close()
            self._app.session = None

    async def leave(self) -> None:
        """Quit; asks first when kept values would be lost or a trial runs."""
        from ublet.core.questions import Question
        from ublet.tui.frame.dialogs import QuestionDialog

        session = self._app.session
        reasons = reasons_to_stay(session)
        if reasons or (session is not None and session.preferences.now.confirm_quit):
            words = f"{' '.join(reasons)} Quit all the same?" if reasons else "Quit Ublet? Everything goes off."
            question = Question(words, ("quit", "stay"))
            if await self._app.push_screen_wait(QuestionDialog(question)) != "quit":
                return
        self._app.exit()


def reasons_to_stay(session: Session | None) -> list[str]:
    """What quitting now would lose, in sentences."""
    reasons = []
    if session is not None and session.runner.running is not None:
        reasons.append("A trial is running and would be cancelled.")
    if session is not None and session.draft.dirty:
        count = len(session.draft.changes())
        words = "1 edit is" if count == 1 else f"{count} edits are"
        reasons.append(f"{words} not written to the machine file.")
    if session is not None and session.unsaved():
        count = len(session.unsaved())
        words = "1 kept setting is not saved: it is" if count == 1 else f"{count} kept settings are not saved: they are"
        reasons.append(f"{words} lost at power-off.")
    if session is not None and session.ledger.waiting:
        reasons.append(f"{session.ledger.waiting} entries of the ledger could not be written yet: make room first.")
    return reasons
