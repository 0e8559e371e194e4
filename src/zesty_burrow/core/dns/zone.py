"""The observatory's authoritative answers for its test zone (RFC 1035, RFC 2308), through dnspython's wire format.

A one-time name is ``LABEL.TOKEN.ZONE``: the token names a test run, the label makes each name new, so that no
cache can answer. Every question under the zone is an observation.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import dns.edns
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset

from zesty_burrow.core.dns.question import AAAA, A, build_answer, read_question_untrusted
from zesty_burrow.records import dataclass, field, replace

MAX_QUERY = 4096
UDP_SAFE = 1232
CLIENT_SUBNET = b"\0\x08"
"""The number of its option (RFC 7871 §6); where these octets stand, the library looks."""
MOST_AT_ONCE = 8
"""Addresses that fit into an answer of 512 octets, whatever the name."""


@dataclass(frozen=True, slots=True)
class Zone:
    """``addresses``: records of fixed names; names below ``probe`` are answered with ``probe_addresses``."""

    origin: str
    addresses: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    probe: str = ""
    probe_addresses: tuple[str, ...] = ()
    name_server: str = ""
    ttl: int = 60


@dataclass(frozen=True, slots=True)
class Question:
    """A question for a one-time name: ``token`` is the run it belongs to. ``subnet``: the client's network that the
    resolver tells (RFC 7871 §6), empty where it tells none.
    """

    name: str
    token: str
    type: str
    subnet: str = ""


Complete = Callable[[dns.message.Message, dns.message.Message], None]
"""Adds to an answer what a query asks for besides, as signatures."""


def _nothing_more(_query: dns.message.Message, _response: dns.message.Message) -> None:
    return


def answer(
    data: bytes, zone: Zone, *, over_udp: bool, complete: Complete = _nothing_more
) -> tuple[bytes | None, Question | None]:
    """The octets to answer a stranger's query with (None: no answer), and the question if it was for a probe name."""
    if len(data) > MAX_QUERY or len(data) < 12:
        return None, None
    plain = None if CLIENT_SUBNET in data[12:] else plain_answer(data, zone)
    return plain or library_answer(data, zone, over_udp=over_udp, complete=complete)


def library_answer(
    data: bytes, zone: Zone, *, over_udp: bool, complete: Complete = _nothing_more
) -> tuple[bytes | None, Question | None]:
    """:func:`answer` by the DNS library, whatever was asked."""
    try:
        query = dns.message.from_wire(data)
    except (dns.exception.DNSException, ValueError):
        return None, None
    if query.flags & dns.flags.QR or len(query.question) != 1 or query.opcode() != 0:
        return None, None
    response = dns.message.make_response(query, our_payload=UDP_SAFE)
    asked = query.question[0]
    question = None
    if not asked.name.is_subdomain(dns.name.from_text(zone.origin)):
        response.set_rcode(dns.rcode.REFUSED)
    else:
        response.flags |= dns.flags.AA
        question = _fill(response, zone, asked)
        complete(query, response)
        if question is not None:
            question = replace(question, subnet=_subnet(query))
    limit = min(query.payload or 512, UDP_SAFE) if over_udp else 65535
    try:
        return response.to_wire(max_size=max(limit, 512)), question
    except dns.exception.TooBig:
        response.flags |= dns.flags.TC
        response.answer.clear()
        return response.to_wire(max_size=max(limit, 512)), question


def _subnet(query: dns.message.Message) -> str:
    for option in query.options:
        if isinstance(option, dns.edns.ECSOption):
            return f"{option.address}/{option.srclen}"
    return ""


def plain_answer(data: bytes, zone: Zone) -> tuple[bytes, Question | None] | None:
    """The same for what is asked most: addresses that exist. None for everything else."""
    asked = read_question_untrusted(data)
    if asked is None or asked[1] not in (A, AAAA):
        return None
    (name, kind), question = asked, None
    addresses = zone.addresses.get(name, ())
    if zone.probe and name.endswith("." + zone.probe):
        question, addresses = _one_time(name, zone, "A" if kind == A else "AAAA"), zone.probe_addresses
    rows = [address for address in addresses if (":" in address) == (kind == AAAA)]
    if not 0 < len(rows) <= MOST_AT_ONCE or not f".{name}".endswith("." + zone.origin):
        return None
    return build_answer(data, kind, rows, 0 if question else zone.ttl), question


def _one_time(name: str, zone: Zone, kind: str) -> Question:
    return Question(name, name.removesuffix("." + zone.probe).split(".")[-1], kind)


def _fill(response: dns.message.Message, zone: Zone, asked: dns.rrset.RRset) -> Question | None:
    name = asked.name.to_text(omit_final_dot=True).lower()
    question = None
    if zone.probe and name.endswith("." + zone.probe):
        question = _one_time(name, zone, dns.rdatatype.to_text(asked.rdtype))
        addresses = zone.probe_addresses
    elif name in zone.addresses:
        addresses = zone.addresses[name]
    else:
        addresses = ()
        if name not in (zone.origin, zone.probe):
            response.set_rcode(dns.rcode.NXDOMAIN)
    wanted = {dns.rdatatype.A: ".", dns.rdatatype.AAAA: ":"}.get(asked.rdtype)
    rows = [address for address in addresses if wanted and wanted in address]
    if rows:
        ttl = 0 if question else zone.ttl
        response.answer.append(dns.rrset.from_text_list(asked.name, ttl, "IN", asked.rdtype, rows))
    else:
        # RFC 2308 §3: the SOA in a negative answer says how long "no" holds; here not at all.
        origin = dns.name.from_text(zone.origin)
        server = zone.name_server or zone.origin
        soa = f"{server}. hostmaster.{zone.origin}. 1 3600 600 86400 0"
        response.authority.append(dns.rrset.from_text(origin, 0, "IN", "SOA", soa))
    return question
