"""The addresses that real-time applications reveal: STUN (RFC 8489), and candidates of WebRTC (RFC 8825)."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks.asked.versions import both
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row, paired
from zesty_burrow.core.outside.observation import Observation, Sighting
from zesty_burrow.core.outside.strangers import sighting_of

MAX_ITEMS = 16
KEY = "real_time_by_source"
"""In :attr:`Observation.more`: what STUN told a socket that was bound to one of this machine's addresses."""
PRIVATE = tuple(
    ipaddress.ip_network(network)
    for network in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
)
"""RFC 1918, RFC 6598, RFC 4193: what nobody outside sees."""
CODES = (
    Code("real-time-leak", Severity.SERIOUS, "A real-time application would reveal your own address.",
         "STUN sees the address from before the tunnel.", "Disconnect, `zesty restore`, connect again.", "RFC 8489"),
)  # fmt: skip
ON_PAGE = {
    "en": {"real-time-leak": "Calls and video reveal your own address."},
    "de": {"real-time-leak": "Anrufe und Video verraten Ihre eigene Adresse."},
    "es": {"real-time-leak": "Las llamadas y el vídeo revelan su propia dirección."},
    "fr": {"real-time-leak": "Les appels et la vidéo révèlent votre propre adresse."},
}


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    told = questions.about.get("stun_port")
    port = told if isinstance(told, int) and 0 < told < 65536 else stun.PORT
    seen = both(questions, lambda version: questions.real_time(version, port))
    addresses = [address for address in seen.values() if address]
    # As applications do that try every address of the machine (RFC 8445 §5.1.1.1).
    by_source = questions.real_time_by_source(port)
    return {"real_time": tuple(Sighting(address) for address in addresses), KEY: dict(by_source)}


def _read(document: Mapping[str, Any]) -> Evidence:
    """Public addresses alone, each once."""
    rows = document.get("real_time")
    public: dict[str, Sighting] = {}
    for row in rows[:MAX_ITEMS] if isinstance(rows, list) else []:
        seen = sighting_of(row)
        try:
            address = ipaddress.ip_address(seen.address)
        except ValueError:
            continue
        if not (address.is_link_local or address.is_loopback or any(address in network for network in PRIVATE)):
            public.setdefault(str(address), seen)
    return {"real_time": tuple(public.values())}


def _judge(facts: Facts) -> Iterator[Finding]:
    before = facts.before
    if not facts.is_whole or before is None:
        return
    own = {seen.address for seen in (before.ipv4, before.ipv6, *before.real_time) if seen.address}
    for seen in facts.after.real_time:
        if seen.address in own:
            yield finding("real-time-leak", "STUN", f"{seen.address} ({seen.operator})")
    for source, address in facts.after.more.get(KEY, {}).items():
        if address in own:
            yield finding("real-time-leak", f"STUN from {source}", address)


def _rows(before: Observation, after: Observation) -> list[Row]:
    old, new = ([seen.address for seen in side.real_time] for side in (before, after))
    rows = paired("real-time (STUN)", old, new)
    earlier, now = (side.more.get(KEY, {}) for side in (before, after))
    rows += [(f"  from {source}", earlier.get(source, "no answer"), now[source]) for source in now]
    return rows


CHECK = Check(
    "real_time",
    CODES,
    judge=_judge,
    looks_at="addresses that real-time applications reveal",
    ask=_ask,
    rows=_rows,
    script=(__package__, "real_time.js"),
    read=_read,
    on_page=ON_PAGE,
)
