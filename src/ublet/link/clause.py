"""What a clause of the protocol is, and what its check has at hand: a board on a bare line."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Any

from ublet.link.bare import BareLine
from ublet.link.controller import capability_of
from ublet.link.frames import Message


class ClauseBroken(Exception):
    """A clause is broken; the message says how."""


class Unchecked(Exception):
    """A clause cannot be checked on this board; the message says why."""


@dataclass(frozen=True)
class Clause:
    """A clause: its number, what it says, and its check, which raises Broken, Silent or Unchecked."""

    number: str
    words: str
    check: Callable[[CheckSetup], Awaitable[None]]


class CheckSetup:
    """A board on a bare line, with what it has that checks need."""

    def __init__(self, line: BareLine, about: Message, values: dict[str, Message]) -> None:
        self.line, self.about, self.values = line, about, values

    async def good(self, method: str, **params: object) -> Any:
        """A result. Raises Broken when it is refused, Unchecked when the board says of itself that it cannot."""
        self._can(method)
        answer = await self.line.ask(method, **params)
        if "result" not in answer:
            raise ClauseBroken(f"{method} was refused: {answer.get('error')}")
        return answer["result"]

    async def refused(self, code: int, method: str, **params: object) -> str:
        """The message of a refusal. Raises Broken when it was done, or refused with another code."""
        self._can(method)
        answer = await self.line.ask(method, **params)
        error = answer.get("error")
        if not isinstance(error, dict):
            raise ClauseBroken(f"{method} {params} was done; error {code} was to come")
        if error.get("code") != code or not error.get("message"):
            raise ClauseBroken(f"{method} {params}: error {error}; code {code} with a message was to come")
        return str(error["message"])

    def _can(self, method: str) -> None:
        needed, can = capability_of(method), self.about.get("can")
        if needed is not None and isinstance(can, list) and needed not in can:
            raise Unchecked(f"it says that it cannot: {needed}")

    def one_of(self, start: str, end: str) -> str:
        """The name between two ends of a setting's path. Raises Unchecked when the board has none."""
        for path in self.values:
            if path.startswith(start) and path.endswith(end):
                return path.removeprefix(start).removesuffix(end)
        raise Unchecked(f"it has no setting {start}…{end}")

    async def mode(self, wanted: str) -> None:
        """Wait for a state with a mode."""
        since = len(self.line.got)
        await self.line.until(
            lambda: any(
                m.get("method") == "state" and m["params"].get("mode") == wanted for m in self.line.got[since:]
            ),
            f"no state with mode {wanted}",
        )

    async def event(self, what: str, motion: int, seconds: float = 4.0) -> Message:
        """An event of a motion."""

        def fits(payload: Any) -> bool:
            return bool(payload.get("what") == what and payload.get("motion") == motion)

        message: Message = await self.line.notification("event", fits, f"no event “{what}” of motion {motion}", seconds)
        return message


CLAUSES: list[Clause] = []


def clause(number: str, words: str) -> Callable[[Callable[[CheckSetup], Awaitable[None]]], None]:
    """Declare the check of a clause."""
    return lambda check: CLAUSES.append(Clause(number, words, check))


def must(holds: object, why: str) -> None:
    """Raises Broken when something does not hold."""
    if not holds:
        raise ClauseBroken(why)
