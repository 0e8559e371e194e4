"""Signatures of the observatory's zone as a resolver of the lab sees them: what the parent zone says, and the check."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from contextlib import suppress
from pathlib import Path

import dns.dnssec
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset

from zesty_burrow.core.dns.signing import parent_record
from zesty_burrow.lab import story
from zesty_burrow.observe.observatory.signing import load_or_make

Ask = Callable[[bytes], Awaitable[bytes | None]]
NOT_FOR_PLAIN = (dns.rdatatype.RRSIG, dns.rdatatype.NSEC)


class Signatures:
    """``key``: the file of the zone's key, from which the lab's parent zone has its DS record. ``ask``: the zone's own
    server.
    """

    def __init__(self, key: Path, ask: Ask) -> None:
        self._key, self._ask = key, ask
        self._origin = dns.name.from_text(story.OBSERVATORY_NAME)
        self._known: dns.rrset.RRset | None = None

    def of_parent(self, data: bytes) -> bytes | None:
        """The parent zone's answer to a question for the DS record; None for every other question."""
        try:
            query = dns.message.from_wire(data[:4096])
        except (dns.exception.DNSException, ValueError):
            return None
        asked = query.question[0] if len(query.question) == 1 else None
        if asked is None or (asked.name, asked.rdtype) != (self._origin, dns.rdatatype.DS):
            return None
        response = dns.message.make_response(query)
        response.answer.append(self._parent())
        return response.to_wire()

    def _parent(self) -> dns.rrset.RRset:
        words = parent_record(story.OBSERVATORY_NAME, load_or_make(self._key).public_key()).split(" ", 3)
        return dns.rrset.from_text(self._origin, 60, "IN", "DS", words[3])

    async def resolve(self, data: bytes) -> bytes | None:
        """An answer whose signatures hold, with the AD bit; SERVFAIL for another one (RFC 4035 §5.5)."""
        try:
            query = dns.message.from_wire(data[:4096])
        except (dns.exception.DNSException, ValueError):
            return None
        wants = bool(query.ednsflags & dns.flags.DO)
        asked = query.question[0]
        question = dns.message.make_query(asked.name, asked.rdtype)
        question.use_edns(0, dns.flags.DO, 1232, options=list(query.options))
        answered = await self._ask(question.to_wire())
        response = dns.message.make_response(query)
        if answered is None:
            return None
        with suppress(dns.exception.DNSException, ValueError, KeyError):
            seen = dns.message.from_wire(answered)
            keys = await self._keys()
            for section in (seen.answer, seen.authority):
                for rows in section:
                    if rows.rdtype != dns.rdatatype.RRSIG:
                        signed = seen.find_rrset(section, rows.name, rows.rdclass, dns.rdatatype.RRSIG, rows.rdtype)
                        dns.dnssec.validate(rows, signed, {self._origin: keys})
            response.set_rcode(seen.rcode())
            response.answer, response.authority = (
                [rows for rows in section if wants or rows.rdtype not in NOT_FOR_PLAIN]
                for section in (seen.answer, seen.authority)
            )
            response.flags |= dns.flags.AD
            return response.to_wire()
        response.set_rcode(dns.rcode.SERVFAIL)
        return response.to_wire()

    async def _keys(self) -> dns.rrset.RRset:
        """The zone's keys, where the parent names one of them and it has signed them (RFC 4035 §5.2)."""
        if self._known is None:
            query = dns.message.make_query(self._origin, "DNSKEY", want_dnssec=True)
            seen = dns.message.from_wire(await self._ask(query.to_wire()) or b"")
            keys = seen.find_rrset(seen.answer, self._origin, query.question[0].rdclass, dns.rdatatype.DNSKEY)
            digests = {dns.dnssec.make_ds(self._origin, key, "SHA256").to_text() for key in keys}
            if not digests & {row.to_text() for row in self._parent()}:
                raise KeyError("the parent zone names another key")
            signed = seen.find_rrset(seen.answer, self._origin, keys.rdclass, dns.rdatatype.RRSIG, keys.rdtype)
            dns.dnssec.validate(keys, signed, {self._origin: keys})
            self._known = keys
        return self._known
