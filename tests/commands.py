"""Commands run in the process of the tests."""

from __future__ import annotations

import gc
import io
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import pytest

from ublet.entry import command


def ublet(*words: str, home: Path | None = None, stdin: str = "") -> subprocess.CompletedProcess[str]:
    """Run a command with an empty home, in this process (a new one costs a second); a traceback is a failure.

    stdin: what is typed; it is no terminal.
    """
    where, out, err = str(home or "/nonexistent"), io.StringIO(), io.StringIO()
    with pytest.MonkeyPatch.context() as patch, redirect_stdout(out), redirect_stderr(err):
        patch.setattr(sys, "argv", ["ublet", *words])
        patch.setattr(sys, "stdin", io.StringIO(stdin))
        patch.setenv("XDG_STATE_HOME", where)
        patch.setenv("XDG_DATA_HOME", where)
        try:
            command()
            code = 0
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
        finally:
            gc.enable()  # the check leaves it off: its process ends
    assert "Traceback" not in err.getvalue(), err.getvalue()
    return subprocess.CompletedProcess(words, code, out.getvalue(), err.getvalue())
