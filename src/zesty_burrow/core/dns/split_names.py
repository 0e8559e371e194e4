"""Which questions are for whom, where several name servers each know names that the others do not (RFC 8598 §1)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Generic, TypeVar

import dns.exception
import dns.message
import dns.name
import dns.rcode

from zesty_burrow.core.net import Network

T = TypeVar("T")
HEADER = 12
MAX_REVERSE = 64
MAX_LABEL = 63


class SplitNames(Generic[T]):
    """``zones``: by the name that theirs end with, who answers for it; ``other``: who answers for all the rest."""

    def __init__(self, zones: Mapping[str, T], other: T) -> None:
        self._zones = {_labels(zone): who for zone, who in zones.items()}
        self._other = other

    def choose(self, name: str) -> T:
        """Who answers for a name: the longest zone that it is in counts."""
        labels = _labels(name)
        for start in range(len(labels)):
            found = self._zones.get(labels[start:])
            if found is not None:
                return found
        return self._other


def _labels(name: str) -> tuple[str, ...]:
    return tuple(name.rstrip(".").lower().split("."))


def reverse_zones(networks: Iterable[Network]) -> tuple[str, ...]:
    """The zones of the names of these networks' addresses (RFC 1035 §3.5, RFC 3596 §2.5), as few as there can be.

    A network that would need more than 64 has none.
    """
    found: list[str] = []
    for network in networks:
        step, base = (8, "in-addr.arpa") if network.version == 4 else (4, "ip6.arpa")
        length = -(-network.prefixlen // step) * step
        if not network.prefixlen or length - network.prefixlen > MAX_REVERSE.bit_length() - 1:
            continue
        for part in network.subnets(new_prefix=length):
            whole = part.network_address.reverse_pointer.removesuffix(f".{base}").split(".")
            found.append(".".join((*whole[len(whole) - length // step :], base)))
    return tuple(dict.fromkeys(found))


def read_name_untrusted(query: bytes) -> str | None:
    """The name that a query asks for, in lower case; None for what is not one question. Never raises."""
    try:
        message = dns.message.from_wire(query, question_only=True)
    except (dns.exception.DNSException, ValueError):
        return None
    if message.flags & 0x8000 or len(message.question) != 1 or _question_end(query) > len(query):
        return None
    return message.question[0].name.to_text(omit_final_dot=True).lower()


def is_answer(data: bytes, query: bytes) -> bool:
    """Whether octets answer a query that :func:`read_name_untrusted` has read: identifier and question are the same.

    The question ends where its name, type and class do (RFC 1035 §4.1.2).
    """
    asked = query[HEADER : _question_end(query)]
    same = data[HEADER : HEADER + len(asked)].lower() == asked.lower()
    return data[:2] == query[:2] and len(data) >= HEADER and bool(data[2] & 0x80) and same


def _question_end(query: bytes) -> int:
    """Where the first question ends; behind the octets' end where its name is cut off or has a pointer in it."""
    at = HEADER
    while at < len(query) and 0 < query[at] <= MAX_LABEL:
        at += 1 + query[at]
    return at + 5 if at < len(query) and not query[at] else len(query) + 1


def failure(query: bytes, code: int = dns.rcode.SERVFAIL) -> bytes:
    """The answer for a client where no server has answered, so that it does not wait."""
    end = _question_end(query)
    flags = 0x8080 | (query[2] << 8 & 0x7900) | code
    return query[:2] + flags.to_bytes(2) + b"\0\1" + bytes(6) + query[HEADER:end]
