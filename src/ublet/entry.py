"""The ``ublet`` command's entry: the commonest forms run without the command line's imports."""

from __future__ import annotations

import sys
from collections.abc import Callable

FAULT = 70
Words = list[str]


def main() -> None:
    """Run the command. A fault of ours ends with one sentence, too; the board's dead-man sees to the heat.

    ``open FILE [--port URL]`` goes straight to the app, and ``check FILE [--json]`` to the check: importing the
    command line first would take longer than the check itself.
    """
    try:
        words = sys.argv[1:]
        straight = _straight(words)
        if straight is not None:
            straight(words)
        else:
            from ublet.cli import app

            app()
    except Exception as error:
        from ublet.session.crash import crash_sentence

        print(crash_sentence(error), file=sys.stderr)
        raise SystemExit(FAULT) from None


def _straight(words: Words) -> Callable[[Words], None] | None:
    """What can run without the command line for these words, if they have one of the plain forms."""
    if len(words) in (2, 4) and words[0] == "open" and (words[2:3] or ["--port"]) == ["--port"]:
        return None if any(word.startswith("-") for word in words[1::2]) else _open
    if len(words) in (2, 3) and words[0] == "check" and words[2:] in ([], ["--json"]) and not words[1].startswith("-"):
        return _check
    return None


def _open(words: Words) -> None:
    from pathlib import Path

    from ublet.tui.app import run_app

    run_app(Path(words[1]), words[3] if len(words) == 4 else None)


def _check(words: Words) -> None:
    import gc
    import os
    from pathlib import Path

    gc.disable()  # everything made here is needed until the end
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # looking for plugins reads every installed package

    from ublet.core.trouble import Trouble
    from ublet.session.checking import check_report

    try:
        text, good = check_report(Path(words[1]), len(words) == 3)
    except Trouble as error:
        print(f"ublet: {error}", file=sys.stderr)
        raise SystemExit(error.exit_code) from None
    print(text)
    raise SystemExit(0 if good else 1)
