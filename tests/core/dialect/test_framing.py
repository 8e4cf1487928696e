"""Lines with numbers and checksums, against other implementations of the same sums."""

from __future__ import annotations

import binascii
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.dialect.framing import Framing, LineCutter, WireLine, checksum
from ublet.core.dialect.pattern import DialectWords
from ublet.core.dialect.schema import LineRules, SumRules

CRC32 = SumRules(kind="crc", bits=32, polynomial=0x04C11DB7, start=0xFFFFFFFF, last=0xFFFFFFFF, reflected=True)
CRC16 = SumRules(kind="crc", bits=16, polynomial=0x1021)


@given(st.binary(max_size=200))
def test_sums_are_those_of_other_programs(data: bytes) -> None:
    assert checksum(data, CRC32) == zlib.crc32(data)
    assert checksum(data, CRC16) == binascii.crc_hqx(data, 0)
    assert checksum(data, SumRules(kind="add", bits=16)) == sum(data) % 65536
    xored = 0
    for byte in data:
        xored ^= byte
    assert checksum(data, SumRules(kind="xor")) == xored


def test_the_published_check_values() -> None:
    """“123456789” by CRC-16/IBM-3740 and CRC-8/SMBUS (the catalogue of parametrised CRC algorithms)."""
    assert checksum(b"123456789", CRC16.model_copy(update={"start": 0xFFFF})) == 0x29B1
    assert checksum(b"123456789", SumRules(kind="crc", bits=8, polynomial=0x07)) == 0xF4


def rules(**more: object) -> LineRules:
    return LineRules.model_validate({"done": "yes {n}", "error": "no {why}", **more})


@given(st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=60), st.integers(1, 10**6))
def test_a_line_comes_back_with_its_number(text: str, number: int) -> None:
    framing = Framing(rules(number="n{n} ", sum=CRC16.model_dump() | {"mark": "~", "digits": "hex"}), DialectWords({}))
    sent = framing.from_host(text, number)
    assert sent.endswith(b"\n") and framing.read_host(sent[:-1]) == WireLine(text, number)


def test_every_flipped_bit_of_a_summed_line_is_noticed() -> None:
    framing = Framing(rules(number="n{n} ", sum=CRC16.model_dump() | {"mark": "~"}), DialectWords({}))
    sent = framing.from_host("G1 X10.500 F1200", 7)[:-1]
    for at in range(len(sent)):
        for bit in range(8):
            spoilt = sent[:at] + bytes((sent[at] ^ (1 << bit),)) + sent[at + 1 :]
            assert framing.read_host(spoilt) is None, spoilt


def test_replies_are_summed_only_where_the_dialect_says_so() -> None:
    quiet = Framing(rules(sum=SumRules(kind="xor").model_dump()), DialectWords({}))
    assert quiet.from_board("yes 1") == b"yes 1\n" and quiet.from_host("a", 1) == b"a~97\n"
    both = Framing(rules(end="crlf", sum=SumRules(kind="xor", replies=True).model_dump()), DialectWords({}))
    assert both.from_board("a") == b"a~97\r\n" and both.read_board(b"a~98") is None


@pytest.mark.parametrize("end", [b"\n", b"\r", b"\r\n"])
def test_lines_end_in_any_way_and_come_in_any_pieces(end: bytes) -> None:
    cutter, lines = LineCutter(20), list[bytes]()
    for byte in b"one" + end + b"two" + end + b"th":
        lines += cutter.feed(bytes((byte,)))
    assert lines == [b"one", b"two"]
    for _ in range(1000):
        cutter.feed(b"x" * 100)
    assert len(cutter.feed(b"\nfour\n")[-1]) == 4, "a line that never ended takes no room"
