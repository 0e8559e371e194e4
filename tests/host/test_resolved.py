"""The system's bus as it may be: missing, silent, closing, talking nonsense, refusing. The real one: tests/lab."""

from __future__ import annotations

import socket
import threading
import time
from contextlib import suppress
from ipaddress import ip_address

import pytest
from jeepney import HeaderFields, Parser, new_error, new_method_return

from zesty_burrow.errors import MachineError
from zesty_burrow.host.names import resolved
from zesty_burrow.host.names.names_record import Layer
from zesty_burrow.host.names.resolved import Resolved, find_resolved

STUB = (ip_address("127.0.0.53"),)
LAYER = Layer((ip_address("198.51.100.242"), ip_address("2001:db8:10ff::2")), ("office.tidewrack.example",))


class Bus:
    """Answers by ``behave(message)``: octets, or None to close."""

    def __init__(self, path, behave):
        self.behave, self.seen = behave, []
        self.listener = socket.socket(socket.AF_UNIX)
        self.listener.bind(str(path))
        self.listener.listen()
        threading.Thread(target=self.serve, daemon=True).start()

    def serve(self):
        while True:
            try:
                channel, _ = self.listener.accept()
            except OSError:
                return
            # A caller that has had enough closes it in the middle.
            with channel, suppress(OSError):
                self.talk(channel)

    def talk(self, channel):
        data = b""
        while b"BEGIN\r\n" not in data:
            data += channel.recv(4096)
            if data.endswith(b"\r\n") and b"BEGIN" not in data:
                channel.sendall(b"OK 0123456789abcdef0123456789abcdef\r\n")
        parser, number = Parser(), 0
        parser.add_data(data.partition(b"BEGIN\r\n")[2])
        while True:
            while (message := parser.get_next_message()) is not None:
                self.seen.append((message.header.fields.get(HeaderFields.member), message.body))
                number += 1
                answer = self.behave(message)
                if answer is None:
                    return
                channel.sendall(answer if isinstance(answer, bytes) else answer.serialise(number))
            data = channel.recv(4096)
            if not data:
                return
            parser.add_data(data)


def willing(message):
    return new_method_return(message, "s", (":1.7",))


def refusing(message):
    hello = message.header.fields[HeaderFields.member] == "Hello"
    return willing(message) if hello else new_error(message, "org.freedesktop.DBus.Error.ServiceUnknown", "s", ("no",))


BEHAVIOURS = {
    "silent": lambda _: b"",
    "closing": lambda _: None,
    "nonsense": lambda _: b"\xff" * 64,
    "never a whole message": lambda _: b"l\2\0\1" + b"\xff\xff\xff\x07" + bytes(40),
    "refusing": refusing,
}


@pytest.fixture
def bus(tmp_path, monkeypatch):
    made = []

    def make(behave):
        path = tmp_path / "bus"
        made.append(Bus(path, behave))
        monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={path}")
        monkeypatch.setattr(resolved, "TIMEOUT", 0.3)
        return made[0]

    yield make
    for one in made:
        one.listener.close()


@pytest.mark.parametrize("behaviour", BEHAVIOURS)
def test_a_bus_that_does_not_help(bus, behaviour):
    """It is taken for not there, in bounded time; once in use, what it did not take is an error in words."""
    bus(BEHAVIOURS[behaviour])
    began = time.monotonic()
    assert find_resolved(STUB) is None
    with pytest.raises(MachineError) as told:
        Resolved(alone=True).use("lo", LAYER)
    assert told.value.slug == "resolved-refused" and told.value.why
    assert time.monotonic() - began < 5


def test_no_bus(monkeypatch, tmp_path):
    """Also where there is none; and where nobody asks systemd-resolved it is not looked for."""
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={tmp_path}/nothing")
    assert find_resolved(STUB) is None
    assert find_resolved((), tmp_path / "nsswitch.conf") is None


@pytest.mark.parametrize(
    ("servers", "line", "found"),
    [
        ("127.0.0.53", "hosts: files dns", "alone"),
        ("192.0.2.53", "hosts: files dns", None),
        ("192.0.2.53", "hosts: files resolve [!UNAVAIL=return] dns", "beside the file"),
        ("127.0.0.53 192.0.2.53", "hosts: files dns", None),
        ("192.0.2.53", "passwd: resolve", None),
    ],
)
def test_who_is_asked(bus, tmp_path, servers, line, found):
    """Its stub in the resolver file, or its module in nsswitch.conf."""
    bus(willing)
    nsswitch = tmp_path / "nsswitch.conf"
    nsswitch.write_text(f"# names\n{line}\n")
    one = find_resolved([ip_address(server) for server in servers.split()], nsswitch)
    assert (one and ("alone" if one.alone else "beside the file")) == found


def test_what_it_is_told(bus):
    """All names for a tunnel that takes everything; its zones alone for another; and taken back in the end."""
    talk, index = bus(willing), socket.if_nametoindex("lo")
    one = Resolved(alone=True)
    one.use("lo", LAYER)
    one.use("lo", Layer(LAYER.servers[:1], LAYER.suffixes, ("20.10.in-addr.arpa",)))
    one.put_back()
    one.put_back()
    told = [row for row in talk.seen if row[0] != "Hello" and row[0] != "FlushCaches"]
    packed = [(2, [*LAYER.servers[0].packed]), (10, [*LAYER.servers[1].packed])]
    assert [(family, [*octets]) for family, octets in told[0][1][1]] == packed and told[0][0] == "SetLinkDNS"
    assert told[1] == ("SetLinkDomains", (index, [("office.tidewrack.example", False), (".", True)]))
    assert told[2] == ("SetLinkDefaultRoute", (index, True))
    assert told[4][1][1] == [("office.tidewrack.example", False), ("20.10.in-addr.arpa", True)]
    assert told[5] == ("SetLinkDefaultRoute", (index, False))
    assert told[6:] == [("RevertLink", (index,))]


def test_a_device_that_is_gone():
    """It is named."""
    with pytest.raises(MachineError, match="zesty99"):
        Resolved(alone=True).use("zesty99", LAYER)
