"""A question for the addresses of a name, and what a name server answers (RFC 1035 §4, RFC 3596): plain ones alone."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import ip_address
from typing import NamedTuple

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.net import Address
from zesty_burrow.errors import Malformed

A, AAAA, DS, HTTPS, OPT = 1, 28, 43, 65, 41
INTERNET = 1
RESPONSE, AUTHORITATIVE, RECURSION_DESIRED, OPERATION = 0x8000, 0x0400, 0x0100, 0x7800
AUTHENTIC, CODE, DNSSEC_OK = 0x0020, 0x000F, 0x8000
ROOM = 1232
"""Octets of an answer over UDP."""
HEADER = 12
MAX_LABEL, POINTER = 63, 0xC0
MAX_RECORDS = 64
LETTERS = b"abcdefghijklmnopqrstuvwxyz0123456789-_"
"""Of names that stand for themselves as text."""
_SIZES = {A: 4, AAAA: 16}


def build_query(identifier: int, name: str, kind: int) -> bytes:
    """One question of a type, with recursion desired. :class:`Malformed` for a name that cannot be asked for."""
    try:
        labels = [label.encode("idna") for label in name.rstrip(".").split(".")]
    except UnicodeError as problem:
        raise Malformed(f"the name {name!r} cannot be asked for", why=str(problem)) from None
    octets = b"".join(bytes([len(label)]) + label for label in labels) + b"\0"
    if len(octets) > 255 or not all(labels):
        raise Malformed(f"the name {name!r} cannot be asked for", why="RFC 1035 §2.3.4 limits names to 255 octets")
    head = identifier.to_bytes(2) + RECURSION_DESIRED.to_bytes(2) + b"\0\1" + bytes(6)
    return head + octets + kind.to_bytes(2) + INTERNET.to_bytes(2)


def with_signatures(query: bytes) -> bytes:
    """The same query with the wish for signatures (DO, RFC 3225 §3; EDNS, RFC 6891 §6.1.2)."""
    root, options = b"\0", OPT.to_bytes(2) + ROOM.to_bytes(2) + b"\0\0" + DNSSEC_OK.to_bytes(2) + b"\0\0"
    return query[:10] + b"\0\1" + query[HEADER:] + root + options


class Reply(NamedTuple):
    """``code``: how it went (RFC 1035 §4.1.1); ``authentic``: the name server says that it has checked signatures (AD,
    RFC 4035 §3.2.3); ``answers``: how many records.
    """

    code: int
    authentic: bool
    answers: int


def read_reply_untrusted(data: bytes, query: bytes) -> Reply:
    """The head of an answer to a query; raises only :class:`Malformed`: also for what answers another question."""
    cursor = Cursor(data, "a DNS answer")
    head = cursor.take(HEADER)
    flags, answers = int.from_bytes(head[2:4]), int.from_bytes(head[6:8])
    if head[:2] != query[:2] or not flags & RESPONSE or flags & OPERATION:
        raise cursor.fail("it answers another question")
    return Reply(flags & CODE, bool(flags & AUTHENTIC), answers)


def read_addresses_untrusted(data: bytes, query: bytes) -> list[Address]:
    """The addresses in an answer to a query of :func:`build_query`, aliases passed over; none where it has none.

    Raises only :class:`Malformed`: also for what answers another question.
    """
    cursor = Cursor(data, "a DNS answer")
    head = cursor.take(HEADER)
    flags, questions, answers = (int.from_bytes(head[at : at + 2]) for at in (2, 4, 6))
    asked = query[HEADER:]
    if head[:2] != query[:2] or not flags & RESPONSE or flags & OPERATION or questions != 1:
        raise cursor.fail("it answers another question")
    if data[HEADER : HEADER + len(asked)].lower() != asked.lower():
        raise cursor.fail("it answers another question")
    cursor.take(len(asked))
    wanted = int.from_bytes(asked[-4:-2])
    addresses: list[Address] = []
    for _ in range(min(answers, MAX_RECORDS)):
        _pass_name(cursor)
        kind, group = cursor.u16(), cursor.u16()
        cursor.take(4)
        value = cursor.take(cursor.u16())
        if kind == wanted and group == INTERNET:
            if len(value) != _SIZES[wanted]:
                raise cursor.fail(f"an address of {len(value)} octets")
            addresses.append(ip_address(value))
    return addresses


def read_question_untrusted(data: bytes) -> tuple[str, int] | None:
    """The name, in lower case, and the type of a query that holds one plain question and nothing else.

    None for everything that a whole reader has to look at. Never raises.
    """
    if len(data) < HEADER or data[2] & 0xF8 or data[4:HEADER] != b"\0\1" + bytes(6):
        return None
    at, labels = HEADER, []
    while at < len(data) and 0 < data[at] <= MAX_LABEL:
        labels.append(data[at + 1 : at + 1 + data[at]])
        at += 1 + data[at]
    name = b".".join(labels).lower()
    ends = labels and at < len(data) and not data[at] and at - HEADER < 255
    kind, group = data[at + 1 : at + 3], data[at + 3 :]
    if not ends or group != INTERNET.to_bytes(2) or b"".join(labels).lower().translate(None, LETTERS):
        return None
    return name.decode("ascii"), int.from_bytes(kind)


def build_answer(query: bytes, kind: int, addresses: Iterable[str], ttl: int) -> bytes:
    """An authoritative answer to a query that :func:`read_question_untrusted` has read."""
    values = [ip_address(address).packed for address in addresses]
    flags = RESPONSE | AUTHORITATIVE | int.from_bytes(query[2:4]) & RECURSION_DESIRED
    head = query[:2] + flags.to_bytes(2) + b"\0\1" + len(values).to_bytes(2) + bytes(4)
    # RFC 1035 §4.1.4: a pointer to the name in the question.
    fixed = b"\xc0\x0c" + kind.to_bytes(2) + INTERNET.to_bytes(2) + ttl.to_bytes(4)
    return head + query[HEADER:] + b"".join(fixed + len(value).to_bytes(2) + value for value in values)


def _pass_name(cursor: Cursor) -> None:
    """RFC 1035 §4.1.4: labels, until an empty one or a pointer, which is not followed."""
    while size := cursor.u8():
        if size >= POINTER:
            cursor.u8()
            return
        if size > MAX_LABEL:
            raise cursor.fail(f"a label of {size} octets")
        cursor.take(size)
