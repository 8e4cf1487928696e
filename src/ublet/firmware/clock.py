"""The board's clock: paced by the wall at any speed, or virtual, as fast as it computes."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

from ublet.core.heat.pid import TICK_S
from ublet.firmware.service import STATE_PERIOD_S, Service

T = TypeVar("T")

MOST_TICKS = 400
"""Ticks done in a row at the most; a machine that cannot keep up falls behind instead of choking."""


async def keep_time(service: Service, speed: float, state_period_s: float = STATE_PERIOD_S) -> None:
    """Run the board for ever: ticks of its clock at ``speed`` times the loop's, a state every period.

    The protocol allows 2 to 10 states a second; a virtual clock takes the fewest, for speed.
    """
    loop = asyncio.get_running_loop()
    began, done = loop.time(), 0
    next_state = began + state_period_s
    pause = state_period_s if state_period_s > STATE_PERIOD_S else min(STATE_PERIOD_S, TICK_S / speed)
    while True:
        await asyncio.sleep(pause)
        now = loop.time()
        due = int((now - began) * speed / TICK_S + 1e-6) - done
        if due > MOST_TICKS:
            began, done, due = now - (MOST_TICKS * TICK_S / speed), 0, MOST_TICKS
        for _ in range(due):
            service.board.tick()
        done += due
        service.stream(pause)
        if now >= next_state - 1e-9:
            service.state()
            next_state = max(next_state + state_period_s, now)


class _JumpingSelector(selectors.DefaultSelector):
    """Instead of waiting for a timer it moves the clock there."""

    jump: Callable[[float], None] = staticmethod(lambda seconds: None)

    def select(self, timeout: float | None = None) -> list[tuple[selectors.SelectorKey, int]]:
        ready = super().select(timeout if timeout is None else 0)
        if not ready and timeout:
            self.jump(timeout)
        return ready


class VirtualLoop(asyncio.SelectorEventLoop):
    """An event loop whose time passes only while everything sleeps: hours in seconds, deterministic."""

    def __init__(self) -> None:
        selector = _JumpingSelector()
        super().__init__(selector)
        self._virtual = 0.0
        selector.jump = self._jump

    def time(self) -> float:
        """Virtual time, s."""
        return self._virtual

    def _jump(self, seconds: float) -> None:
        self._virtual += seconds


def run_virtually(work: Coroutine[Any, Any, T], loop: Callable[[], asyncio.AbstractEventLoop] = VirtualLoop) -> T:
    """Run on a virtual clock, and return what came out.

    It goes round asyncio's runner by a list: at its end that one makes a text of its task with all that the task
    returned, to compare handlers of interrupts, which takes longer than some of the runs.
    """
    results: list[T] = []

    async def kept() -> None:
        results.append(await work)

    with asyncio.Runner(loop_factory=loop) as runner:
        runner.run(kept())
    return results[0]
