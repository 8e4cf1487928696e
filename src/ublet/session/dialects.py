"""Dialect files: those that ship, your own in the data folder, those beside a machine file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from ublet.core.dialect.framing import LineCutter
from ublet.core.dialect.language import Language, check_dialect
from ublet.core.machine.problem import Problem, short
from ublet.session.document import DocumentError, read_text
from ublet.session.library import DATA, own_folder

FOLDER = "dialects"


class DialectError(DocumentError):
    """A dialect cannot be used; the message holds a sentence for each problem."""


@dataclass(frozen=True)
class KnownDialect:
    """A dialect file that was looked at: its language, or what is wrong with it."""

    path: Path
    language: Language | None
    problems: tuple[Problem, ...]

    @property
    def sentences(self) -> str:
        """What is wrong, a line each."""
        return "\n".join(problem.sentence(str(self.path)) for problem in self.problems)


def looked_at(path: Path) -> KnownDialect:
    """A dialect file with all its problems.

    Raises:
        DocumentError: it cannot be read.
    """
    return KnownDialect(path, *check_dialect(read_text(path)))


def dialects_for(folder: Path) -> Mapping[str, KnownDialect]:
    """All dialect files by their stems; one nearer to the machine file counts before one that ships."""
    known: dict[str, KnownDialect] = {}
    for place in (DATA, own_folder(), folder):
        directory = place / FOLDER
        for path in sorted(directory.glob("*.toml")) if directory.is_dir() else ():
            known[path.stem] = looked_at(path)
    return known


def dialect_named(name: str, folder: Path) -> Language:
    """A dialect by its file, or by the name of a known one.

    Raises:
        DialectError: there is none, or it cannot be used. DocumentError: it cannot be read.
    """
    path = Path(name)
    if path.suffix == ".toml" or path.exists():
        one = looked_at(path)
    else:
        known = dialects_for(folder)
        if name not in known:
            raise DialectError(f"dialect “{name}”: no such file, and no known dialect; known: {', '.join(known)}")
        one = known[name]
    if one.language is None:
        raise DialectError(one.sentences)
    return one.language


def likely_words(came: bytes, folder: Path, spoken: str) -> str:
    """Which known language may have said these bytes, as a sentence that names what matched; empty: none. spoken: the
    one that was spoken to it; empty: the protocol.
    """
    if spoken and b'"jsonrpc"' in came:
        return "It speaks Ublet's own protocol: open it without a dialect."
    matched: list[tuple[int, str, str, str]] = []
    for name, one in dialects_for(folder).items():
        language = one.language
        if language is None or language.file.name == spoken:
            continue
        lines = [language.framing.read_board(raw) for raw in LineCutter(language.file.line.longest).feed(came + b"\n")]
        read = [(line.text, key) for line in lines if line and (key := language.meaning(line.text, of_host=False))]
        if read:
            matched.append((len(read), name, *read[0]))
    if not matched:
        return ""
    words = [f"{name} (“{short(text)}” is its {key})" for _, name, text, key in sorted(matched, reverse=True)]
    return f"It may speak {', or '.join(words)}: name it with --dialect, or in the machine file, [board] dialect."
