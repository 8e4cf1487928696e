"""The runner of trials: whatever happens to a trial, heaters and fans are off and nothing moves afterwards."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Protocol

from ublet.core.bench import Bench
from ublet.core.questions import Question
from ublet.core.remedies import LINK, WRITE
from ublet.core.remedy import GoTo, Remedy, StartAgain
from ublet.core.run import Outcome, TrialFailed, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import TrialSpec
from ublet.link.errors import SILENCE_UNTRIED, BoardRefused, LinkLost
from ublet.session.connection import Break, Connection
from ublet.session.logbook import fault_note


@dataclass(frozen=True)
class Ran:
    """A trial that was run, in the machine's seconds. lost: the link was gone then; whole: its recipe ended it."""

    result: TrialResult
    duration_s: float
    lost: bool = False
    whole: bool = False


class OwingBench(Bench, Protocol):
    """A bench that knows what hands still have to undo when a trial has ended."""

    @property
    def owed(self) -> list[Question]:
        """What hands still have to undo."""

    async def undo(self, question: Question) -> bool:
        """Let it be undone where that is possible without asking; whether it was."""

    async def stow(self) -> None:
        """Put away what the trial left in the way: the nozzle goes up, the probe's pin too."""


AGAIN_S = 1.0
"""A recipe that is cancelled and goes on is cancelled again after so long, s."""

BREAKS = {"unlinked": Break.LINK_LOST, "halted": Break.HALTED, "tripped": Break.GUARD}
"""What a board's mode other than ready means for a trial that begins."""


@dataclass(frozen=True)
class RunEnding:
    """What ended a run from outside: how, why, whether the link is gone, and the way out."""

    outcome: Outcome
    why: str
    lost: bool
    remedy: Remedy


REMEDIES: Mapping[Break, Remedy] = {
    Break.HALTED: StartAgain("release the board first (key r)"),
    Break.GUARD: GoTo("guards", "what tripped, and within which bounds"),
    Break.LINK_LOST: LINK,
    Break.RESTARTED: StartAgain("the board restarted: look at its power supply"),
    Break.NO_READINGS: GoTo("sensors at rest", "which sensor reads nothing"),
}
"""The way out by what broke a run."""

REFUSED: Mapping[int, Remedy] = {
    1: REMEDIES[Break.HALTED],
    2: REMEDIES[Break.GUARD],
    3: WRITE,
    SILENCE_UNTRIED: GoTo("guards", "whether the board switches off when nobody talks to it"),
}
"""The way out by the code of what a board refused (docs/protocol.md)."""


