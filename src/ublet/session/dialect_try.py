"""A dialect gone through on a board like a newcomer: first what only asks, then what moves or warms a little."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

from ublet.core.capabilities import LACKING, UNSPOKEN
from ublet.core.catalogue import TRIALS
from ublet.core.dialect.acts import part_in
from ublet.core.dialect.language import ROW, Language
from ublet.core.dialect.parts import MachineParts
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.link.dialect_client import READ_S, DialectClient
from ublet.link.dialect_controller import DialectController
from ublet.link.end import LinkListeners
from ublet.link.errors import BoardRefused, LinkLost
from ublet.link.transport import Transport

STANDS_S = 20.0
"""Longest wait for the end of such a move."""

MOVES_MM, MOVES_MM_S = 1.0, 2.0
"""An axis is moved by this, up or away first, and back."""

WARMS_C, SILENCE_C = 40.0, 50.0
"""Targets: for what only shows that it warms, and for the silence, °C."""

WARMING_S, RISES_C = 60.0, 1.0
"""Longest wait until a heater that is held has risen by this, °C."""

UNKNOWN = "xyzzy 0"
"""A line that no language has."""

NEWS_S = 3.0
"""Longest wait for new readings."""

MARGIN_S = 1.5
"""A silent line is broken this long after the board should have switched off."""


@dataclass(frozen=True)
class TriedLine:
    """What was tried, sent, received and understood; good: whether it was as the dialect says."""

    step: str
    sent: str
    came: tuple[str, ...]
    understood: str
    good: bool


@dataclass
class DialectTrial:
    """A dialect tried on a board: line by line, what is missing, which trials that takes away.

    switches_off: whether a board that nobody talks to switched its heater off (None: not tried).
    """

    language: Language
    lines: list[TriedLine] = field(default_factory=list)
    switches_off: bool | None = None
    lost: str = ""

    @property
    def good(self) -> bool:
        """Whether everything that was tried was understood."""
        return not self.lost and all(line.good for line in self.lines)

    def lacking(self) -> dict[str, list[str]]:
        """What the dialect does not describe, by capability."""
        return {str(key): names for key, names in self.language.missing().items()}

    def taken_away(self, machine: MachineFile | None) -> list[str]:
        """The trials of a machine that cannot be run with this language; none without a machine."""
        can = self.language.can()
        if machine is None:
            return []
        return [name for name, spec in TRIALS.items() if any(use not in can for use in spec.uses(machine))]

    def as_json(self, machine: MachineFile | None) -> dict[str, Any]:
        """For programs."""
        return {
            "dialect": self.language.file.name,
            "good": self.good,
            "lines": [asdict(line) for line in self.lines],
            "lacking": self.lacking(),
            "trials_lost": self.taken_away(machine),
            "switches_off": self.switches_off,
            "why": self.lost,
        }


def words_for(capability: str) -> str:
    """What a board without a capability does not do, as far as its language shows."""
    return {**LACKING, **UNSPOKEN}.get(capability, capability)  # type: ignore[call-overload, no-any-return]


async def try_dialect(
    language: Language,
    transport: Transport,
    parts: MachineParts,
    moves: bool,
    heats: bool,
    say: Callable[[TriedLine], None],
) -> DialectTrial:
    """Go through a language at a board. Whatever ends it, everything is switched off.

    Raises:
        LinkLost: it does not answer as this language at all.
    """
    trial = DialectTrial(language)
    talk: list[tuple[str, str]] = []
    listeners = LinkListeners(on_talk=lambda way, message: talk.append((way, str(message["line"]))))
    client = DialectClient(transport, language, parts, listeners)

    def note(step: str, understood: str, good: bool, sent: str, came: list[str]) -> None:
        line = TriedLine(step, sent, tuple(came), understood, good)
        trial.lines.append(line)
        say(line)

    try:
        about = await client.hello()
        came = [line for way, line in talk if way == "<"]
        words = f"board {about.board}, firmware {about.firmware}, start {about.boot}"
        note("greeting", words, True, language.file.greeting.ask, came)
        await _readings(client, note)
        await _settings(client, note)
        await _refusals(client, note)
        if moves:
            await _moves(client, note)
        if heats:
            trial.switches_off = await _heats(client, note)
            await _halts(client, note)
    except (LinkLost, BoardRefused) as error:
        if not trial.lines:
            raise
        trial.lost = str(error)
    finally:
        with contextlib.suppress(LinkLost, BoardRefused):
            await DialectController(client).all_off()
        client.close()
    return trial


STARTS, STARTS_S = 5, 0.3
"""Further questions, and the pause before each, s: a board that has just started has read nothing yet."""

Note = Callable[[str, str, bool, str, list[str]], None]


async def _readings(client: DialectClient, note: Note) -> None:
    """Each question for readings, asked once."""
    language = client.language
    for ask in dict.fromkeys(one.ask for one in language.readings.values() if one.ask):
        came = await client.ask(ask)
        for _ in range(STARTS):
            if came:
                break
            await asyncio.sleep(STARTS_S)
            came = await client.ask(ask)
        unread = list(came)
        records: list[dict[str, Value]] = []
        for one in language.readings.values():
            if one.ask == ask:
                for line in came:
                    read = one.read(line)
                    records += read
                    if read and line in unread:
                        unread.remove(line)
        words = "; ".join(_record_words(record) for record in records) or "nothing"
        if unread:
            words += f"; not understood: {', '.join(f'“{line[:40]}”' for line in unread)}"
        note(f"reading “{ask}”", words, bool(records) and not unread, ask, came)


def _record_words(record: dict[str, Value]) -> str:
    part = part_in(record)
    values = ", ".join(
        f"{key} {value:g}" if isinstance(value, float) else f"{key} {value}"
        for key, value in record.items()
        if key != part
    )
    return f"{part} {record[part]}: {values}" if part else values


async def _settings(client: DialectClient, note: Note) -> None:
    """A setting of each rule that this machine has."""
    language = client.language
    seen: set[str] = set()
    for path in client.parts.settings:
        spoken = language.setting_for(path)
        if spoken is None or spoken[0].ask.source in seen:
            continue
        seen.add(spoken[0].ask.source)
        if spoken[0].in_rows:
            array = await client.settings.read(path)
            rows = spoken[0].to_rows(array)
            words = f"{path}: {len(rows)} rows" if array is not None else "no value"
            note(f"setting {path}", words, array is not None, spoken[0].ask.write({**spoken[1], ROW: 0}), rows)
            continue
        ask = spoken[0].ask.write(spoken[1])
        try:
            came = await client.ask(ask, wants=spoken[0].answer)
            value = client.settings.said(path, came)
        except BoardRefused as error:
            came, value = [str(error)], None
        note(f"setting {path}", f"{path} = {value}" if value is not None else "no value", value is not None, ask, came)


async def _refusals(client: DialectClient, note: Note) -> None:
    """A line that nobody describes is refused, and nothing else becomes of it."""
    try:
        came = await client.ask(UNKNOWN)
    except BoardRefused as error:
        note("a line that is none", f"refused: {error}", True, UNKNOWN, [])
    else:
        note("a line that is none", "answered as if it were one", False, UNKNOWN, came)


async def _halts(client: DialectClient, note: Note) -> None:
    """A heater is held a little above the room, and halted: it goes off, and stays off until released."""
    if "heat" not in client.language.can() or "release" not in client.language.requests:
        return
    controller, heater = DialectController(client), next(iter(client.parts.heaters))
    await _released(client)
    await controller.target(heater, WARMS_C)
    client.halt()
    await _read_anew(client)
    halted = client.state.mode == "halted"
    off = client.values.get(f"heaters.{heater}.target_c") is None
    try:
        await controller.target(heater, WARMS_C)
        refused = False
    except BoardRefused:
        refused = True
    words = f"the {heater} is {'off' if off else 'on'}, the board says {client.state.mode}"
    await _released(client)
    words += "; what heats is refused until it is released" if refused else "; it may be heated at once again"
    note("halt", words, off and halted and refused, "halt", [])


async def _released(client: DialectClient) -> None:
    if client.state.mode != "ready":
        await client.request("release")
        await _read_anew(client)


async def _moves(client: DialectClient, note: Note) -> None:
    """Each axis by a millimetre and back."""
    if "motion" not in client.language.can():
        return
    for axis, first in (("z", MOVES_MM), ("x", MOVES_MM), ("y", MOVES_MM)):
        for mm in (first, -first):
            answer = await client.request("move", axis=axis, mm=mm, mm_s=MOVES_MM_S)
            await _read_anew(client)  # until then it may still be seen where it stood before
            stood = await _until(lambda: not client.values.get("motion.moving"), STANDS_S)
            words = (
                f"{axis.upper()} by {mm:g} mm{f', {_record_words(answer)}' if answer else ''}; then it stands: {stood}"
            )
            note(f"move {axis} {mm:+g}", words, stood, f"move {axis} {mm:+g} mm", [])


async def _heats(client: DialectClient, note: Note) -> bool | None:
    """A heater is warmed a little; then it is held, and nothing is said: does the board switch off by itself?"""
    if "heat" not in client.language.can() or not client.parts.heaters:
        return None
    heater, (sensor, maximum_c) = next(iter(client.parts.heaters.items()))
    channel = f"sensors.{sensor}"
    await asyncio.sleep(3 * READ_S)
    start = client.values.get(channel)
    if start is None or start > WARMS_C:
        note(f"warm {heater}", "its sensor does not read, or it is not cold: left out", False, "", [])
        return None
    await DialectController(client).target(heater, min(SILENCE_C, maximum_c))
    warm = await _until(lambda: (client.values.get(channel) or 0.0) > start + RISES_C, WARMING_S)
    now = client.values.get(channel)
    note(
        f"warm {heater}", f"{start:.1f} °C, then {now if now is None else round(now, 1)} °C", warm, f"hold {heater}", []
    )
    if not warm:
        return None
    window = client.language.file.alive.window_s
    silence_s = (window or 10.0) + MARGIN_S
    client.fall_silent(silence_s)
    await asyncio.sleep(silence_s)
    await _read_anew(client)
    off = client.values.get(f"heaters.{heater}.target_c") is None
    words = f"after {silence_s:g} s without a line the {heater} is {'off' if off else 'still on'}"
    expected = off == (window > 0)
    if off and not window:
        words += ": the dialect says that it does not switch off by itself ([alive] window_s)"
    elif not off and window:
        words += f": the dialect says that it is off after {window:g} s ([alive] window_s). Do not heat unwatched."
    note("silence", words, expected, "", [])
    return off


async def _read_anew(client: DialectClient) -> None:
    """Wait for two looks at the board: the first may have begun before what is to be seen."""
    for _ in range(2):
        before = client.news_at_s
        await _until(lambda before=before: client.news_at_s > before, NEWS_S)  # type: ignore[misc]


async def _until(there: Callable[[], bool], seconds: float) -> bool:
    loop = asyncio.get_running_loop()
    end = loop.time() + seconds
    while not there():
        if loop.time() > end:
            return False
        await asyncio.sleep(READ_S)
    return True
