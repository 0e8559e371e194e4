"""The public addresses: whether the outside sees others than before the tunnel."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.versions import both
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row
from zesty_burrow.core.outside.observation import Observation, Sighting
from zesty_burrow.core.outside.strangers import sighting_of

CODES = (
    Code("address-unchanged", Severity.SERIOUS, "The public address is the same as before the tunnel.",
         "Traffic leaves in the clear, from your own address.",
         "Disconnect, run `zesty restore`, connect again; check the profile's traffic.networks."),
    Code("address-changed", Severity.NOTE, "The public address has changed.",
         "Traffic leaves through the exit of the tunnel.", "Nothing to do."),
    Code("ipv6-leak", Severity.SERIOUS, "IPv6 traffic bypasses the tunnel.",
         "Sites that have IPv6 see your own address and operator.",
         'Set traffic.ipv6 to "tunnel" or "block" in the profile and connect again.', "RFC 7359 §4"),
    Code("ipv6-absent", Severity.NOTE, "There is no IPv6 to the outside.", "Nothing can leak that way.",
         "Nothing to do."),
    Code("outside-as-meant", Severity.NOTE,
         "Only the profile's networks go through the tunnel; the rest leaves as without it.",
         "The profile says so: this is no leak.", "Nothing, if that is wanted."),
)  # fmt: skip
ON_PAGE = {
    "en": {
        "address-unchanged": "Your own address is seen, as without the tunnel.",
        "ipv6-leak": "Your own IPv6 address is seen.",
    },
    "de": {
        "address-unchanged": "Ihre eigene Adresse ist zu sehen, wie ohne Tunnel.",
        "ipv6-leak": "Ihre eigene IPv6-Adresse ist zu sehen.",
    },
    "es": {
        "address-unchanged": "Se ve su propia dirección, como sin el túnel.",
        "ipv6-leak": "Se ve su propia dirección IPv6.",
    },
    "fr": {
        "address-unchanged": "Votre propre adresse est visible, comme sans tunnel.",
        "ipv6-leak": "Votre propre adresse IPv6 est visible.",
    },
}

Exits = Sequence[tuple[str, Sighting]]
"""Address families and what is seen of them."""


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    seen = both(questions, lambda version: questions.get("/v1/address", version))
    return {f"ipv{version}": sighting_of(document) for version, document in seen.items()}


def _read(document: Mapping[str, Any]) -> Evidence:
    return {family: sighting_of(document.get(family)) for family in ("ipv4", "ipv6")}


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.after.reached:
        return
    # What the outside sees of the rest is as it should be: the rest is meant to be there.
    yield from _all_traffic(facts.before, facts.after) if facts.promise.everything else _the_rest(facts)


def _all_traffic(before: Observation | None, after: Observation) -> Iterator[Finding]:
    old4, new4 = (before.ipv4 if before else Sighting()), after.ipv4
    if new4.address and new4.address == old4.address:
        yield finding("address-unchanged", "IPv4", f"still {new4.address} ({new4.operator})")
    elif new4.address and old4.address:
        yield finding("address-changed", "IPv4", f"{old4.address} became {new4.address}")
    old6, new6 = (before.ipv6 if before else Sighting()), after.ipv6
    if not new6.address:
        yield finding("ipv6-absent", "IPv6")
    elif old6.address and (new6.address == old6.address or _same_home(old6, new6, after)):
        yield finding("ipv6-leak", "IPv6", f"the outside sees {new6.address} ({new6.operator})")
    elif old6.address:
        yield finding("address-changed", "IPv6", f"{old6.address} became {new6.address}")


def _the_rest(facts: Facts) -> Iterator[Finding]:
    seen = [entry.address for entry in (facts.after.ipv4, facts.after.ipv6) if entry.address]
    yield finding("outside-as-meant", "other traffic", ", ".join(seen))
    known = {entry.address for entry in (facts.before.ipv4, facts.before.ipv6)} if facts.before else set()
    if known and not known & set(seen):
        yield finding("address-changed", "other traffic", "although it is meant to leave as without the tunnel")


def _same_home(old: Sighting, new: Sighting, after: Observation) -> bool:
    """The operator from before while IPv4 has moved: a new address of one's own network (RFC 8981) is still a leak."""
    return bool(new.operator) and new.operator == old.operator and new.operator != after.ipv4.operator


def exits(before: Observation | None, after: Observation) -> Exits:
    """What is seen of the tunnel: not an address that bypasses it, which is a finding of its own."""
    old4, old6 = (before.ipv4, before.ipv6) if before else (Sighting(), Sighting())
    beside4 = after.ipv4.address == old4.address
    beside6 = after.ipv6.address == old6.address or _same_home(old6, after.ipv6, after)
    rows = (("IPv4", after.ipv4, beside4), ("IPv6", after.ipv6, beside6))
    return [(label, seen) for label, seen, beside in rows if seen.address and not beside]


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    for label, old, new in (("IPv4", before.ipv4, after.ipv4), ("IPv6", before.ipv6, after.ipv6)):
        yield f"{label} address", old.address or "none", new.address or "none"
        if old.address or new.address:
            yield "  operator", old.operator, new.operator
            yield "  place", old.place, new.place


CHECK = Check(
    "addresses",
    CODES,
    judge=_judge,
    looks_at="public addresses",
    ask=_ask,
    rows=_rows,
    script=(__package__, "addresses.js"),
    read=_read,
    on_page=ON_PAGE,
)
