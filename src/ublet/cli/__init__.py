"""The command line: thin commands over the session."""

from ublet.cli import analyse, board, conform, dialect, export, machine, opening, pattern, printing, record, trials
from ublet.cli.base import app

__all__ = [
    "analyse",
    "app",
    "board",
    "conform",
    "dialect",
    "export",
    "machine",
    "opening",
    "pattern",
    "printing",
    "record",
    "trials",
]
