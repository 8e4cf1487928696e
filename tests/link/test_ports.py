"""Ports that come and go are named."""

from __future__ import annotations

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
