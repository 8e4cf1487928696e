"""Parts that builders buy (sensors, hotends, drives, motors, mounts) as small files: numbers, and where they come from.

A file names what kind of part it is and gives settings of the table that takes it:

    [part]
    of = "sensor"
    name = "glass bead, beta 3950"
    source = "typical of its kind"

    [settings]
    kind = "beta"
    r25_ohm = 100000
    beta_k = 3950
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ublet.core.machine.check import parse_toml
from ublet.core.machine.compare import same
from ublet.core.machine.lines import line_of
from ublet.core.machine.problem import KeyLines, Problem
from ublet.core.machine.schema import SETTINGS
from ublet.core.settings import Value, flatten, refusal
from ublet.core.typed import shown_value

FITS: Mapping[str, tuple[str, ...]] = {
    "sensor": ("sensors.*",),
    "hotend": ("heaters.*",),
    "axis drive": ("axes.*",),
    "extruder drive": ("extruder",),
    "motor": ("axes.*.motors.*", "extruder.motor"),
    "probe mount": ("probe",),
}
"""The tables of a machine file that take a part, by its kind."""

NUMBERS_FROM = "numbers_from"
"""The setting of a table that names the part whose numbers it has."""

LONGEST_NAME = 60


class PartFileError(Exception):
    """A file of a part cannot be used; the message says what and how to mend it."""


@dataclass(frozen=True)
class PartFile:
    """A part. settings: by their paths below the table that takes it; uncertain: how far each may be off, either
    way.
    """

    of: str
    name: str
    source: str
    settings: Mapping[str, Value]
    uncertain: Mapping[str, float] = field(default_factory=dict)

    def fits(self, table: str) -> bool:
        """Whether a table of a machine file takes it."""
        return any(_matches(pattern, table) for pattern in FITS[self.of])

    def edits(self, table: str) -> dict[str, Value]:
        """What taking it changes in a machine file: its numbers, and whose they are."""
        named = {} if self.of == "probe mount" else {f"{table}.{NUMBERS_FROM}": self.name}
        return {**{f"{table}.{key}": value for key, value in self.settings.items()}, **named}

    def differences(self, table: str, values: Mapping[str, Value]) -> dict[str, tuple[str, str]]:
        """Where a machine file says something else than this part, beyond what it may be off: what it says and what the
        part says, by path.
        """
        differing: dict[str, tuple[str, str]] = {}
        for key, value in self.settings.items():
            now = values.get(f"{table}.{key}")
            off = self.uncertain.get(key, 0.0)
            near = isinstance(now, (int, float)) and isinstance(value, (int, float)) and abs(now - value) <= off
            if not near and not same(now, value):
                differing[f"{table}.{key}"] = (shown_value(now), shown_value(value))
        return differing


def part_problems(values: Mapping[str, Value], parts: Mapping[str, PartFile], lines: KeyLines) -> list[Problem]:
    """Where a machine file names a part whose numbers it does not have, or one that nobody knows: a warning each.

    values: of the machine file, by path. parts: by their names. lines: where the file says what.
    """

    def warning(path: str, found: str, allowed: str, mend: str) -> Problem:
        return Problem(line_of(lines, tuple(path.split("."))), path, found, allowed, mend, "warning")

    problems: list[Problem] = []
    for path, name in values.items():
        table, _, key = path.rpartition(".")
        if key != NUMBERS_FROM or not isinstance(name, str) or not name:
            continue
        part = parts.get(name)
        if part is None:
            known = ", ".join(sorted(one.name for one in parts.values() if one.fits(table))) or "none that fits"
            problems.append(warning(path, f"“{name}”, which no file describes", known, "Empty it, or add its file."))
        elif not part.fits(table):
            problems.append(
                warning(path, f"“{name}”, a part of the kind {part.of}", "one that goes there", "Empty it.")
            )
        else:
            for at, (says, wanted) in part.differences(table, values).items():
                mend = f"Take the part anew, or empty {path}: the numbers are your own then."
                problems.append(warning(at, says, f"{wanted}, by the part “{name}”", mend))
    return problems


def _matches(pattern: str, table: str) -> bool:
    words, other = pattern.split("."), table.split(".")
    return len(words) == len(other) and all(a in ("*", b) for a, b in zip(words, other, strict=True))


def part_from(text: str) -> PartFile:
    """A part's file.

    Raises:
        PartFileError: it is none, or says what no such part can.
    """
    tree, broken = parse_toml(text)
    if broken is not None:
        raise PartFileError(broken.sentence("it"))
    if "part" not in tree and isinstance(tree.get("probe"), Mapping):
        return _mount(tree)
    about = tree.get("part")
    if not isinstance(about, Mapping):
        raise PartFileError("no table [part]: write of, name and source there")
    kind, name, source = (about.get(key, "") for key in ("of", "name", "source"))
    if kind not in FITS:
        raise PartFileError(f"part.of: found {kind!r}, allowed: {', '.join(FITS)}")
    if not isinstance(name, str) or not 0 < len(name.strip()) <= LONGEST_NAME or not name.isprintable():
        raise PartFileError(f"part.name: found {name!r}, allowed: a name of 1 to {LONGEST_NAME} letters")
    if not isinstance(source, str):
        raise PartFileError(f"part.source: found {source!r}, allowed: text that says where its numbers come from")
    settings = flatten(given if isinstance(given := tree.get("settings"), Mapping) else {})
    if not settings:
        raise PartFileError("no numbers: give at least one key in [settings]")
    for key, value in settings.items():
        _must_be_a_parts(str(kind), key, value)
    uncertain = tree.get("uncertain", {})
    if not isinstance(uncertain, Mapping):
        raise PartFileError("uncertain: found no table, allowed: [uncertain] with numbers of [settings]")
    flat = flatten(uncertain)
    for key, off in flat.items():
        if key not in settings or isinstance(off, bool) or not isinstance(off, (int, float)) or not 0 <= off < 1e9:
            raise PartFileError(f"uncertain.{key}: found {off!r}, allowed: how far a number of [settings] may be off")
    offs = {key: float(off) for key, off in flat.items() if isinstance(off, (int, float))}
    return PartFile(str(kind), name.strip(), source.strip(), settings, offs)


def _must_be_a_parts(kind: str, key: str, value: Value) -> None:
    """A part says what it is, not where it is plugged or what it is called.

    Raises:
        PartFileError: this one does.
    """
    for pattern in FITS[kind]:
        root = pattern.replace("*", "x", 1) if pattern.startswith("axes") else pattern
        path = f"{root.replace('*', 'name')}.{key}"
        declared = SETTINGS.find(path)
        if declared is None:
            continue
        if declared.socket or declared.part or declared.shape:
            raise PartFileError(f"settings.{key}: that is where it sits in a machine, which no part knows: remove it")
        if (why := refusal(SETTINGS, path, value)) is not None:
            raise PartFileError(f"settings.{key}:{why.partition(':')[2]}")
        return
    tables = " or ".join(f"[{pattern}]" for pattern in FITS[kind])
    raise PartFileError(f"settings.{key}: found a key that {tables} does not have: look it up in the reference")


MOUNT_MM = 1.0
"""A mount's numbers are right within this, mm: nobody mounts better."""

