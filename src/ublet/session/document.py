"""The machine file on disk: read, checked, changed with its comments kept, written atomically."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path

from ublet.core.machine.boards import BoardKind, Boards
from ublet.core.machine.check import CheckResult, check_text
from ublet.core.machine.edit import EditError, edited
from ublet.core.machine.effective import effective
from ublet.core.machine.image import Image, build_image
from ublet.core.machine.lines import key_lines
from ublet.core.machine.modules import ModulePlan
from ublet.core.machine.part_files import NUMBERS_FROM, part_problems
from ublet.core.machine.problem import KeyLines, Problem
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.core.trouble import Trouble
from ublet.session.library import boards, boards_for
from ublet.session.picture import start_picture


class DocumentError(Trouble):
    """The machine file cannot be used; the message holds a sentence for each problem."""


class Faulty(DocumentError):
    """The machine file can be read, and has errors: its text and what is wrong with it."""

    def __init__(self, path: Path, text: str, problems: tuple[Problem, ...]) -> None:
        super().__init__("\n".join(problem.sentence(str(path)) for problem in problems))
        self.path, self.text, self.problems = path, text, problems


def read_text(path: Path) -> str:
    """A file's text.

    Raises:
        DocumentError: missing, not readable, or not UTF-8.
    """
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:  # a byte order mark is no part of the text
            return file.read()
    except FileNotFoundError as error:
        raise DocumentError(f"{path} is not there: check the name, or start one with ublet new.") from error
    except UnicodeDecodeError as error:
        raise DocumentError(
            f"{path} is not UTF-8 text (byte {error.start}): save it as UTF-8 in your editor."
        ) from error
    except OSError as error:
        raise DocumentError(f"{path} cannot be read: {error.strerror or error}.") from error


def with_parts(checked: CheckResult, text: str, folder: Path) -> CheckResult:
    """The same, and where the file contradicts the parts whose numbers it says to have."""
    if checked.machine is None or NUMBERS_FROM not in text:
        return checked
    from ublet.session.parts import parts_for

    parts = {one.part.name: one.part for one in parts_for(folder).known.values()}
    problems = part_problems(effective(checked.machine), parts, key_lines(text))
    both = sorted((*checked.problems, *problems), key=lambda problem: (problem.line, problem.key))
    return CheckResult(checked.machine, tuple(both))


@lru_cache(maxsize=8)
def _check_shipped(text: str) -> CheckResult:
    """What there is to say of a text where no boards but the shipped ones are known. A run opens the same few files
    several times: what was said last is remembered, and cannot change.
    """
    return check_text(text, boards())


class Document:
    """One machine file: ``machine`` is what it declares, ``text`` what stands on disk, ``checked`` what there is to say
    of that, ``boards`` those known.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.boards: Boards = boards_for(path.parent)
        self._lines: tuple[str, KeyLines] | None = None
        self._image: tuple[str, bytes, Image, ModulePlan] | None = None
        self.take(read_text(path))

    def take(self, text: str) -> None:
        """The file on disk is now this text.

        Raises:
            DocumentError: it is no machine file; what was taken before stays.
        """
        self.checked, self.machine = self._checked(text)
        self.text = text
        self.values = effective(self.machine)

    def image(self) -> tuple[Image, ModulePlan]:
        """The image built from the file; built once for each text and picture.

        Raises:
            ImageError, PictureError: it cannot be built.
        """
        picture = start_picture(self.path, self.machine)
        if self._image is None or self._image[:2] != (self.text, picture):
            self._image = (self.text, picture, *build_image(self.machine, self.board, picture))
        return self._image[2:]

    @property
    def board(self) -> BoardKind:
        """The machine's kind of board."""
        return self.boards[self.machine.board.model]

    def check(self, text: str) -> CheckResult:
        """All that there is to say of a text: by the schema and the board, and by the parts that it names."""
        checked = _check_shipped(text) if self.boards is boards() else check_text(text, self.boards)
        return with_parts(checked, text, self.path.parent)

    def _checked(self, text: str) -> tuple[CheckResult, MachineFile]:
        checked = self.check(text)
        if checked.errors or checked.machine is None:
            raise Faulty(self.path, text, checked.errors)
        return checked, checked.machine

    def line(self, path: str) -> int | None:
        """The line that gives a setting; None where the file does not."""
        if self._lines is None or self._lines[0] != self.text:
            self._lines = (self.text, key_lines(self.text))
        return self._lines[1].get(tuple(path.split(".")))

    def value(self, path: str) -> Value:
        """What the file says of a setting (what follows when it is silent); None when it has no such part."""
        return self.values.get(path)

    def changed_on_disk(self) -> bool:
        """Whether another program changed the file since it was read here."""
        try:
            return read_text(self.path) != self.text
        except DocumentError:
            return True

    def with_values(self, values: Mapping[str, Value]) -> str:
        """The text with some settings changed; comments, order and line ends stay.

        Raises:
            DocumentError: the result would not be a valid machine file.
        """
        try:
            text = edited(self.text, values)
        except EditError as error:
            raise DocumentError(f"{self.path}: {error}") from error
        self._checked(text)
        return text
