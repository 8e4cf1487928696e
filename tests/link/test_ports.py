"""Ports that come and go are named."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from ublet.link.holders import holders
from ublet.link.ports import Port, PortWatch, list_ports

A, B = Port("/dev/ttyA", "a board"), Port("/dev/ttyB")


def test_the_one_that_goes_and_comes_back_is_named() -> None:
    watch = PortWatch([A, B])
    assert watch.look([A, B]) == []
    assert watch.look([B]) == ["/dev/ttyA went: plug it in again to see it come back."]
    assert watch.look([A, B]) == ["/dev/ttyA came back: that is the one you unplugged."]
    assert watch.look([A, B, Port("/dev/ttyC")]) == ["/dev/ttyC is new: that is the one you plugged in."]


def test_this_computers_ports_are_listed_without_trouble() -> None:
    devices = [port.device for port in list_ports()]
    assert len(devices) == len(set(devices)) and all(device.startswith("/") for device in devices)


def test_the_program_that_holds_a_port_is_named_and_our_own_is_not(tmp_path: Path) -> None:
    file = tmp_path / "port"
    file.write_text("", encoding="utf-8")
    code = f"import sys; held = open({str(file)!r}); print('held', flush=True); sys.stdin.read()"
    with subprocess.Popen(
        [sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as holder:
        assert holder.stdout is not None and holder.stdout.readline() == "held\n"
        found = holders([str(file)])
        assert found[str(file)].endswith(f"(process {holder.pid})") and "python" in found[str(file)]
        assert holder.stdin is not None
        holder.stdin.close()
    with file.open(encoding="utf-8"):
        assert holders([str(file), str(tmp_path / "none")]) == {}