OFFSET_FROM = "offset_from"


def _mount(tree: Mapping[str, Any]) -> PartFile:
    """A probe's mount: a file with a table [probe.part]. Its offset counts as the probe's until that is measured.

    Raises:
        PartFileError: a number is missing.
    """
    part = tree["probe"].get("part")
    if not isinstance(part, Mapping):
        raise PartFileError("no table [probe.part]: write name, offset_x_mm and offset_y_mm there")
    try:
        name, x, y = str(part["name"]), float(part["offset_x_mm"]), float(part["offset_y_mm"])
    except KeyError as error:
        raise PartFileError(f"no {error} in its table [probe.part]") from error
    except (TypeError, ValueError) as error:
        raise PartFileError(f"probe.part: found what is no number ({error})") from error
    for key, mm in (("offset_x_mm", x), ("offset_y_mm", y)):
        if (why := refusal(SETTINGS, f"probe.part.{key}", mm)) is not None:
            raise PartFileError(why)
    settings: dict[str, Value] = {
        "part.name": name,
        "part.offset_x_mm": x,
        "part.offset_y_mm": y,
        "offset_x_mm": x,
        "offset_y_mm": y,
        OFFSET_FROM: "part",
    }
    return PartFile(
        "probe mount", name, "its maker's sheet", settings, {"offset_x_mm": MOUNT_MM, "offset_y_mm": MOUNT_MM}
    )
