"""HTTP without TLS: whether somebody on the way changes it, and which address it comes from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.versions import both, by_version, own_addresses
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, PlainExchange, Questions, Row
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.core.outside.strangers import sighting_of

KEY = "plain_http"
MOST, LONGEST = 16, 120
ANSWERED = frozenset(
    {"content-type", "cache-control", "server", "access-control-allow-origin", "content-length", "date"}
)
"""The fields of an observatory's own answer."""
CODES = (
    Code("http-changed", Severity.WARNING, "Somebody on the way changes HTTP.",
         "They read what is sent without TLS, and can change pages and downloads.",
         "Use HTTPS alone; ask the exit's operator, or choose another gateway.", "RFC 9110 §7.7"),
    Code("http-leak", Severity.SERIOUS, "HTTP without TLS bypasses the tunnel.",
         "Sites see your own address.", "Look for proxies in the settings, and for rules of port 80.", "RFC 9110 §3.7"),
)  # fmt: skip


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    port = questions.about.get("http_port")
    if not isinstance(port, int) or not 0 < port < 65536:
        return {}
    seen = {}
    for version, exchange in both(questions, lambda version: questions.plain_request(version, port)).items():
        if exchange is not None:
            address = sighting_of(exchange.told).address
            seen[str(version)] = {"address": address, "changes": list(changes_untrusted(exchange))[:MOST]}
    return {KEY: seen}


def changes_untrusted(exchange: PlainExchange) -> Iterator[str]:
    """What is different from what was sent and from what an observatory answers, in words; a stranger's values."""
    told = exchange.told.get("fields")
    if exchange.told.get("target") != exchange.target or not isinstance(told, list):
        yield "the answer is not the observatory's"
        return
    arrived = [(str(row[0]), str(row[1])) for row in told if isinstance(row, list) and len(row) == 2]
    yield from _differences("the request", exchange.sent, arrived)
    extra = [name for name, _ in exchange.answered if name.lower() not in ANSWERED]
    yield from (_short(f"the answer has {name}") for name in extra)


def _differences(what: str, sent: Sequence[tuple[str, str]], arrived: Sequence[tuple[str, str]]) -> Iterator[str]:
    names = {name.lower() for name, _ in sent}
    for name, value in sent:
        if (name, value) not in arrived:
            yield _short(f"{what} arrives without {name}, or with another one")
    for name, value in arrived:
        if name.lower() not in names:
            yield _short(f"{what} arrives with {name}: {value}")


def _short(text: str) -> str:
    return "".join(letter for letter in text if letter.isprintable())[:LONGEST]


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.after.reached:
        return
    own = own_addresses(facts.before)
    for label, row in by_version(facts.after, KEY):
        if facts.is_whole and row["address"] in own:
            yield finding("http-leak", label, f"the outside sees {row['address']}")
        if row["changes"]:
            yield finding("http-changed", label, "; ".join(row["changes"]))


def _words(row: dict[str, Any] | None) -> str:
    if row is None:
        return "unknown"
    return "changed on the way" if row["changes"] else "arrives as sent"


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    old, new = (dict(by_version(side, KEY)) for side in (before, after))
    for label in ("IPv4", "IPv6"):
        if label in old or label in new:
            yield f"{label} HTTP", _words(old.get(label)), _words(new.get(label))


CHECK = Check("plain_http", CODES, judge=_judge, looks_at="HTTP without TLS", ask=_ask, rows=_rows)
