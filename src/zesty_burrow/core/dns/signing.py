"""Signatures of a zone, made while it answers (RFC 4034, RFC 4035 §3.1, RFC 4470): Ed25519 (RFC 8080), by dnspython.

Names whose first label begins with :data:`BROKEN` get signatures that do not hold: a resolver that checks signatures
answers for none of them (RFC 4035 §5.5).
"""

from __future__ import annotations

from collections.abc import Callable

import dns.dnssec
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from dns.rdtypes.ANY.DNSKEY import DNSKEY

BROKEN = "bad-"
SECURE_ENTRY_POINT = 257
"""Flags of a key that the parent names (RFC 4034 §2.1.1)."""
BEFORE, AFTER = 3600, 86400
"""Seconds for which a signature has been valid, and will be."""
KEY_TTL = 3600


def key_record(key: Ed25519PublicKey) -> DNSKEY:
    """DNSKEY (RFC 4034 §2)."""
    return dns.dnssec.make_dnskey(key, "ED25519", SECURE_ENTRY_POINT)


def parent_record(origin: str, key: Ed25519PublicKey) -> str:
    """What the parent zone has to have, as a line of a zone file: DS (RFC 4034 §5) with SHA-256 (RFC 4509)."""
    return f"{origin}. IN DS {dns.dnssec.make_ds(f'{origin}.', key_record(key), 'SHA256').to_text()}"


class ZoneSigner:
    """``now``: seconds since 1970."""

    def __init__(self, key: Ed25519PrivateKey, origin: str, now: Callable[[], float]) -> None:
        self._key, self._now = key, now
        self._origin = dns.name.from_text(origin)
        self._record = key_record(key.public_key())

    def complete(self, query: dns.message.Message, response: dns.message.Message) -> None:
        """Add the zone's key where it is asked for, and signatures where the question wants them (RFC 3225 §3)."""
        asked = query.question[0]
        if asked.rdtype == dns.rdatatype.DNSKEY and asked.name == self._origin:
            response.answer.append(dns.rrset.from_rdata(self._origin, KEY_TTL, self._record))
            response.authority.clear()
        if not query.ednsflags & dns.flags.DO:
            return
        response.want_dnssec(True)
        if not response.answer and response.authority:
            self._deny(response, asked)
        for section in (response.answer, response.authority):
            section += [self._signature(rows) for rows in section]

    @staticmethod
    def _deny(response: dns.message.Message, asked: dns.rrset.RRset) -> None:
        """Every name exists, as far as signatures tell, and has no records of this type (RFC 4035 §3.1.3.1)."""
        response.set_rcode(dns.rcode.NOERROR)
        after = dns.name.Name((b"\0", *asked.name.labels)).to_text()
        response.authority.append(dns.rrset.from_text(asked.name, 0, "IN", "NSEC", f"{after} RRSIG NSEC"))

    def _signature(self, rows: dns.rrset.RRset) -> dns.rrset.RRset:
        now = int(self._now())
        made = dns.dnssec.sign(
            rows, self._key, self._origin, self._record, inception=now - BEFORE, expiration=now + AFTER
        )
        if rows.name.labels[0].lower().startswith(BROKEN.encode()):
            broken = made.replace(signature=bytes([made.signature[0] ^ 1]) + made.signature[1:])
            return dns.rrset.from_rdata(rows.name, rows.ttl, broken)
        return dns.rrset.from_rdata(rows.name, rows.ttl, made)
