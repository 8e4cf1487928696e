"""How programs of motion are written as an ISO 6983 text, for machines that read these."""

from __future__ import annotations

from ublet.core.settings import Part, setting


class ProgramText(Part):
    """Words for what the standard has none for; what is left out becomes a comment."""

    filament: str = setting("Letter under which filament is counted, mm; empty: none.", default="E")
    begin: str = setting("Lines before everything else.", default="")
    warm: str = setting("Lines that wait for a heater; {heater} is its name.", default="")
    end: str = setting("Lines after everything else.", default="")

    def own(self) -> dict[str, str]:
        """The words by what they are for."""
        return {str(key): str(value) for key, value in self.model_dump().items()}
