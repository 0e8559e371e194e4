"""Settings of a protocol that this program does not speak, recognised by what is in them, not by whose they are.

Such a text names a host with a port of its own, and holds a certificate or keys of 32 octets, and no protocol of ours.
What it names is told, so that its gateway can be asked what else it speaks. A guess would store a wrong profile.
"""

from __future__ import annotations

import re

from zesty_burrow.intake.readers.tables import is_host
from zesty_burrow.protocols.parts import sheets
from zesty_burrow.records import dataclass

LONGEST = 1 << 18
OURS = re.compile(r"ipsec|mschap|\beap\b|pre-?shared|^\[\[?(?:profile|gateway)", re.IGNORECASE | re.MULTILINE)
"""Words by which a text may be about a protocol of ours; each protocol has words of its own besides."""
OUR_PORTS = frozenset({"443", "500", "1701", "1723", "4500"})
WITH_PORT = re.compile(
    r"(?<![\w.:/@-])([a-z0-9][a-z0-9.-]*\.[a-z0-9-]{2,})(?::|[ \t]+)(\d{2,5})(?!\d|[.\w])", re.IGNORECASE
)
KEY = re.compile(r"^[^\n:=]{0,40}key[^\n:=]{0,20}[:=][ \t]*([A-Za-z0-9+/]{43}=)[ \t]*$", re.IGNORECASE | re.MULTILINE)
CERTIFICATE = re.compile(r"-----BEGIN CERTIFICATE-----")
PEM = re.compile(r"-----BEGIN [A-Z ]+-----.*?-----END [A-Z ]+-----", re.DOTALL)
MOST_OF_ONE = 1
"""A single key may be anything."""
MOST = 5


@dataclass(frozen=True, slots=True)
class ForeignSettings:
    """What such a text names."""

    host: str
    port: int
    certificates: int = 0
    keys: int = 0

    @property
    def words(self) -> str:
        found = [f"host {self.host}", f"port {self.port}"]
        found += ["an authority's certificate"] if self.certificates else []
        found += [f"{self.keys} keys of 32 octets"] if self.keys else []
        return ", ".join(found)


def foreign_settings(text: str) -> ForeignSettings | None:
    """None where a text is not of that kind, or may be about a protocol of ours."""
    head = text[:LONGEST]
    certificates, keys = len(CERTIFICATE.findall(head)), len(KEY.findall(head))
    # Letters of keys and certificates are no words.
    rest = KEY.sub("", PEM.sub("", head))
    if not (certificates or keys >= MOST_OF_ONE + 1) or _may_be_ours(rest):
        return None
    for match in list(WITH_PORT.finditer(rest))[:MOST]:
        host, port = match.group(1).rstrip("."), match.group(2)
        if port not in OUR_PORTS and 0 < int(port) < 65536 and is_host(host):
            return ForeignSettings(host, int(port), certificates, keys)
    return None


def _may_be_ours(text: str) -> bool:
    plain = text.casefold()
    words = (pattern for facet in sheets().values() for pattern in (facet.named, facet.perhaps, facet.retired))
    return bool(OURS.search(text)) or any(pattern.search(plain) for pattern in words)
