"""The ``ublet`` command's entry: the commonest form opens the app without the command line's imports."""

from __future__ import annotations

import sys

FAULT = 70


def main() -> None:
    """Run the command. A fault of ours ends with one sentence, too; the board's dead-man sees to the heat.

    ``open FILE [--port URL]`` goes straight to the app: importing the command line first would take a
    seventh of the time until the first screen.
    """
    try:
        words = sys.argv[1:]
        if len(words) in (2, 4) and words[0] == "open" and (words[2:3] or ["--port"]) == ["--port"]:
            straight = not any(word.startswith("-") for word in words[1::2])
        else:
            straight = False
        if straight:
            from pathlib import Path

            from ublet.tui.app import run_app

            run_app(Path(words[1]), words[3] if len(words) == 4 else None)
        else:
            from ublet.cli import app

            app()
    except Exception as error:
        from ublet.session.crash import crash_sentence

        print(crash_sentence(error), file=sys.stderr)
        raise SystemExit(FAULT) from None
