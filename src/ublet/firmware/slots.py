"""The board's two image slots: one runs, the other takes an upload; nothing changes before the switch."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from pathlib import Path

from ublet.core.machine.effective import board_settings
from ublet.core.machine.image import Head, Image, ImageError, decode_image, encode_image, version_of, why_not
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.firmware.hardware import Hardware
from ublet.firmware.store import write_durably


class SlotRefused(Exception):
    """An upload is refused; the message says why. unbegun: the board knows of no upload, since it restarted."""

    def __init__(self, message: str, unbegun: bool = False) -> None:
        super().__init__(message)
        self.unbegun = unbegun


class Incoming:
    """An image on its way into the other slot."""

    def __init__(self, size: int, digest: str) -> None:
        self.size, self.digest = size, digest
        self.data = bytearray(size)
        self.have: list[tuple[int, int]] = []
        self.verified = False

    def put(self, offset: int, data: bytes) -> None:
        """Take a piece; the ranges that are there are kept joined."""
        end = offset + len(data)
        self.data[offset:end] = data
        joined: list[tuple[int, int]] = []
        for start, stop in sorted([*self.have, (offset, end)]):
            if joined and start <= joined[-1][1]:
                joined[-1] = (joined[-1][0], max(joined[-1][1], stop))
            else:
                joined.append((start, stop))
        self.have = joined
        self.verified = False

    def missing(self) -> int:
        """Bytes that are not there yet."""
        return self.size - sum(end - start for start, end in self.have)


class Slots:
    """Two slots of ``slot_bytes``. With a path they outlive the process: a switch replaces that file as a whole."""

    def __init__(self, factory: bytes, slot_bytes: int, path: Path | None = None) -> None:
        self.slot_bytes = slot_bytes
        self.path = path
        self.slots: dict[str, bytes] = {"A": factory, "B": b""}
        self.active = "A"
        self.incoming: Incoming | None = None
        if path is not None and path.exists():
            self._read(path)
        self.running: Image = decode_image(self.slots[self.active])

    @property
    def other(self) -> str:
        """The slot that does not run."""
        return "B" if self.active == "A" else "A"

    def begin(self, size: int, digest: str, board: str, firmware: str) -> Incoming:
        """Begin an upload, or go on with the one of the same digest.

        Raises:
            SlotRefused: it does not fit, is for another board, or is older than what runs.
        """
        self._judge(Head(board, version_of(firmware), ""))
        if not 0 < size <= self.slot_bytes:
            raise SlotRefused(f"the image has {size:,} bytes, a slot takes {self.slot_bytes:,}: leave modules out")
        if self.incoming is None or (self.incoming.size, self.incoming.digest) != (size, digest):
            self.incoming = Incoming(size, digest)
        return self.incoming

    def put(self, offset: int, data: bytes) -> int:
        """Take a piece; returns how many bytes are missing.

        Raises:
            SlotRefused: no upload was begun, or the piece lies outside it.
        """
        incoming = self.incoming
        if incoming is None:
            raise SlotRefused("no upload was begun", unbegun=True)
        if not data or offset + len(data) > incoming.size:
            raise SlotRefused(f"a block at {offset} of {len(data)} bytes lies outside the image of {incoming.size}")
        incoming.put(offset, data)
        return incoming.missing()

    def verify(self) -> str:
        """Check the whole image by its digest and what it says of itself; returns the digest.

        Raises:
            SlotRefused: incomplete, damaged, or not for this board.
        """
        incoming = self.incoming
        if incoming is None:
            raise SlotRefused("no upload was begun", unbegun=True)
        if incoming.missing():
            raise SlotRefused("the image is not complete: send what is missing")
        digest = hashlib.sha256(incoming.data).hexdigest()
        if digest != incoming.digest:
            self.incoming = None
            raise SlotRefused("the digest of what arrived is another one: the image is damaged, send it again")
        try:
            self._judge(decode_image(bytes(incoming.data)).head)
        except (ImageError, SlotRefused) as error:
            self.incoming = None
            raise SlotRefused(str(error)) from error
        incoming.verified = True
        return digest

    def switch(self) -> Image:
        """Make the verified image the one that runs from the next start on.

        Raises:
            SlotRefused: nothing verified waits. OSError: the slots could not be written; the old image stays.
        """
        if self.incoming is None or not self.incoming.verified:
            raise SlotRefused("no verified image waits in the other slot")
        slots = {**self.slots, self.other: bytes(self.incoming.data)}
        if self.path is not None:
            _write(self.path, self.other, slots)
        self.slots, self.active, self.incoming = slots, self.other, None
        self.running = decode_image(self.slots[self.active])
        return self.running

    def forget_upload(self) -> None:
        """What a power-off does to an unfinished upload."""
        self.incoming = None

    def _judge(self, offered: Head) -> None:
        reason = why_not(self.running.head, offered)
        if reason:
            raise SlotRefused(reason)

    def _read(self, path: Path) -> None:
        import cbor2

        try:
            kept = cbor2.loads(path.read_bytes())
            self.slots, self.active = dict(kept["slots"]), str(kept["active"])
            decode_image(self.slots[self.active])
        except (cbor2.CBORError, ImageError, KeyError, TypeError, ValueError) as error:
            raise OSError(f"{path} holds no slots of a simulated board ({error}); remove it to start afresh") from error


def _write(path: Path, active: str, slots: dict[str, bytes]) -> None:
    import cbor2

    write_durably(path, cbor2.dumps({"active": active, "slots": slots}))


def factory_image(hardware: Hardware, machine: MachineFile, changed: Mapping[str, Value]) -> bytes:
    """The image that a board arrives with: the machine's settings, but for those that differ."""
    head = Head(hardware.name, version_of(hardware.firmware), machine.machine.name)
    settings = {path: value for path, value in {**board_settings(machine), **changed}.items() if value is not None}
    return encode_image(head, settings, {})
