"""What resolvers make of answers: rewritten, invented, or asked with a part of the caller's own address."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping
from functools import partial
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row
from zesty_burrow.core.outside.observation import Observation

MOST = 16
CODES = (
    Code("dns-rewritten", Severity.SERIOUS, "A resolver gives other answers than the zone's own server.",
         "It can lead you to any host, and to the observatory's name as well.",
         "Choose other name servers: traffic.name_servers in the profile, or another gateway."),
    Code("dns-invented", Severity.WARNING, "A resolver answers names that do not exist.",
         "Mistyped names lead to a host of its operator.", "Choose other name servers if you do not want that."),
    Code("dns-client-subnet", Severity.SERIOUS, "A resolver tells the servers that it asks your own network.",
         "Every zone's operator learns where you are, though the traffic goes through the tunnel.",
         "Choose name servers that do not send the client subnet.", "RFC 7871 §11.1"),
    Code("dns-subnet-sent", Severity.NOTE, "A resolver tells the servers that it asks a network, which is not yours.",
         "", "Nothing to do.", "RFC 7871"),
)  # fmt: skip


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    zone, told = questions.about.get("probe_zone"), questions.about.get("probe_answers")
    if not isinstance(zone, str) or not zone or not isinstance(told, list):
        return {}
    expected = sorted({str(address) for address in told[:MOST]})
    token = questions.random(12).hex()
    name = f"a-{questions.random(4).hex()}.{token}.{zone}"
    parent = zone.partition(".")[2]
    missing = f"no-{questions.random(8).hex()}.{parent}"
    answered, invented = (
        sorted(rows)[:MOST] for rows in questions.together([partial(questions.resolve, one) for one in (name, missing)])
    )
    rows = (questions.get(f"/v1/names/{token}") or {}).get("questions")
    return {
        "answers_expected": expected,
        "answers_given": answered,
        "answers_invented": invented,
        "client_subnets": sorted({subnet for row in _rows_of(rows) if (subnet := _network(row.get("subnet")))}),
    }


def _rows_of(rows: Any) -> list[Mapping[str, Any]]:
    return [row for row in rows[:MOST] if isinstance(row, dict)] if isinstance(rows, list) else []


def _network(value: Any) -> str:
    try:
        return str(ipaddress.ip_network(str(value), strict=False)) if value else ""
    except ValueError:
        return ""


def _judge(facts: Facts) -> Iterator[Finding]:
    seen = facts.after.more
    if not facts.after.reached or "answers_expected" not in seen:
        return
    expected, given = set(seen["answers_expected"]), set(seen["answers_given"])
    if given - expected:
        yield finding(
            "dns-rewritten", "one-time name", f"{', '.join(sorted(given))} instead of {', '.join(sorted(expected))}"
        )
    if seen["answers_invented"]:
        yield finding("dns-invented", "a name that does not exist", ", ".join(seen["answers_invented"]))
    if facts.is_whole:
        yield from _subnets(facts, seen["client_subnets"])


def _subnets(facts: Facts, subnets: list[str]) -> Iterator[Finding]:
    before = facts.before
    own = [
        ipaddress.ip_address(entry.address) for entry in ((before.ipv4, before.ipv6) if before else ()) if entry.address
    ]
    for subnet in map(ipaddress.ip_network, subnets):
        if any(address.version == subnet.version and address in subnet and subnet.prefixlen for address in own):
            yield finding("dns-client-subnet", "name resolution", str(subnet))
        elif subnet.prefixlen:
            yield finding("dns-subnet-sent", "name resolution", str(subnet))


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    for label, key in (("client subnet told", "client_subnets"), ("invented answers", "answers_invented")):
        old, new = (", ".join(side.more.get(key, ())) for side in (before, after))
        if old or new:
            yield label, old or "none", new or "none"


CHECK = Check("answers", CODES, judge=_judge, looks_at="answers of resolvers", ask=_ask, rows=_rows)
