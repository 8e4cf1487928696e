"""The image that is written to a board: CBOR (RFC 8949) with the settings and the modules' bytes, and its digest."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ublet.core.machine.boards import BoardKind
from ublet.core.machine.effective import board_settings
from ublet.core.machine.modules import ModulePlan, plan_modules
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value, frozen
from ublet.core.trouble import Trouble

FORMAT, FORMAT_VERSION = "ublet-image", 1
FIRMWARE = (1, 1, 0)
"""Version of the firmware whose modules this program builds images from."""


class ImageError(Trouble):
    """An image cannot be built, or bytes are no image; the message says why."""


@dataclass(frozen=True)
class Head:
    """What an image says of itself."""

    board: str
    firmware: tuple[int, ...]
    machine: str

    @property
    def version(self) -> str:
        """The firmware's version as text."""
        return ".".join(str(part) for part in self.firmware)


@dataclass(frozen=True)
class Image:
    """A built image: its bytes, and the SHA-256 digest by which a board is checked."""

    head: Head
    settings: Mapping[str, Value]
    modules: tuple[str, ...]
    data: bytes

    @property
    def digest(self) -> str:
        """SHA-256 of all bytes, in hex."""
        import hashlib

        return hashlib.sha256(self.data).hexdigest()


def module_body(board: str, name: str, size: int) -> bytes:
    """The bytes of a module. There is no compiled code behind the simulated boards: a stream that only name, board
    and version decide stands in for it (SHAKE-256), as incompressible as code at its worst."""
    import hashlib

    seed = f"{board} {name} {'.'.join(map(str, FIRMWARE))}"
    return hashlib.shake_256(seed.encode()).digest(size)


def encode_image(
    head: Head, settings: Mapping[str, Value], modules: Mapping[str, bytes], picture: bytes = b""
) -> bytes:
    """The image's bytes: one CBOR map in canonical form, the same for the same content."""
    import cbor2

    return cbor2.dumps(
        {
            "format": FORMAT,
            "format_version": FORMAT_VERSION,
            "board": head.board,
            "firmware": list(head.firmware),
            "machine": head.machine,
            "settings": [[path, value] for path, value in settings.items()],
            "modules": dict(modules),
            "picture": picture,
        },
        canonical=True,
    )


def build_image(machine: MachineFile, board: BoardKind, picture: bytes = b"") -> tuple[Image, ModulePlan]:
    """Build the image of a machine for its board; whether it fits is in the plan.

    Raises:
        ImageError: a module that the machine needs is not made for this board.
    """
    settings = board_settings(machine)
    head = Head(board.name, FIRMWARE, machine.machine.name)
    plan = module_plan(machine, board, picture)
    if plan.unknown:
        raise ImageError(
            f"{board.name} has no module “{', '.join(plan.unknown)}”, which this machine needs: choose another board, "
            "or leave out what needs it."
        )
    included = [module for module in plan.modules if module.included]
    bodies = {module.name: module_body(board.name, module.name, module.bytes) for module in included}
    data = encode_image(head, settings, bodies, picture)
    return Image(head, settings, tuple(bodies), data), plan


def module_plan(machine: MachineFile, board: BoardKind, picture: bytes = b"") -> ModulePlan:
    """What the image would take, without building it: module bodies, and everything else to the byte."""
    included = [m.name for m in plan_modules(machine, board, 0).modules if m.included]
    head = Head(board.name, FIRMWARE, machine.machine.name)
    empty = encode_image(head, board_settings(machine), dict.fromkeys(included, b""), picture)
    lengths = sum(_length_bytes(board.modules[name].bytes) - 1 for name in included)
    return plan_modules(machine, board, len(empty) + lengths)


def _length_bytes(size: int) -> int:
    """Bytes of the head of a CBOR byte string of that size (RFC 8949, section 3)."""
    return 1 if size < 24 else 2 if size < 1 << 8 else 3 if size < 1 << 16 else 5


def decode_image(data: bytes) -> Image:
    """Read an image's bytes.

    Raises:
        ImageError: they are no image, or one of another format.
    """
    import cbor2

    try:
        tree: Any = cbor2.loads(data)
    except Exception as error:  # a decoder of untrusted bytes: whatever it raises means the same here
        raise ImageError("these bytes are no image ") from error
    if not isinstance(tree, dict) or tree.get("format") != FORMAT or tree.get("format_version") != FORMAT_VERSION:
        raise ImageError(f"these bytes are no image of format {FORMAT} {FORMAT_VERSION}")
    try:
        firmware = tuple(int(part) for part in tree["firmware"])
        head = Head(str(tree["board"]), firmware, str(tree["machine"]))
        settings = {str(path): frozen(value) for path, value in tree["settings"]}
        return Image(head, settings, tuple(tree["modules"]), data)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise ImageError(f"the image is not complete ({error})") from error


def version_of(text: str) -> tuple[int, ...]:
    """A version such as ``1.1.0`` as numbers; whatever is no number counts as 0."""
    return tuple(int(part) if part.isdigit() else 0 for part in text.split("."))


def why_not(running: Head, offered: Head) -> str | None:
    """Why a board refuses an image, or None: made for another board, or older than what runs."""
    if offered.board != running.board:
        return f"the image is made for {offered.board}, this board is {running.board}: build one for {running.board}"
    if offered.firmware < running.firmware:
        return (
            f"the image holds firmware {offered.version}, older than {running.version}, which runs on the board: "
            "its stored values may mean something else there. Update Ublet, then build again"
        )
    return None
