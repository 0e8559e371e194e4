"""The fast path: what Python is woken for, the selector, when it is switched to, and where what is compiled is kept."""

from __future__ import annotations

import asyncio
import os
import selectors
import socket
import sys
import threading
import time
from pathlib import Path

import pytest

from carrier.ends import HERE, THERE, Ends
from carrier.test_both_paths import datagram
from zesty_burrow.carrier.fast_path import switch
from zesty_burrow.carrier.fast_path.compile_cache import PACKAGE, VARIABLE, CompileCache, is_complete, mark_complete
from zesty_burrow.carrier.fast_path.selector import PacketEventLoop, PacketSelector, run, running_selector
from zesty_burrow.carrier.fast_path.switch import FastPathSwitch
from zesty_burrow.carrier.ports.udp_port import UdpPort
from zesty_burrow.carrier.ports.udp_socket import udp_socket


@pytest.fixture
def one():
    made = Ends("fast")
    yield made
    made.close()


def test_python_is_not_woken(one):
    """Neither by the first packet nor by many, whichever way they go; the channel knows when the last ones were."""
    for count in (1, 30, 100):
        assert one.send(*[datagram(size) for size in range(1, count + 1)]) == 0
        assert [one.opens.open(data) for data in one.sealed()] == [datagram(size) for size in range(1, count + 1)]
        assert one.receive([one.seals.seal(datagram(9, THERE, HERE)) for _ in range(count)])[0] == []
    now = time.monotonic()
    assert now - 5 < one.channel.last_sent <= now and now - 5 < one.channel.last_received <= now
    counters = one.channel.counters
    assert (counters.packets_in, counters.packets_out, counters.rejected) == (131, 131, 0)
    assert counters.octets_out == sum(28 + size for count in (1, 30, 100) for size in range(1, count + 1))


def test_what_was_lost_late_forged_or_repeated_does_not_wake_it(one):
    """The loops have the whole replay window: such packets cost only themselves."""
    sealed = [one.seals.seal(datagram(9, THERE, HERE)) for _ in range(40)]
    forged = sealed[30][:-1] + bytes([sealed[30][-1] ^ 1])
    sent = [*sealed[:10], *sealed[20:30], forged, *sealed[15:20], sealed[3], sealed[30]]
    assert one.receive(sent)[0] == []
    assert (one.channel.counters.packets_in, one.channel.counters.rejected) == (26, 2)


def test_another_address_is_for_python_to_judge(one):
    """What comes from elsewhere under a known SPI is left to the plain path, and authentic packets go in."""
    other = UdpPort(udp_socket(socket.AF_INET, ("127.0.0.1", 0)))
    left, _ = one.receive([one.seals.seal(datagram(9, THERE, HERE))], source=other)
    assert [burst.source for burst in left] == [other.channel.getsockname()]
    assert len(one.read()) == 1 and one.channel.counters.packets_in == 1
    one.tunnel.peer = other.channel.getsockname()
    one.path.refresh()
    assert one.receive([one.seals.seal(datagram(9, THERE, HERE))], source=other)[0] == []
    other.channel.close()


def test_only_what_is_not_a_packet_of_ours_is_left(one):
    """A burst with IKE in the middle: what is before it is carried, the rest goes through the plain path."""
    ours = [one.seals.seal(datagram(9, THERE, HERE)) for _ in range(4)]
    ike = bytes(4) + os.urandom(len(ours[0]) - 4)
    left, others = one.receive([*ours[:2], ike, *ours[2:]])
    assert others == [ike] and left and one.channel.counters.packets_in == 4


def test_the_network_refuses(one):
    """What cannot be sent is lost, and the path is measured again; what follows goes."""
    one.send(datagram())
    peer, one.tunnel.peer = one.tunnel.peer, ("2001:db8::1", 9)
    one.path.refresh()
    one.send(*[datagram(60)] * 9)
    one.tunnel.peer = peer
    one.path.refresh()
    one.send(datagram(70))
    assert [one.opens.open(data) for data in one.sealed()] == [datagram(), datagram(70)]
    assert one.opens.window.highest == 11


@pytest.mark.parametrize("endpoint", [("192.0.2.7", 4500), ("2001:db8::7", 65535)])
def test_addresses_as_the_system_has_them(endpoint):
    from zesty_burrow.carrier.fast_path.esp_tables import socket_address
    from zesty_burrow.carrier.fast_path.fast_path import endpoint_of

    assert endpoint_of(socket_address(endpoint).ljust(32, b"\0")) == endpoint
    assert socket_address(("fe80::1%lo", 1)) == b""


def test_hidden_descriptors():
    """What is hidden keeps its reader: it can be looked up, changed, removed, and shown again."""
    ours, theirs = socket.socketpair()
    selector = PacketSelector()
    selector.register(ours.fileno(), selectors.EVENT_READ, "first")
    theirs.send(b"x")
    assert [key.data for key, _ in selector.select(0)] == ["first"]
    assert selector.hide(ours.fileno()) and selector.hide(ours.fileno()) and not selector.hide(theirs.fileno())
    assert selector.select(0) == [] and selector.get_key(ours.fileno()).data == "first"
    selector.modify(ours.fileno(), selectors.EVENT_READ, "second")
    assert selector.select(0) == []
    selector.show(ours.fileno())
    assert [key.data for key, _ in selector.select(0)] == ["second"]
    selector.hide(ours.fileno())
    # What is to be written to as well is polled again.
    selector.modify(ours.fileno(), selectors.EVENT_READ | selectors.EVENT_WRITE, "third")
    assert [key.data for key, _ in selector.select(0)] == ["third"]
    selector.hide(ours.fileno())
    assert selector.unregister(ours.fileno()).data == "third" and not selector.hide(ours.fileno())
    with pytest.raises(KeyError):
        selector.get_key(ours.fileno())
    selector.close()
    ours.close()
    theirs.close()


