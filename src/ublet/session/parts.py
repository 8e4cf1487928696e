"""Files of parts: shipped ones, the builder's own, those beside a machine file; taken over, and held against it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from ublet.core.facts import FACTS, Fact
from ublet.core.machine.part_files import FITS, NUMBERS_FROM, PartFile, PartFileError, part_from
from ublet.core.settings import Value
from ublet.ledger.book import Ledger
from ublet.session.document import DocumentError, read_text
from ublet.session.draft import Draft
from ublet.session.library import DATA, own_folder
from ublet.session.saving import now

FOLDERS = ("parts", "mounts")


@dataclass(frozen=True)
class KnownPart:
    """A part and the file that describes it."""

    path: Path
    part: PartFile

    @property
    def words(self) -> str:
        """Its numbers and where they come from, in a line."""
        uncertain = self.part.uncertain
        shown = ", ".join(
            f"{key.rpartition('.')[2]} {value}{f' ±{uncertain[key]:g}' if key in uncertain else ''}"
            for key, value in self.part.settings.items()
            if not isinstance(value, str)
        )
        return f"{shown} ({self.part.source})" if self.part.source else shown


@dataclass(frozen=True)
class Parts:
    """All parts by their files' names, and what is wrong with files that cannot be used, a sentence each."""

    known: Mapping[str, KnownPart]
    broken: tuple[str, ...]

    def named(self, name: str) -> KnownPart | None:
        """A part by its file's name or its own."""
        return self.known.get(name) or next((one for one in self.known.values() if one.part.name == name), None)

    def fitting(self, table: str) -> tuple[KnownPart, ...]:
        """Those that a table of a machine file takes."""
        return tuple(one for one in self.known.values() if one.part.fits(table))


def parts_for(folder: Path) -> Parts:
    """The shipped parts, those in your data folder, those beside a machine file: the nearer one counts where two files
    have one name. Two in one place that are called the same are both left out: nobody knows which is meant.
    """
    known: dict[str, KnownPart] = {}
    broken: list[str] = []
    for place in [place / name for place in (DATA, own_folder(), folder) for name in FOLDERS]:
        here: dict[str, list[KnownPart]] = {}
        for path in sorted(place.glob("*.toml")) if place.is_dir() else ():
            try:
                here.setdefault((one := KnownPart(path, part_from(read_text(path)))).part.name, []).append(one)
            except (PartFileError, DocumentError) as error:
                broken.append(f"{path}: {str(error).removeprefix(f'{path} ')}; mend or remove it.")
        for name, same in here.items():
            if len(same) > 1:
                files = " and ".join(str(one.path) for one in same)
                broken.append(f"{files} are both called “{name}”: give one another name.")
                continue
            known = {stem: one for stem, one in known.items() if one.part.name != name}
            known[same[0].path.stem] = same[0]
    return Parts(known, tuple(broken))


def take_part(draft: Draft, one: KnownPart, table: str) -> dict[str, Value]:
    """Take a part over into a draft; returns what it changes, by path.

    Raises:
        PartFileError: it is for another table, or there is no such table.
    """
    if not one.part.fits(table):
        tables = " or ".join(f"[{pattern}]" for pattern in FITS[one.part.of])
        raise PartFileError(f"“{one.part.name}” is a part for {tables}, not for [{table}]")
    if not any(path.startswith(f"{table}.") for path in draft.document.values) and not draft.given(f"{table}.socket"):
        raise PartFileError(f"there is no table [{table}] in the machine file: add it first")
    edits = one.part.edits(table)
    draft.set_all(edits)
    return edits


def happened(paths: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """What must have happened at the machine when these settings of its file changed: kinds and subjects of facts."""
    facts: dict[tuple[str, str], None] = {}
    for path in paths:
        words = path.split(".")
        if path.startswith("probe.part."):
            facts["probe", ""] = None
        elif words[-1] == NUMBERS_FROM and words[0] in ("sensors", "heaters"):
            facts[words[0].removesuffix("s"), words[1]] = None
    return tuple(facts)


def report_happened(ledger: Ledger, paths: Iterable[str]) -> None:
    """Enter that as facts: what rests on the former part is stale."""
    for kind, subject in happened(paths):
        ledger.report_fact(Fact(kind, subject, FACTS[kind].said, now()))
