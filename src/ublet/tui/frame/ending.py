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

from ublet.tui.frame.least_size import LeastSize

if TYPE_CHECKING:
    from textual.driver import Driver

    from ublet.session.demo import Demo

FAULT = 70
SIGNALLED = 130
STUCK_AT_THE_END_S = 8.0
"""Neither a terminal that takes nothing any more nor a board that confirms nothing keeps the process longer, s."""

TERMINAL_LOOKS_S = 0.5
"""So often it is looked whether the terminal is still there, s: long before what it does not take any more stops us."""


class Ending(LeastSize):
    """Ends by quitting, by a signal, or by a fault of ours."""

    def __init__(self, driver_class: type[Driver] | None) -> None:
        super().__init__(driver_class)
        self.demo: Demo | None = None
        self._ending: asyncio.Task[None] | None = None
        self.unsure = ""  # why it is not confirmed that everything was off at the end

    def heed_signals(self) -> None:
        """Signals that would end the program end the app as quitting does: everything off first."""
        if sys.platform == "win32":
            return
        loop = asyncio.get_running_loop()
        for name in ("SIGTERM", "SIGHUP", "SIGQUIT"):
            loop.add_signal_handler(getattr(signal, name), self._end_by_signal, name)
        if not self.is_headless:
            self.set_interval(TERMINAL_LOOKS_S, self._look_at_terminal)

    def _look_at_terminal(self) -> None:
        """When a terminal hangs up, only the first process of its session is told: that may be who started us."""
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
        with self.batch_update() if gone else contextlib.nullcontext():  # what is drawn for nobody would not be taken
            if self.session is not None:
                self.unsure = await self.session.close()
                self.session = None
            if gone:
                os._exit(SIGNALLED)
        self.exit(return_code=SIGNALLED, message=f"ublet: ended by {name}")

    async def on_unmount(self) -> None:
        """Leave nothing hot and nothing open."""
        if self.session is not None:
            self.unsure = await self.session.close()

    def _handle_exception(self, error: Exception) -> None:
        """A fault of ours: one sentence for the builder, the details in a file, everything off."""
        from ublet.session.crash import crash_sentence

        if self.session is not None:
            self.session.connection.halt()
        self._exception = error
        self.exit(return_code=FAULT, message=crash_sentence(error))

    async def action_leave(self) -> None:
        """Quit; asks first when kept values would be lost or a trial runs."""
        self.run_worker(self._leave(), group="leave", exclusive=True)

    async def _leave(self) -> None:
        from ublet.core.questions import Question
        from ublet.tui.frame.dialogs import QuestionDialog

        reasons = self.reasons_to_stay()
        if reasons or (self.session is not None and self.session.preferences.now.confirm_quit):
            words = f"{' '.join(reasons)} Quit all the same?" if reasons else "Quit Ublet? Everything goes off."
            question = Question(words, ("quit", "stay"))
            if await self.push_screen_wait(QuestionDialog(question)) != "quit":
                return
        self.exit()

    def reasons_to_stay(self) -> list[str]:
        """What quitting now would lose, in sentences."""
        session, reasons = self.session, []
        if session is not None and session.runner.running is not None:
            reasons.append("A trial is running and would be cancelled.")
        if session is not None and session.draft.dirty:
            count = len(session.draft.changes())
            words = "1 edit is" if count == 1 else f"{count} edits are"
            reasons.append(f"{words} not written to the machine file.")
        if session is not None and session.unsaved():
            count = len(session.unsaved())
            words = (
                "1 kept setting is not saved: it is" if count == 1 else f"{count} kept settings are not saved: they are"
            )
            reasons.append(f"{words} lost at power-off.")
        if session is not None and session.ledger.waiting:
            reasons.append(f"{session.ledger.waiting} entries of the ledger could not be written yet: make room first.")
        return reasons
