"""The ``ublet`` command's entry: the commonest forms run without the command line's imports."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import sys
from collections.abc import Callable

USAGE, FAULT = 2, 70
Words = list[str]


class Over(SystemExit):
    """The end of a command that has nothing to put away: its process need not take itself apart."""


def main() -> None:
    """The process: the command, and its end. Taking everything apart that a check has loaded is for nothing; leaving it
    saves 3 % of a check (`ublet bench --part check` has both beside a plain one).
    """
    try:
        command()
    except Over as over:
        with contextlib.suppress(OSError):
            sys.stderr.flush()
        os._exit(over.code if isinstance(over.code, int) else FAULT)


def command() -> None:
    """Run the command. A fault of ours ends with one sentence, too; the board's dead-man sees to the heat.

    ``open FILE [--port URL]`` goes straight to the app, and ``check FILE [--json]`` to the check: importing the
    command line first would take longer than the check itself.
    """
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")  # a terminal that knows no arrows shows ?, and the command goes on
    try:
        words = sys.argv[1:]
        straight = _straight(words)
        if straight is not None:
            straight(words)
        else:
            from ublet.cli import app

            _must_be_words(words)
            app()
    except SystemExit:
        _written()
        raise
    except OSError as error:
        if error.filename is not None or error.errno not in (errno.ENOSPC, errno.EPIPE, errno.EIO):
            raise SystemExit(_fault(error)) from None
        _unwritten(error)
    except Exception as error:
        raise SystemExit(_fault(error)) from None
    _written()


def _must_be_words(words: Words) -> None:
    """Options and the command are plain words: what parses them prints an unknown one just as it is."""
    from ublet.core.printable import is_printable, printable

    for number, word in enumerate(words):
        if (not number or word.startswith("-")) and not is_printable(word):
            print(f"ublet: no such command or option: {printable(word)}; see ublet --help", file=sys.stderr)
            raise SystemExit(USAGE)


def _fault(error: Exception) -> int:
    """A fault of ours, in a sentence."""
    from ublet.session.logbook import crash_sentence

    print(crash_sentence(error), file=sys.stderr)
    return FAULT


def _written() -> None:
    """See to it that what was printed has arrived; a full disk behind standard output is reported, a closed pipe is
    not.
    """
    try:
        sys.stdout.flush()
    except OSError as error:
        _unwritten(error)


def _unwritten(error: OSError) -> None:
    """What was printed could not be written: end, without a second try at the end of the interpreter."""
    with contextlib.suppress(OSError):
        sys.stdout.close()
    if error.errno != errno.EPIPE:
        print(f"ublet: standard output could not be written: {error.strerror}", file=sys.stderr)
    raise SystemExit(USAGE) from None


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
    from pathlib import Path

    gc.disable()  # everything made here is needed until the end; 6 % of a check (`ublet bench --part check`)
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # looking for plugins reads every installed package

    from ublet.core.printable import printable, printable_json
    from ublet.core.trouble import Trouble
    from ublet.session.checking import check_report

    try:
        text, good = check_report(Path(words[1]), len(words) == 3)
    except Trouble as error:
        print(printable(f"ublet: {error}", lines=True), file=sys.stderr)
        raise SystemExit(error.exit_code) from None
    print(printable_json(text) if len(words) == 3 else printable(text, lines=True))
    raise Over(0 if good else 1)