class Runner:
    """Runs one trial at a time on a connection; ``barred`` says why nothing may run on this board (empty: it may)."""

    def __init__(self, connection: Connection, barred: Callable[[], str]) -> None:
        self._connection = connection
        self._barred = barred
        self._breaking: asyncio.Future[RunEnding] | None = None
        self.running: TrialSpec | None = None
        self._idle = asyncio.Event()
        self._idle.set()

    async def until_idle(self) -> None:
        """Wait for the end of the trial that is running; at once when none is."""
        await self._idle.wait()

    def refusal(self) -> Ran | None:
        """What a trial gets that is started beside another one, or on another machine's board; None: it may start."""
        if self.running is not None:
            why = f"“{self.running.name}” is running: wait for its end, or cancel it."
            return Ran(TrialResult("halted", why, remedies=(StartAgain("when the other one has ended"),)), 0.0)
        if why := self._barred():
            return Ran(TrialResult("halted", f"Not started: {why}", remedies=(LINK,)), 0.0)
        return None

    def cancel(self) -> None:
        """Stop the running trial on the builder's wish."""
        self._stop(RunEnding("halted", "Cancelled by you.", False, StartAgain()))

    async def run(self, spec: TrialSpec, parameters: Part, bench: OwingBench) -> Ran:
        """Run a trial to its end, or until a halt, a guard, a lost link, a reboot or a cancellation.

        Never raises for what goes wrong at the machine or in the recipe: the result says it, what is confirmed of the
        heaters, and what hands still have to undo.
        """
        if (refused := self.refusal()) is not None:
            return refused
        loop = asyncio.get_running_loop()
        self._breaking = loop.create_future()
        self._connection.broken.append(self._broke)
        began = self._connection.board_time
        self.running = spec
        self._idle.clear()
        state = self._connection.state
        if state.mode != "ready":
            self._stop_for(BREAKS.get(state.mode, Break.HALTED), state.why)
        work = loop.create_task(spec.run(bench, parameters))
        try:
            waited: set[asyncio.Future[Any]] = {work, self._breaking}
            await asyncio.wait(waited, return_when=asyncio.FIRST_COMPLETED)
            if self._breaking.done():
                ending = self._breaking.result()
                lost = ending.lost
                result = TrialResult(ending.outcome, ending.why, remedies=(ending.remedy,))
                whole = False
            else:
                lost = False
                result, whole = await self._outcome(work)
            duration = self._since(began)
        except asyncio.CancelledError:
            await asyncio.shield(self._put_right(work, bench))
            raise
        left = await asyncio.shield(self._put_right(work, bench))
        return Ran(_with_what_is_left(result, left), duration, lost, whole)

    async def all_off(self) -> str:
        """Motion stopped, heaters and fans off; returns why that is not confirmed (empty: the board confirmed it)."""
        return await self._connection.all_off()

    async def _put_right(self, work: asyncio.Task[TrialResult], bench: OwingBench) -> list[str]:
        """End the recipe, switch everything off, see to what was done by hand; returns what must be said of it."""
        try:
            self._connection.broken.remove(self._broke)
            # a recipe that swallows its cancellation (something it waited for came at once) is cancelled again
            while not work.done():
                work.cancel()
                await asyncio.wait({work}, timeout=AGAIN_S)
            if not work.cancelled():
                work.exception()  # retrieved: what matters of it is in the result
            unconfirmed = await self.all_off() if self._connection.linked else ""
            with contextlib.suppress(LinkLost, BoardRefused):
                await bench.stow()
            said = (
                [f"It is not confirmed that everything is off: {unconfirmed}. Look at the machine."]
                if unconfirmed
                else []
            )
            for question in bench.owed:
                done = (
                    "Done for you in this simulated world" if await bench.undo(question) else "Still to be done by hand"
                )
                said.append(f"{done}: {question.text}")
            return said
        finally:
            self.running = None
            self._idle.set()

    async def _outcome(self, work: asyncio.Task[TrialResult]) -> tuple[TrialResult, bool]:
        """The result, and whether the recipe gave it itself."""
        try:
            return await work, True
        except Exception as error:
            return self._stopped_by(error), False

    def _stopped_by(self, error: Exception) -> TrialResult:
        """What a recipe that stopped half-way ends as."""
        if isinstance(error, TrialFailed):
            return TrialResult(error.outcome, str(error), remedies=error.remedies)
        if isinstance(error, BoardRefused):
            outcome: Outcome = "halted" if error.code in (1, 2) else "failed"
            return TrialResult(outcome, f"The board refused: {error}", remedies=(REFUSED.get(error.code, LINK),))
        if isinstance(error, LinkLost):
            why = f"The link was lost: {error}. {self._connection.by_itself()}"
            return TrialResult("failed", why, remedies=(LINK,))
        if isinstance(error, StopAsyncIteration):
            return TrialResult("failed", "The board stopped sending samples.", remedies=(LINK,))
        note = fault_note(error)  # a fault of ours must not leave anything hot, nor end the app
        why = f"A fault in Ublet itself ended it; the details are in {note}."
        return TrialResult("failed", why, remedies=(StartAgain("and send that note to whoever keeps Ublet"),))

    def _since(self, began: float) -> float:
        return round(max(0.0, self._connection.board_time - began), 3)

    def _broke(self, what: Break, why: str) -> None:
        if self.running is not None and self.running.trips and what is Break.GUARD:
            return
        self._stop_for(what, why)

    def _stop_for(self, what: Break, why: str) -> None:
        outcome: Outcome = "halted" if what in (Break.HALTED, Break.GUARD) else "failed"
        self._stop(RunEnding(outcome, why, what is Break.LINK_LOST, REMEDIES.get(what, StartAgain())))

    def _stop(self, ending: RunEnding) -> None:
        if self._breaking is not None and not self._breaking.done():
            self._breaking.set_result(ending)


def _with_what_is_left(result: TrialResult, left: list[str]) -> TrialResult:
    return replace(result, why=" ".join([result.why, *left])) if left else result