def test_an_event_loop_goes_on_meanwhile():
    """Timers keep their time, other threads and sockets are heard, while packets are carried in the loop's waiting."""
    one = Ends("plain")
    seen = []

    async def main():
        loop = asyncio.get_running_loop()
        assert isinstance(loop, PacketEventLoop) and running_selector() is loop.selector
        one.path.start_reading()
        port = one.port
        loop.add_reader(port.descriptor, lambda: seen.extend(one.path.inbound(burst)[1] for burst in port.receive()))
        from zesty_burrow.carrier.fast_path.fast_path import attach

        one.path.loops = attach(one.path, loop.selector)
        one.machine.send(bytes(10) + datagram())
        began = time.monotonic()
        await asyncio.sleep(0.05)
        assert 0.05 <= time.monotonic() - began < 0.5
        done = asyncio.Event()
        threading.Timer(0.03, lambda: loop.call_soon_threadsafe(done.set)).start()
        await asyncio.wait_for(done.wait(), 5)
        # IKE that comes by the same socket is Python's.
        one.peer.send(bytes(4) + b"hello", port.channel.getsockname())
        ours, theirs = socket.socketpair()
        heard = loop.create_future()
        loop.add_reader(ours.fileno(), heard.set_result, None)
        theirs.send(b"x")
        await asyncio.wait_for(heard, 5)
        loop.remove_reader(ours.fileno())
        ours.close()
        theirs.close()
        await asyncio.sleep(0.01)
        assert seen == [[bytes(4) + b"hello"]]
        # Without its reader the device is left alone.
        one.path.stop_reading()
        one.machine.send(bytes(10) + datagram())
        await asyncio.sleep(0.01)
        assert len(one.sealed()) == 1
        one.path.start_reading()
        await asyncio.sleep(0.01)
        one.path.close()
        loop.remove_reader(port.descriptor)

    try:
        run(main())
        assert len(one.sealed()) == 1
    finally:
        one.close()


def test_new_keys_are_asked_for_in_time():
    """A channel that has carried as much as it may wakes whoever waits for that."""
    for by in ("plain", "fast"):
        one = Ends(by)
        one.path.wake = asyncio.Event()
        one.channel.octet_limit = 3000
        one.send(datagram(900), datagram(900), datagram(900))
        assert not one.path.wake.is_set()
        one.send(datagram(900))
        assert one.path.wake.is_set() and one.channel.wants_rekey
        one.close()


def test_when_it_is_worth_it():
    """Not what comes slowly, and not twice; not without the compiler, nor where it is disabled."""
    clock = [0.0]
    slow, disabled, missing = (
        FastPathSwitch(clock=lambda: clock[0], **words) for words in ({}, {"disabled": True}, {"compiler": "nobody"})
    )
    for second in range(100):
        clock[0] = float(second)
        assert not slow.is_due(200)
    quick = FastPathSwitch(clock=lambda: clock[0])
    assert [quick.is_due(500) for _ in range(100)].index(True) == 3
    assert not any(disabled.is_due(500) or missing.is_due(500) for _ in range(100))
    assert (disabled.words, missing.words) == (switch.DISABLED, switch.MISSING)


def test_where_what_is_compiled_is_kept(monkeypatch, tmp_path):
    """Beside the source; where that may not be written in the user's home, but not in another's. By its source."""
    monkeypatch.setenv(VARIABLE, "elsewhere")
    assert CompileCache().choose_folder()
    beside = Path(os.environ[VARIABLE])
    assert beside.parent == PACKAGE / "carrier" / "fast_path" / "__pycache__"
    assert CompileCache(sources=("errors.py",)).choose_folder() and Path(os.environ[VARIABLE]).name != beside.name
    # A package that is nowhere may not be written.
    home = tmp_path / "home"
    folder = home / ".cache" / "zesty-burrow"
    (folder / "loops-0123").mkdir(parents=True, mode=0o700)
    folder.chmod(0o700)
    away = CompileCache(tmp_path / "nowhere", home)
    assert away.choose_folder()
    assert Path(os.environ[VARIABLE]).parent == folder and not (folder / "loops-0123").exists()
    folder.chmod(0o777)
    assert not away.choose_folder() and VARIABLE not in os.environ
    folder.chmod(0o700)
    if os.geteuid() == 0:
        os.chown(home, 65534, 65534)
        assert not away.choose_folder()
    assert CompileCache().choose_folder() and os.environ[VARIABLE] == str(beside)


def test_what_is_complete_is_not_compiled_again(monkeypatch, tmp_path):
    """Only for the very Python, compiler and processor that it was made for."""
    monkeypatch.setenv(VARIABLE, str(tmp_path))
    assert not is_complete()
    mark_complete()
    assert is_complete() and (tmp_path / "complete").read_text().startswith(sys.version)
    for wrong in (b"another", b"\xff", b""):
        (tmp_path / "complete").write_bytes(wrong)
        assert not is_complete()
    monkeypatch.setenv(VARIABLE, str(tmp_path / "nowhere"))
    mark_complete()
    assert not is_complete()
