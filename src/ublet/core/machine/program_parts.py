"""How programs of motion are written as an ISO 6983 text, for machines that read these."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.settings import Name, Part, setting


class ProgramWord(Part):
    """A word of your own programs that the standard does not have, and what it does."""

    begins: str = setting("How a line with it begins, for example a letter with a number.")
    does: Literal[
        "nozzle",
        "nozzle and wait",
        "bed",
        "bed and wait",
        "fan",
        "print start",
        "print end",
        "filament from zero",
        "filament from the last",
        "nothing",
    ] = setting(
        "What it does: a temperature, with or without waiting; the part fan; where the print begins or ends; how "
        "filament is counted from there; or nothing."
    )
    letter: str = setting("Letter of its number.", default="S")
    factor: float = setting(
        "What its number is multiplied by; a fan's duty goes from 0 to 1.", low=1e-6, high=1e6, default=1.0
    )


class ProgramText(Part):
    """Words for what the standard has none for; what is left out becomes a comment."""

    filament: str = setting("Letter under which filament is counted, mm; empty: none.", default="E")
    begin: str = setting("Lines before everything else.", default="")
    warm: str = setting("Lines that wait for a heater; {heater} is its name.", default="")
    acceleration: str = setting("Line that sets the acceleration of what follows; {mm_s2} is the number.", default="")
    advance: str = setting("Line that sets the pressure advance of what follows; {seconds} is the number.", default="")
    end: str = setting("Lines after everything else.", default="")
    start_file: str = setting(
        "Program that you begin a print with, beside this file; it is looked through.", default=""
    )
    end_file: str = setting("Program that you end a print with.", default="")
    bed: str = setting("Your line that heats the bed and waits.", default="")
    soak: str = setting("Your line that lets the bed soak.", default="")
    tip: str = setting("Your line that warms the nozzle before Z homes.", default="")
    home: str = setting("Your line that homes.", default="")
    lifts: str = setting("Your line that squares the lead screws.", default="")
    mesh: str = setting("Your line that loads the mesh.", default="")
    nozzle: str = setting("Your line that heats the nozzle and waits.", default="")
    purge: str = setting("Your line that purges.", default="")
    draw_back: str = setting("Your line that draws the filament back at the end.", default="")
    off: str = setting("Your line that switches the heaters off.", default="")
    park: str = setting("Your line that parks the nozzle.", default="")

    filament_counts: Literal["as the axes", "from zero", "from the last"] = setting(
        "How your programs count filament before one of their words says so: as G90 and G91 say for the axes, always "
        "from zero, or from where it stands.",
        default="as the axes",
    )
    dwell_unit_s: float = setting(
        "What one unit of a dwell (G4 P) is; 0.001 where your programs count milliseconds.",
        unit="s",
        low=0.001,
        high=60,
        default=1.0,
    )
    words: dict[Name, ProgramWord] = Field(default_factory=dict)

    def own(self) -> dict[str, str]:
        """The words by what they are for."""
        return {str(key): str(value) for key, value in self.model_dump(exclude={"words"}).items()}
