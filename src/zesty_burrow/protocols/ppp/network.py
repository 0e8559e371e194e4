"""IPCP (RFC 1332, RFC 1877) and IPV6CP (RFC 5072): addresses and name servers, at either end."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.protocols.ppp.automaton import Options
from zesty_burrow.protocols.ppp.packet import Option

ADDRESS = 3
FIRST_NAME_SERVER, FIRST_NETBIOS, SECOND_NAME_SERVER, SECOND_NETBIOS = 129, 130, 131, 132
SERVERS = (FIRST_NAME_SERVER, SECOND_NAME_SERVER, FIRST_NETBIOS, SECOND_NETBIOS)
INTERFACE_ID = 1
NOWHERE = bytes(4)


class CallerIpcp(Options):
    """Who is given an address. ``values``: what this side asks for by option; the other side corrects it."""

    def __init__(self, wanted: bytes = NOWHERE) -> None:
        self.values = {ADDRESS: wanted, **dict.fromkeys(SERVERS, NOWHERE)}

    def wanted(self) -> list[Option]:
        return [Option(kind, value) for kind, value in self.values.items()]

    def judge(self, option: Option) -> Option | None:
        # Whatever address the other end has itself is its own affair.
        return option if option.kind == ADDRESS and len(option.value) == 4 else None

    def corrected(self, option: Option) -> None:
        if option.kind in self.values and len(option.value) == 4:
            self.values[option.kind] = option.value

    def refused(self, option: Option) -> None:
        if option.kind != ADDRESS:
            self.values.pop(option.kind, None)

    def address(self) -> IPv4Address:
        return IPv4Address(self.values[ADDRESS])

    def servers(self, *kinds: int) -> tuple[IPv4Address, ...]:
        """Name servers that were given."""
        values = (self.values.get(kind, NOWHERE) for kind in kinds)
        return tuple(IPv4Address(value) for value in values if value != NOWHERE)


class CalledIpcp(Options):
    """Who gives an address: ``given`` has the caller's and name servers by option; ``own``: this side's."""

    def __init__(self, own: bytes, given: dict[int, bytes]) -> None:
        self.own, self.given = own, given

    def wanted(self) -> list[Option]:
        return [Option(ADDRESS, self.own)]

    def judge(self, option: Option) -> Option | None:
        value = self.given.get(option.kind)
        return None if value is None else Option(option.kind, value)

    def corrected(self, option: Option) -> None:
        pass

    def refused(self, option: Option) -> None:
        pass

    def missing(self, options: Sequence[Option]) -> list[Option]:
        asked = any(option.kind == ADDRESS for option in options)
        return [] if asked else [Option(ADDRESS, self.given[ADDRESS])]


class Ipv6cp(Options):
    """``own``: this side's interface identifier; ``given``: the caller's, where this side is the one that gives it."""

    def __init__(self, random: Random, own: bytes = b"", given: bytes = b"") -> None:
        # RFC 5072 §4.1: the "u" bit says that it is not unique in the world.
        self.own = own or bytes([random(1)[0] & 0xFD]) + random(7)
        self.given = given
        self.peer = b""
        self._random = random

    def wanted(self) -> list[Option]:
        return [Option(INTERFACE_ID, self.own)]

    def judge(self, option: Option) -> Option | None:
        if option.kind != INTERFACE_ID or len(option.value) != 8:
            return None
        if self.given:
            return Option(INTERFACE_ID, self.given)
        is_free = option.value not in (bytes(8), self.own)
        return option if is_free else Option(INTERFACE_ID, bytes([self._random(1)[0] & 0xFD]) + self._random(7))

    def corrected(self, option: Option) -> None:
        if option.kind == INTERFACE_ID and len(option.value) == 8 and option.value != bytes(8):
            self.own = option.value

    def refused(self, option: Option) -> None:
        pass

    def agreed(self, options: Sequence[Option]) -> None:
        self.peer = next((option.value for option in options if option.kind == INTERFACE_ID), b"")
