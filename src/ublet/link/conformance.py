"""Check a board against docs/protocol.md, clause by clause."""

from __future__ import annotations

from dataclasses import dataclass

from ublet.link import clauses, stream_clauses
from ublet.link.bare import SESSION, BareLine, Silent
from ublet.link.clause import CLAUSES, CheckSetup, ClauseBroken, Unchecked
from ublet.link.client import PROTOCOL
from ublet.link.frames import Message
from ublet.link.transport import Transport

__all__ = ["CLAUSES", "ClauseVerdict", "clauses", "conform", "stream_clauses"]


@dataclass(frozen=True)
class ClauseVerdict:
    """How a board keeps a clause: holds is None when it could not be checked; why is empty when it holds."""

    clause: str
    words: str
    holds: bool | None
    why: str = ""


async def conform(transport: Transport) -> list[ClauseVerdict]:
    """Check a board, clause by clause. It warms the first heater for a moment and turns a motor a few millimetres.

    Raises:
        Silent: nothing that speaks the protocol answers at all.
    """
    line = BareLine(transport)
    hello = await line.ask("hello", client="ublet conform", protocol=PROTOCOL, session=SESSION)
    verdicts = []
    for clause in CLAUSES:
        try:
            bench = await _ready(line, hello)
            line.got.clear()
            await clause.check(bench)
            verdicts.append(ClauseVerdict(clause.number, clause.words, True))
        except (ClauseBroken, Silent) as error:
            verdicts.append(ClauseVerdict(clause.number, clause.words, False, str(error)))
        except Unchecked as error:
            verdicts.append(ClauseVerdict(clause.number, clause.words, None, str(error)))
        except (KeyError, TypeError, IndexError, AttributeError) as error:
            verdicts.append(
                ClauseVerdict(clause.number, clause.words, False, f"an answer of another shape ({error!r})")
            )
    for method in ("motion.stop", "heat.off", "release"):
        await line.ask(method)
    return verdicts


async def _ready(line: BareLine, hello: Message) -> CheckSetup:
    """The board as every check finds it: ours, at rest, released."""
    about = hello.get("result") or {}
    for session in (f"before {SESSION}", SESSION):  # another session ends whatever a check that broke left open
        await line.ask("hello", client="ublet conform", protocol=PROTOCOL, session=session)
    for method in ("motion.stop", "heat.off", "release"):
        await line.ask(method)
    values: dict[str, Message] = {}
    while True:
        page = (await line.ask("settings.read", **{"from": len(values)})).get("result") or {}
        values.update(page.get("values") or {})
        if not page.get("values") or len(values) >= page.get("total", 0):
            return CheckSetup(line, about, values)
