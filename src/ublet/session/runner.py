"""The runner of trials: whatever happens to a trial, heaters and fans are off and nothing moves afterwards."""

from __future__ import annotations

import asyncio
import contextlib
from dataclasses import dataclass, replace
from typing import Any

from ublet.core.settings import Part, Value
from ublet.core.trial import Bench, Outcome, TrialFailed, TrialResult, TrialSpec
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.connection import Connection


@dataclass(frozen=True)
class Ran:
    """A trial that was run; lost tells that the link was gone at its end, in the machine's seconds."""

    result: TrialResult
    duration_s: float
    lost: bool = False


class Runner:
    """Runs one trial at a time on a connection."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._breaking: asyncio.Future[tuple[Outcome, str, bool]] | None = None
        self.running: TrialSpec | None = None

    def refusal(self) -> Ran | None:
        """What a trial gets that is started beside another one; None when nothing runs."""
        if self.running is None:
            return None
        return Ran(TrialResult("halted", f"“{self.running.name}” is running: wait for its end, or cancel it."), 0.0)

    def cancel(self) -> None:
        """Stop the running trial on the builder's wish."""
        self._stop("halted", "Cancelled by you: heaters and fans are off.", False)

    async def run(self, spec: TrialSpec, parameters: Part, bench: Bench) -> Ran:
        """Run a trial to its end, or until a halt, a guard, a lost link, a reboot or a cancellation.

        Never raises for what goes wrong at the machine: the result says it. Its conditions are
        completed with the live value of every setting that the trial's findings depend on.
        """
        if (refused := self.refusal()) is not None:
            return refused
        loop = asyncio.get_running_loop()
        self._breaking = loop.create_future()
        self._connection.broken.append(self._broke)
        began = self._connection.board_time
        self.running = spec
        state = self._connection.state
        if state.mode != "ready":
            self._broke(state.mode, state.why)
        work = loop.create_task(spec.run(bench, parameters))
        try:
            waited: set[asyncio.Future[Any]] = {work, self._breaking}
            await asyncio.wait(waited, return_when=asyncio.FIRST_COMPLETED)
            if self._breaking.done():
                outcome, why, lost = self._breaking.result()
                return Ran(self._complete(TrialResult(outcome, why), spec, parameters), self._since(began), lost)
            return Ran(self._complete(await self._outcome(work), spec, parameters), self._since(began))
        finally:
            self._connection.broken.remove(self._broke)
            self.running = None
            work.cancel()
            with contextlib.suppress(asyncio.CancelledError, Exception):
                await work
            await asyncio.shield(self.all_off())

    async def all_off(self) -> None:
        """Motion stopped, heaters and fans off; a board that is out of reach does it by itself."""
        for method in ("motion.stop", "heat.off"):
            with contextlib.suppress(LinkLost, BoardRefused):
                await self._connection.call(method)

    async def _outcome(self, work: asyncio.Task[TrialResult]) -> TrialResult:
        try:
            return await work
        except TrialFailed as error:
            return TrialResult(error.outcome, str(error))
        except BoardRefused as error:
            outcome: Outcome = "halted" if error.code in (1, 2) else "failed"
            return TrialResult(outcome, f"The board refused: {error}")
        except LinkLost as error:
            return TrialResult("failed", f"The link was lost: {error}. The board switches its heaters off by itself.")
        except StopAsyncIteration:
            return TrialResult("failed", "The board stopped sending samples.")

    def _complete(self, result: TrialResult, spec: TrialSpec, parameters: Part) -> TrialResult:
        layers = self._connection.layers
        depends: dict[str, Value] = {
            path: layers[path].live for path in spec.depends(parameters, layers) if path in layers
        }
        return replace(result, conditions={**result.conditions, **depends})

    def _since(self, began: float) -> float:
        return round(max(0.0, self._connection.board_time - began), 3)

    def _broke(self, what: str, why: str) -> None:
        if self.running is not None and self.running.trips and what.startswith("guard: "):
            return
        lost = what in ("link lost", "unlinked")
        outcome: Outcome = "failed" if lost or what == "board restarted" else "halted"
        self._stop(outcome, why, lost)

    def _stop(self, outcome: Outcome, why: str, lost: bool) -> None:
        if self._breaking is not None and not self._breaking.done():
            self._breaking.set_result((outcome, why, lost))
