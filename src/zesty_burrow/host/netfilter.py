"""Source address translation through the kernel's nf_tables, spoken directly over netlink (no program needed).

Message and attribute numbers are those of the kernel's public headers linux/netfilter/nf_tables.h and nfnetlink.h.
"""

from __future__ import annotations

import ipaddress
import os
import socket
import struct

from zesty_burrow.errors import MachineError

NETLINK_NETFILTER = 12
SUBSYSTEM = 10
BATCH_BEGIN, BATCH_END = 0x10, 0x11
NEW_TABLE, DELETE_TABLE, NEW_CHAIN, NEW_RULE = 0, 2, 3, 6
REQUEST, ACK, CREATE, APPEND = 0x1, 0x4, 0x400, 0x800
NESTED = 0x8000
POSTROUTING, PRIORITY_SRCNAT = 4, 100
META_IIFNAME = 6
REGISTER_1 = 1


def _attribute(kind: int, value: bytes) -> bytes:
    return struct.pack("=HH", 4 + len(value), kind) + value + bytes(-len(value) % 4)


def _nest(kind: int, *parts: bytes) -> bytes:
    return _attribute(kind | NESTED, b"".join(parts))


def _text(kind: int, value: str) -> bytes:
    return _attribute(kind, value.encode() + b"\0")


def _number(kind: int, value: int) -> bytes:
    return _attribute(kind, value.to_bytes(4))


def _expression(name: str, *parts: bytes) -> bytes:
    return _nest(1, _text(1, name), _nest(2, *parts))


def _message(kind: int, flags: int, sequence: int, family: int, body: bytes, resource: int = 0) -> bytes:
    content = struct.pack("=BB", family, 0) + resource.to_bytes(2) + body
    return struct.pack("=LHHLL", 16 + len(content), kind, flags | REQUEST, sequence, 0) + content


def _rule(device: str, source: ipaddress.IPv4Address | ipaddress.IPv6Address) -> list[bytes]:
    """What came in by ``device`` and is passed on gets ``source`` as its source address."""
    family = socket.AF_INET if source.version == 4 else socket.AF_INET6
    name = device.encode().ljust(16, b"\0")
    return [
        _expression("meta", _number(1, REGISTER_1), _number(2, META_IIFNAME)),
        _expression("cmp", _number(1, REGISTER_1), _number(2, 0), _nest(3, _attribute(1, name))),
        _expression("immediate", _number(1, REGISTER_1), _nest(2, _attribute(1, source.packed))),
        # NFT_NAT_SNAT is 0; registers 3 and 4 of the attributes are the lowest and the highest address.
        _expression("nat", _number(1, 0), _number(2, family), _number(3, REGISTER_1), _number(4, REGISTER_1)),
    ]


def translate_source(device: str, source: str, table: str = "zesty") -> None:
    """Give all that comes in by a device and is passed on another source address, in place of earlier such rules.

    Raises :class:`MachineError`.
    """
    address = ipaddress.ip_address(source)
    # nf_tables numbers its protocol families like sockets do, but for IPv6 under its own constant.
    family = 2 if address.version == 4 else 10
    own = _text(1, table)
    hook = _nest(4, _number(1, POSTROUTING), _number(2, PRIORITY_SRCNAT))
    rule = _nest(4, *_rule(device, address))
    bodies = [
        # Made, deleted and made again in one batch: whatever was there before is replaced at once.
        (NEW_TABLE, CREATE, own),
        (DELETE_TABLE, 0, own),
        (NEW_TABLE, CREATE, own),
        (NEW_CHAIN, CREATE, own + _text(3, "leaving") + hook + _text(7, "nat")),
        (NEW_RULE, CREATE | APPEND, own + _text(2, "leaving") + rule),
    ]
    messages = [_message(BATCH_BEGIN, 0, 0, 0, b"", SUBSYSTEM)]
    messages += [
        _message(SUBSYSTEM << 8 | kind, flags | ACK, number, family, body)
        for number, (kind, flags, body) in enumerate(bodies, start=1)
    ]
    messages.append(_message(BATCH_END, 0, len(bodies) + 1, 0, b"", SUBSYSTEM))
    try:
        _exchange(b"".join(messages), len(bodies))
    except OSError as problem:
        raise MachineError(
            "address translation cannot be set up",
            why=problem.strerror or str(problem),
            next_step="The kernel needs nf_tables with NAT: modprobe nf_tables nft_chain_nat",
        ) from None


def _exchange(data: bytes, answers: int) -> None:
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, NETLINK_NETFILTER) as channel:
        channel.settimeout(5)
        channel.sendto(data, (0, 0))
        while answers:
            received = channel.recv(65536)
            while len(received) >= 20:
                size, kind, _, _, _, error = struct.unpack_from("=LHHLLi", received)
                if kind == 2:
                    if error:
                        raise OSError(-error, os.strerror(-error))
                    answers -= 1
                received = received[(size + 3) & ~3 :]
