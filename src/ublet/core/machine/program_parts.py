"""How programs of motion are written as an ISO 6983 text, for machines that read these."""

from __future__ import annotations

from ublet.core.settings import Part, setting


class ProgramText(Part):
    """Words for what the standard has none for; what is left out becomes a comment."""

    filament: str = setting("Letter under which filament is counted, mm; empty: none.", default="E")
    begin: str = setting("Lines before everything else.", default="")
    warm: str = setting("Lines that wait for a heater; {heater} is its name.", default="")
    acceleration: str = setting("Line that sets the acceleration of what follows; {mm_s2} is the number.", default="")
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

    def own(self) -> dict[str, str]:
        """The words by what they are for."""
        return {str(key): str(value) for key, value in self.model_dump().items()}
