"""Name servers: which of a gateway's are used and which refused; and questions that get lost."""

from __future__ import annotations

import os
import socket
import threading
from ipaddress import ip_address, ip_interface

import dns.message
import dns.rdatatype
import dns.rrset
import pytest

from support import in_a_network_of_its_own
from zesty_burrow.carrier.network import outer_names
from zesty_burrow.carrier.network.host_config import sort_servers
from zesty_burrow.carrier.network.outer_names import look_up_outside
from zesty_burrow.core.net import AddressRange
from zesty_burrow.errors import GatewayUnreachable
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.protocols.session import NetworkSettings, Up

GATEWAY = "198.51.100.18"
ALL = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
OFFICE = (AddressRange(bytes((10, 20, 0, 0)), bytes((10, 20, 255, 255))),)
BOTH = ("10.66.1.10/32", "fd66:1::a/128")


@pytest.mark.parametrize(
    ("server", "addresses", "remote", "fate"),
    [
        ("198.51.100.242", BOTH, ALL, "used"),
        ("2001:db8:10ff::2", BOTH, ALL, "used"),
        ("10.20.0.53", BOTH, OFFICE, "used"),
        ("2001:db8:10ff::2", BOTH[:1], ALL, "left out"),
        ("198.51.100.242", BOTH, OFFICE, "left out"),
        (GATEWAY, BOTH, ALL, "refused"),
        ("10.66.1.10", BOTH, ALL, "refused"),
        ("fd66:1::a", BOTH, ALL, "refused"),
        ("0.0.0.0", BOTH, ALL, "refused"),
        ("0.1.2.3", BOTH, ALL, "refused"),
        ("127.0.0.1", BOTH, ALL, "refused"),
        ("127.0.0.53", BOTH, OFFICE, "refused"),
        ("169.254.1.1", BOTH, ALL, "refused"),
        ("224.0.0.251", BOTH, ALL, "refused"),
        ("255.255.255.255", BOTH, ALL, "refused"),
        ("::", BOTH, ALL, "refused"),
        ("::1", BOTH, ALL, "refused"),
        ("::ffff:127.0.0.1", BOTH, ALL, "refused"),
        ("::ffff:198.51.100.242", BOTH, ALL, "refused"),
        ("fe80::1", BOTH, ALL, "refused"),
        ("ff02::fb", BOTH, ALL, "refused"),
    ],
)
def test_each_server(server, addresses, remote, fate):
    """Used where the gateway carries it; refused where no name server can be, whatever is carried."""
    one = ip_address(server)
    network = NetworkSettings(addresses=tuple(map(ip_interface, addresses)), name_servers=(one,))
    usable, refused = sort_servers(Up(0.0, network, remote, None), GATEWAY)
    assert {"used": ((one,), ()), "left out": ((), ()), "refused": ((), (one,))}[fate] == (usable, refused)


# A name that is looked up behind the guard.


def answering(server, lost, records):
    """Answers at ``server`` as ``records`` has it, by type; the first questions of a type are lost."""
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    channel.bind((server, 53))
    left = dict(lost)

    def serve():
        while True:
            data, source = channel.recvfrom(4096)
            query = dns.message.from_wire(data)
            kind = dns.rdatatype.to_text(query.question[0].rdtype)
            if left.get(kind, 0) > 0:
                left[kind] -= 1
                continue
            answer = dns.message.make_response(query)
            for text in records.get(kind, ()):
                answer.answer.append(dns.rrset.from_text(query.question[0].name, 60, "IN", kind, text))
            channel.sendto(answer.to_wire(), source)

    threading.Thread(target=serve, daemon=True).start()


@pytest.mark.skipif(os.geteuid() != 0, reason="needs a network of its own")
@pytest.mark.parametrize(
    ("lost", "records", "found"),
    [
        ({}, {"A": ["198.51.100.18"], "AAAA": ["2001:db8:1001::2"]}, ["198.51.100.18", "2001:db8:1001::2"]),
        # One family's question is lost, and the other has no address: it is asked again.
        ({"A": 2}, {"A": ["198.51.100.18"]}, ["198.51.100.18"]),
        ({"AAAA": 2}, {"AAAA": ["2001:db8:1001::2"]}, ["2001:db8:1001::2"]),
        # An address is there: the other family is not waited for.
        ({"AAAA": 9}, {"A": ["198.51.100.18"]}, ["198.51.100.18"]),
        ({"A": 9, "AAAA": 9}, {"A": ["198.51.100.18"]}, "no address from 127.0.0.1"),
        ({}, {"A": ["0.0.0.0"]}, "no address from 127.0.0.1"),
    ],
)
def test_lost_questions(monkeypatch, lost, records, found):
    monkeypatch.setattr(outer_names, "PATIENCE", 0.2)

    def look():
        with Netlink() as netlink:
            netlink.set_link("lo", state="up")
        answering("127.0.0.1", lost, records)
        try:
            seen = look_up_outside(["lisbon.quillwort.example"], [ip_address("127.0.0.1")])
        except GatewayUnreachable as problem:
            seen = problem.why
        assert seen == found or (isinstance(found, str) and found in seen), seen

    in_a_network_of_its_own(look)
