"""The command line: thin commands over the session."""

from ublet.cli import board, machine, opening, trials
from ublet.cli.base import app

__all__ = ["app", "board", "machine", "opening", "trials"]
