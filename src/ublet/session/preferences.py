"""What the builder prefers: kept in a commented TOML file in the configuration folder, to be edited here or by hand."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

import tomlkit
from pydantic import ValidationError
from tomlkit.exceptions import TOMLKitError

from ublet.core.settings import Part, Value, declarations, setting
from ublet.session.files import write_atomically

HEAD = """\
# What you prefer in Ublet. Made by the app, and yours to edit: it is read when the app starts, and your comments stay.
"""


class Preferences(Part):
    """Preferences, and how the window was left."""

    theme: Literal["soot", "bone"] = setting("Colours of the app: soot is dark, bone is light.", default="soot")
    instrument: Literal["any", "rule", "callipers", "dial-gauge"] = setting(
        "The instrument at hand; trials that measure begin with it. any: as each trial says.", default="any"
    )
    length_unit: Literal["mm", "in", "thou"] = setting("What a length typed without a unit is meant in.", default="mm")
    sound: bool = setting("The terminal's bell when something is asked, ends, or halts.", default=False)
    confirm_starts: bool = setting("A start that heats or moves is asked twice.", default=False)
    ask_unmet: bool = setting(
        "A start is asked about while something that it stands on does not hold; else it starts, and the run notes it.",
        default=True,
    )
    confirm_quit: bool = setting("Quitting is always asked, not only when something would be lost.", default=False)
    jog_step_mm: float = setting("The step of the jog keys.", unit="mm", low=0.01, high=100, default=10.0)
    ledger_view: Literal["everything", "runs", "changes", "facts"] = setting(
        "What the ledger lists first.", default="everything"
    )
    all_layers: bool = setting("The layers of every setting, not only those that differ.", default=False)


class Kept:
    """The preferences and their file (None: they are the usual ones, and not kept). One that cannot be read or written
    is reported as ``trouble``, and the app goes on without it.
    """

    def __init__(self, path: Path | None) -> None:
        self.path = path
        self.now = Preferences()
        self.trouble = ""
        if path is not None:
            self._read(path)

    def _read(self, path: Path) -> None:
        try:
            text = path.read_text(encoding="utf-8")
        except FileNotFoundError:
            return
        except (OSError, UnicodeDecodeError) as error:
            self.trouble = f"{path} cannot be read ({error}): the usual preferences are used."
            return
        try:
            known = dict(tomlkit.parse(text).unwrap())
        except TOMLKitError as error:
            self.trouble = f"{path}: {error}. The usual preferences are used until that is mended."
            return
        self.now, wrong = _taken(known)
        if wrong:
            self.trouble = f"{path}: {'; '.join(wrong)}. The usual value is used there."

    def change(self, **values: Value) -> None:
        """Change some, and write the file: only these keys, comments and whatever else stands there stay.

        Raises:
            ValidationError: a value that is not allowed.
        """
        new = Preferences.model_validate({**self.now.model_dump(), **values})
        if new == self.now:
            return
        self.now = new
        if self.path is not None:
            self._write(self.path, values)

    def _write(self, path: Path, values: Mapping[str, Value]) -> None:
        try:
            document = tomlkit.parse(path.read_text(encoding="utf-8")) if path.exists() else _commented(self.now)
            for key, value in values.items():
                document[key] = value
            path.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(path, tomlkit.dumps(document))
        except (OSError, UnicodeDecodeError, TOMLKitError) as error:
            self.trouble = f"The preference holds until you quit; {path} could not be written: {error}"
            logging.getLogger(__name__).warning("preferences not written: %s", error)


def _taken(known: dict[str, Any]) -> tuple[Preferences, list[str]]:
    """What can be taken of a file, and what is wrong with the rest, in words."""
    declared = {declaration.path: declaration for declaration in declarations(Preferences)}
    wrong: list[str] = []
    while True:
        try:
            return Preferences.model_validate(known), wrong
        except ValidationError as error:
            for key in {str(fault["loc"][0]) for fault in error.errors()}:
                raw = known.pop(key)
                allowed = declared[key].allowed() if key in declared else "no such preference"
                wrong.append(f"{key}: found {raw!r}; allowed: {allowed}")


def _commented(preferences: Preferences) -> tomlkit.TOMLDocument:
    """A new file: every preference with what it is for and what is allowed."""
    lines = [HEAD]
    values = preferences.model_dump()
    for declared in declarations(Preferences):
        lines.append(f"# {declared.help} Allowed: {declared.allowed()}.")
        lines.append(tomlkit.dumps({declared.path: values[declared.path]}))
    return tomlkit.parse("\n".join(lines))
