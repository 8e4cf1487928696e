"""The clauses of docs/protocol.md about what goes in blocks: images to the board, fast readings from it."""

from __future__ import annotations

import asyncio
import hashlib
from itertools import pairwise
from typing import Any

from ublet.link.bare import BareLine
from ublet.link.clause import CheckSetup, Unchecked, clause, must
from ublet.link.frames import Block, encode_block
from ublet.link.stream_blocks import StreamBlock, unpack

# 10: images


@clause("10.1", "image.status reports what runs; an image that is too large or for another board is refused.")
async def _image(bench: CheckSetup) -> None:
    runs = await bench.good("image.status")
    missing = {"slot", "slot_bytes", "bytes", "digest", "firmware", "machine", "modules"} - set(runs)
    must(not missing, f"image.status says nothing of {', '.join(sorted(missing))}")
    own = {"digest": "0" * 64, "board": bench.about["board"], "firmware": "99.0.0"}
    await bench.refused(3, "image.begin", size=runs["slot_bytes"] + 1, **own)
    await bench.refused(3, "image.begin", **{**own, "size": 100, "board": "no such board"})


@clause(
    "10.2",
    "Blocks of an image are taken in any order and twice, each reply says what is missing; what is no image is "
    "refused.",
)
async def _upload(bench: CheckSetup) -> None:
    line, data = bench.line, bytes(range(200))
    own = {"board": bench.about["board"], "firmware": "99.0.0", "digest": hashlib.sha256(data).hexdigest()}
    begun = await bench.good("image.begin", size=len(data), **own)
    must(begun.get("have") == [] and begun.get("slot"), f"image.begin answered {begun}")
    for offset, missing in ((100, 100), (100, 100), (0, 0)):
        number = line.number()
        line.write(encode_block(Block(number, offset, data[offset : offset + 100])))
        result = (await line.answer(number, "a block")).get("result") or {}
        must(
            result.get("missing") == missing,
            f"after the block at {offset} it reported {result}; {missing} were missing",
        )
    again = await bench.good("image.begin", size=len(data), **own)
    must(again.get("have") == [[0, 200]], f"begun again it has {again.get('have')}")
    await bench.refused(3, "image.verify")


# 11: fast readings


def _kind(bench: CheckSetup) -> dict[str, Any]:
    """The first sensor that streams."""
    kinds = bench.about.get("streams") or []
    if not kinds:
        raise Unchecked("it has nothing that streams")
    kind: dict[str, Any] = kinds[0]
    return kind


async def _came(line: BareLine, kind: dict[str, Any], stream: int, blocks: int) -> list[StreamBlock]:
    """The first blocks of a stream. Raises Silent when they do not come, Broken when one has another shape."""
    line.blocks.clear()
    await line.until(lambda: len([b for b in line.blocks if b.id == stream]) >= blocks, "its blocks did not come", 6.0)
    unpacked = [unpack(block, len(kind["columns"])) for block in line.blocks if block.id == stream]
    must(None not in unpacked, f"a block is not one of {len(kind['columns'])} columns")
    return [block for block in unpacked if block is not None]


@clause("11.1", "Blocks and readings are numbered from 0, times rise by the board's clock, none beyond the credit.")
async def _numbered(bench: CheckSetup) -> None:
    kind, line = _kind(bench), bench.line
    rate = min(kind["rates_hz"])
    opened = await bench.good("stream.open", stream=kind["name"], rate_hz=rate)
    await bench.good("stream.credit", number=opened["number"], upto=4)
    blocks = await _came(line, kind, opened["number"], 4)
    must([block.number for block in blocks] == [0, 1, 2, 3], f"blocks are numbered {[b.number for b in blocks]}")
    due = 0
    for block in blocks:
        must(block.index == due, f"block {block.number} begins at reading {block.index}; {due} was due")
        due += len(block.counts)
    times = [time_s for block in blocks for time_s in (block.first_s, block.last_s)]
    must(all(a < b for a, b in pairwise(times)), f"its times do not rise: {times}")
    off = (blocks[-1].last_s - blocks[0].first_s) / ((due - 1) / rate) - 1
    must(abs(off) < 0.06, f"its times say that it is {100 * off:+.0f} % off the rate that was asked for")
    await asyncio.sleep(3 * opened["in_block"] / rate)
    more = [block.offset for block in line.blocks if block.id == opened["number"] and block.offset >= 4]
    must(not more, f"blocks {more} came beyond the credit")
    await bench.good("stream.close", number=opened["number"])


@clause("11.2", "A block that is asked for again comes as it was; a second stream and a wrong number are refused.")
async def _again(bench: CheckSetup) -> None:
    kind, line = _kind(bench), bench.line
    rate = min(kind["rates_hz"])
    stream = (await bench.good("stream.open", stream=kind["name"], rate_hz=rate))["number"]
    await bench.good("stream.credit", number=stream, upto=2)
    first = (await _came(line, kind, stream, 2))[0]
    await bench.refused(3, "stream.open", stream=kind["name"], rate_hz=rate)
    await bench.refused(3, "stream.close", number=stream + 1)
    line.blocks.clear()
    reply = await bench.good("stream.again", number=stream, blocks=[0, 100_000])
    must(reply.get("gone") == [] and reply.get("blocks", 0) >= 2, f"stream.again answered {reply}")
    await line.until(lambda: bool(line.blocks), "the block did not come again")
    again = unpack(line.blocks[0], len(kind["columns"]))
    same = again is not None and again.number == 0 and (again.counts == first.counts).all()
    must(same and again is not None and again.first_s == first.first_s, "it came again as another one")
    closed = await bench.good("stream.close", number=stream)
    must({"blocks", "readings"} <= set(closed), f"stream.close answered {closed}")
    await bench.refused(3, "stream.credit", number=stream, upto=9)


@clause(
    "11.3",
    "A capture is announced by `captured` when full, and is handed over whole; one that is too long is refused.",
)
async def _capture(bench: CheckSetup) -> None:
    kind = _kind(bench)
    rate = max(kind["rates_hz"])
    await bench.refused(3, "stream.open", stream=kind["name"], rate_hz=rate, capture_s=1e6)
    wanted = round(0.2 * rate)
    stream = (await bench.good("stream.open", stream=kind["name"], rate_hz=rate, capture_s=0.2))["number"]
    event = await bench.line.notification(
        "event", lambda e: e.get("what") == "captured" and e.get("stream") == stream, "no event “captured”", 4.0
    )
    await bench.good("stream.credit", number=stream, upto=event["blocks"])
    blocks = await _came(bench.line, kind, stream, event["blocks"])
    readings = sum(len(block.counts) for block in blocks)
    must(readings == wanted, f"{readings} readings were handed over; {wanted} were asked for")
    await bench.good("stream.close", number=stream)
