"""Where addresses are: self-published geofeeds (RFC 8805), and whose they are."""

from __future__ import annotations

import csv
import io
import ipaddress
from collections.abc import Mapping
from typing import Generic, TypeVar

from zesty_burrow.core.net import Address, Network
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

MAX_ROWS = 1_000_000


@dataclass(frozen=True, slots=True)
class GeofeedPlace:
    """One row of a geofeed: ISO 3166-1 country, ISO 3166-2 region, city (RFC 8805 §2.1.1)."""

    country: str = ""
    region: str = ""
    city: str = ""


V = TypeVar("V")


class Prefixes(Generic[V]):
    """The longest prefix that covers an address: a look-up for each length that occurs, the longest first."""

    def __init__(self, rows: Mapping[Network, V]) -> None:
        by_length: dict[tuple[int, int], dict[int, V]] = {}
        for network, value in rows.items():
            shift = network.max_prefixlen - network.prefixlen
            by_length.setdefault((network.version, shift), {})[int(network.network_address) >> shift] = value
        self._levels = {
            version: [(shift, rows) for (own, shift), rows in sorted(by_length.items()) if own == version]
            for version in (4, 6)
        }

    def find(self, address: Address) -> V | None:
        """The value of the most specific network, or None where none covers it."""
        number = int(address)
        for shift, rows in self._levels[address.version]:
            v = rows.get(number >> shift)
            if v is not None:
                return v
        return None


class AddressBook:
    """Finds the most specific row for an address. ``places`` and ``operators`` are keyed by network."""

    def __init__(self, places: Mapping[Network, GeofeedPlace], operators: Mapping[Network, str]) -> None:
        self._places, self._operators = Prefixes(places), Prefixes(operators)

    def place(self, address: str) -> GeofeedPlace | None:
        """Where an address is, or None where no row covers it."""
        return self._places.find(ipaddress.ip_address(address))

    def operator(self, address: str) -> str:
        """Whose network an address is in; empty where nobody says."""
        return self._operators.find(ipaddress.ip_address(address)) or ""


def _rows(text: str, what: str) -> list[tuple[int, Network, list[str]]]:
    found: list[tuple[int, Network, list[str]]] = []
    try:
        reader = csv.reader(io.StringIO(text.lstrip("\ufeff")))
        for row in reader:
            if not row or row[0].strip().startswith("#"):
                continue
            if len(found) >= MAX_ROWS:
                raise Malformed(f"{what} is too long", why=f"more than {MAX_ROWS} rows")
            try:
                network = ipaddress.ip_network(row[0].strip())
            except ValueError as problem:
                raise Malformed(f"{what}, line {reader.line_num}", why=str(problem)) from None
            found.append((reader.line_num, network, [cell.strip() for cell in row[1:]]))
    except csv.Error as problem:
        raise Malformed(what, why=str(problem)) from None
    return found


def read_geofeed_untrusted(text: str) -> dict[Network, GeofeedPlace]:
    """Rows of prefix, country, region, city, postal code; raises only :class:`Malformed` with the line."""
    places = {}
    for line, network, cells in _rows(text, "the geofeed"):
        country, region, city = [*cells, "", "", ""][:3]
        if country and not (len(country) == 2 and country.isascii() and country.isalpha()):
            raise Malformed(f"the geofeed, line {line}", why=f"{country!r} is not an ISO 3166-1 code")
        places[network] = GeofeedPlace(country.upper(), region.upper(), city)
    return places


def read_operators_untrusted(text: str) -> dict[Network, str]:
    """Rows of prefix and operator; raises only :class:`Malformed` with the line."""
    return {network: cells[0] if cells else "" for _, network, cells in _rows(text, "the list of operators")}
