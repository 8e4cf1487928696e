"""Frames: round trips, damage, garbage."""

from __future__ import annotations

import json
import random
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.link.frames import ESCAPE, LONGEST_LINE, RESERVED, Block, Decoder, decode, encode, encode_block

MESSAGES = st.dictionaries(
    st.text(max_size=8),
    st.one_of(
        st.none(),
        st.booleans(),
        st.integers(-(2**53), 2**53),
        st.floats(allow_nan=False, allow_infinity=False),
        st.text(),
    ),
    max_size=5,
)


def test_a_frame_is_json_space_sum_newline() -> None:
    frame = encode({"id": 1, "ü": 2.5})
    body, digits = frame[:-10], frame[-9:-1]
    assert frame.endswith(b"\n") and frame[-10:-9] == b" "
    assert json.loads(body) == {"id": 1, "ü": 2.5}
    assert int(digits, 16) == zlib.crc32(body)
    assert b"\n" not in body and b"\x18" not in body


@pytest.mark.parametrize("start", range(21))
@pytest.mark.parametrize(
    ("number", "fits"),
    [
        *((number, False) for number in ("9" * 309, "9" * 309 + ".5", "1e309", "1E+0309", "-" + "2" * 309)),
        *((number, True) for number in ("9" * 308, "1e308", "0." + "3" * 400, "1e-999")),
    ],
)
def test_a_number_beyond_a_double_is_no_frame_wherever_it_begins(number: str, fits: bool, start: int) -> None:
    body = b'{"%s":%s}' % (b"k" * start, number.encode())
    found = decode(b"%s %08x" % (body, zlib.crc32(body)))
    assert (found == json.loads(body)) if fits else found is None


@given(MESSAGES)
def test_round_trip(message: dict[str, object]) -> None:
    assert decode(encode(message)[:-1]) == message


@given(MESSAGES, st.data())
def test_one_corrupted_character_is_never_taken(message: dict[str, object], data: st.DataObject) -> None:
    line = bytearray(encode(message)[:-1])
    at = data.draw(st.integers(0, len(line) - 1))
    line[at] ^= 1 << data.draw(st.integers(0, 6))
    taken = decode(bytes(line))
    # flipping the case of a hex digit leaves the sum as it is
    assert taken is None or taken == message


@given(
    st.lists(st.one_of(MESSAGES.map(encode), st.binary(max_size=40).map(lambda b: b.replace(b"\n", b"") + b"\n"))),
    st.integers(1, 50),
)
def test_messages_survive_garbage_between_them_in_any_pieces(lines: list[bytes], piece: int) -> None:
    stream = b"".join(lines)
    decoder, got = Decoder(), []
    for start in range(0, len(stream), piece):
        got += [m for m in decoder.feed(stream[start : start + piece]) if m is not None]
    expected = [decode(line.rstrip(b"\r\n")) for line in lines]
    assert got == [message for message in expected if message is not None]


def test_a_line_without_end_is_dropped_and_counted_once() -> None:
    decoder = Decoder()
    assert list(decoder.feed(b"x" * (LONGEST_LINE + 10))) == [None]
    assert list(decoder.feed(b"x" * (LONGEST_LINE + 10))) == []
    assert list(decoder.feed(b"x\n" + encode({"a": 1}))) == [{"a": 1}]
    assert decoder.bad == 1


@given(st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1), st.binary(max_size=1024))
def test_a_block_survives_the_line_and_holds_no_reserved_byte(number: int, offset: int, data: bytes) -> None:
    block = Block(number, offset, data)
    line = encode_block(block)
    assert line[:1] == b"\x01" and line.endswith(b"\n")
    assert not set(line[1:-1]) & (set(RESERVED) - {ESCAPE})
    assert list(Decoder().feed(line)) == [block]


@given(st.binary(min_size=1, max_size=64), st.data())
def test_a_block_with_any_changed_byte_is_dropped(data: bytes, draw: st.DataObject) -> None:
    line = bytearray(encode_block(Block(7, 1024, data)))
    at = draw.draw(st.integers(1, len(line) - 2))
    line[at] = draw.draw(st.sampled_from([b for b in range(256) if b not in (0x0A, line[at])]))
    assert list(Decoder().feed(bytes(line))) == [None]


def test_random_bytes_grow_by_little() -> None:
    data = random.Random(1).randbytes(100_000)
    assert len(encode_block(Block(1, 0, data))) < 1.025 * len(data)
