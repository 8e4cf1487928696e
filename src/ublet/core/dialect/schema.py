"""The shape of a dialect file: one line language of a board, in both directions."""

from __future__ import annotations

from functools import cache
from typing import Literal

from ublet.core.settings import Known, Name, Part, declarations, setting


class SumRules(Part):
    """The checksum at a line's end."""

    kind: Literal["xor", "add", "crc"] = setting("How it is made: all bytes xored, added, or a CRC over them.")
    bits: Literal[8, 16, 32] = setting("Width.", default=8)
    polynomial: int = setting("CRC: polynomial, its highest bit left out.", low=0, high=0xFFFFFFFF, default=0x07)
    start: int = setting("Value that it starts with.", low=0, high=0xFFFFFFFF, default=0)
    last: int = setting("Value that the result is xored with.", low=0, high=0xFFFFFFFF, default=0)
    reflected: bool = setting("CRC: bits are taken lowest first.", default=False)
    mark: str = setting("Mark between line and checksum.", default="~")
    digits: Literal["decimal", "hex"] = setting("How it is written.", default="decimal")
    replies: bool = setting("The board's lines carry one, too.", default=False)


class LineRules(Part):
    """How a line looks, and what the board's short answers mean. In patterns {n} is a line's number, {why} the board's
    words.
    """

    end: Literal["lf", "cr", "crlf"] = setting("End of a line; a board's lines may end in any of them.", default="lf")
    encoding: Literal["utf-8", "latin-1", "ascii"] = setting("How letters become bytes.", default="utf-8")
    longest: int = setting("Longest line, its end left out.", unit="characters", low=8, high=4096, default=120)
    comment: str = setting(
        "Mark with which the board begins lines for people; they are passed over.", default="", zero="none"
    )
    number: str = setting(
        "In front of each of our lines: a pattern with {n}. A line with a number is never done twice.",
        default="",
        zero="none",
    )
    done: str = setting("Pattern of the line that ends a reply.")
    error: str = setting("Pattern of the line with which the board says no; {why} carries its words.")
    patience: str = setting("Pattern of the line that asks for patience.", default="", zero="none")
    again: str = setting(
        "Pattern of the line that asks for a line again, from {n} on where lines have numbers.", default="", zero="none"
    )
    waiting: int = setting(
        "How many lines may wait for their replies at once; more than 1 needs numbers, in replies too.",
        low=1,
        high=32,
        default=1,
    )
    reply_s: float = setting("Longest wait for a reply, each time.", unit="s", low=0.05, high=60, default=1.0)
    true: str = setting("Word for yes.", default="1")
    false: str = setting("Word for no.", default="0")
    sum: SumRules | None = None


class Greeting(Part):
    """What is asked first, and what says which board it is."""

    ask: str = setting("Line that asks who is there. It must be harmless for any board.")
    reply: str = setting(
        "Pattern of its reply: {board}, the kind of board ([names.board] where machine files name it otherwise), "
        "{firmware}, and {boot} where the board counts its starts."
    )
    start: str = setting(
        "Pattern of the line that the board says unasked when it has started.", default="", zero="none"
    )


class Halt(Part):
    """What stops everything at once."""

    byte: int = setting("A byte that halts wherever it stands, 1 to 31; 0: none.", low=0, high=31, default=0)
    line: str = setting("A line that halts, where no byte does.", default="", zero="none")
    overtakes: bool = setting("Whether it is done before the lines that wait.", default=True)


class Alive(Part):
    """Whether the board switches off by itself when nobody talks."""

    line: str = setting("Line that shows that we are here; left out, any line does.", default="", zero="any line")
    every_s: float = setting("How often it is sent.", unit="s", low=0.05, high=60, default=1.0)
    window_s: float = setting(
        "Silence after which the board switches everything off by itself.",
        unit="s",
        low=0,
        high=600,
        default=0.0,
        zero="it does not",
    )


class BoardGuards(Part):
    """Guards that the board keeps by itself: it switches off, whoever is linked. Ublet watches for those that it lacks,
    as long as it runs and the line holds.
    """

    over_maximum: bool = setting("Too hot, by the heater's maximum.", default=False)
    sensor_ends: bool = setting("A sensor that is open, shorted or colder than any room.", default=False)
    no_rise: bool = setting("A heater that does not get warmer at full power.", default=False)
    drift: bool = setting("A heater that leaves the target that it had reached.", default=False)


class Request(Part):
    """Lines that ask for one thing, and the line that answers before the reply ends."""

    send: str = setting("The line; several, one below the other.")
    reply: str = setting("Pattern of the answer's line.", default="", zero="only that it is done")


class Reading(Part):
    """Readings in a line, or several."""

    ask: str = setting("Line that asks for them.", default="", zero="they come unasked")
    line: str = setting("Pattern of a line of readings; {items} stands for a list of them.")
    item: str = setting("Pattern of one of {items}.", default="", zero="no list")
    between: str = setting("What separates {items}.", default=" ")


class SettingRule(Part):
    """A setting, or one of each part: {heater}, {axis} and so on stand for the part. An array goes row by row: {row}
    says which, from 0, {rows} how many there are (0: it is empty), and {value} has the row's numbers with commas.
    """

    path: str = setting("Our path, for example heaters.{heater}.kp.")
    read: str = setting("Line that asks for the live value.")
    reply: str = setting("Pattern of its answer, with {value}.")
    write: str = setting("Line that changes the live value, with {value}.", default="", zero="it cannot be changed")
    stored: str = setting("Line that asks for the stored value; its answer looks alike.", default="", zero="none")
    way: Literal["as it is", "inverted", "power of two"] = setting(
        "How the board has the value: as it is; yes for no; as the power of two.", default="as it is"
    )


class Layers(Part):
    """Where the board keeps settings."""

    store: str = setting("Line that stores all live settings.", default="", zero="the board has no store")


class DialectFile(Part):
    """One line language."""

    name: Name = setting("Name of the language.")
    about: str = setting("Whose language it is, in a line.")
    note: str = setting("Anything worth knowing.", default="")
    line: LineRules
    greeting: Greeting
    halt: Halt
    alive: Alive
    layers: Layers = Layers(store="")
    guards: BoardGuards = BoardGuards()
    requests: dict[Name, Request]
    readings: dict[Name, Reading]
    settings: dict[Name, SettingRule] = setting("Settings that the board has.", default={})
    names: dict[Name, dict[str, str]] = setting("Names of parts: ours, and the board's.", default={})

    @classmethod
    def declared(cls) -> Known:
        """Every key of a dialect file."""
        return _keys()


@cache
def _keys() -> Known:
    return Known(declarations(DialectFile))
