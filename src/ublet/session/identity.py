"""Whether the board at the end of the link is the one that a machine file is for."""

from __future__ import annotations

from dataclasses import dataclass

from ublet.core.machine.schema import MachineFile
from ublet.link.replies import Hello, RunningImage

SAME = "same machine"
"""The ledger's kind of the builder's word that a board under another name is this machine's."""


@dataclass(frozen=True)
class Foreign:
    """What differs between file and board, in a sentence with the ways out; renamed: only the machine's name does, and
    the builder can say that it is the same one.
    """

    words: str
    board_name: str
    file_name: str
    renamed: bool


def foreign_to(machine: MachineFile, file: str, about: Hello | None, image: RunningImage | None) -> Foreign | None:
    """What makes a board another one than the file is for; None: nothing, or there is no board."""
    if about is None or image is None:
        return None
    if about.board != machine.board.model:
        words = (
            f"this board is of the kind {about.board}, and {file} is for a {machine.board.model}: open the file of "
            "this machine, or put the right kind into [board] model"
        )
        return Foreign(words, about.board, machine.board.model, False)
    if image.machine and image.machine != machine.machine.name:
        words = (
            f"the board runs the image of “{image.machine}”, and {file} is for “{machine.machine.name}”: open the "
            "other file, write this file's image to the board, or say that it is the same machine"
        )
        return Foreign(words, image.machine, machine.machine.name, True)
    return None
