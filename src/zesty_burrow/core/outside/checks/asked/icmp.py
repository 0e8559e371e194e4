"""The address that the outside sees of ICMP: a way of its own through rules, translation and firewalls."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.versions import both, by_version, own_addresses
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row
from zesty_burrow.core.outside.echo import TOKEN_OCTETS
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.core.outside.strangers import sighting_of

KEY = "icmp"
CODES = (
    Code("icmp-leak", Severity.SERIOUS, "ICMP bypasses the tunnel.",
         "Every host that is pinged sees your own address.", "Disconnect, run `zesty restore`, connect again."),
    Code("exits-differ", Severity.NOTE, "The outside sees TCP, UDP and ICMP from different addresses.",
         "The exit has several addresses, or translates each protocol by itself.", "Nothing to do."),
)  # fmt: skip


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    if questions.about.get("echo") is not True:
        return {}

    def of(version: int) -> str | None:
        token = questions.random(TOKEN_OCTETS)
        if not questions.echo(version, token):
            return None
        rows = (questions.get(f"/v1/echoes/{token.hex()}") or {}).get("sources")
        return sighting_of(rows[0]).address if isinstance(rows, list) and rows else ""

    return {KEY: {str(version): address for version, address in both(questions, of).items() if address is not None}}


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.is_whole:
        return
    own = own_addresses(facts.before)
    by_label = dict(by_version(facts.after, KEY))
    for label, address in by_label.items():
        if address in own:
            yield finding("icmp-leak", label, f"the outside sees {address}")
    for label, seen in (("IPv4", facts.after.ipv4), ("IPv6", facts.after.ipv6)):
        datagrams = [entry.address for entry in facts.after.real_time if (":" in entry.address) == (label == "IPv6")]
        seen_by = {"TCP": seen.address, "UDP": (datagrams or [""])[0], "ICMP": by_label.get(label, "")}
        known = {protocol: address for protocol, address in seen_by.items() if address and address not in own}
        if len(set(known.values())) > 1:
            yield finding("exits-differ", label, ", ".join(f"{one} {address}" for one, address in known.items()))


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    old, new = (dict(by_version(side, KEY)) for side in (before, after))
    for label in ("IPv4", "IPv6"):
        if label in old or label in new:
            yield f"{label} address of ICMP", old.get(label, "unknown"), new.get(label, "unknown")


CHECK = Check("icmp", CODES, judge=_judge, looks_at="addresses that ICMP shows", ask=_ask, rows=_rows)
