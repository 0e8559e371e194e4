"""Kinds of questions for names: types that browsers ask for, UDP and TCP, and whether signatures are checked."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.dns.question import AAAA, DS, HTTPS, A, Reply
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.resolvers import judge_resolvers
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row
from zesty_burrow.core.outside.observation import Observation, Sighting
from zesty_burrow.core.outside.strangers import resolvers_in
from zesty_burrow.records import asdict, replace

KEY, SIGNED, ASKED_BY = "name_types", "signatures", "type_resolvers"
TYPES = {"A": A, "AAAA": AAAA, "HTTPS": HTTPS}
GOOD = (0, 3)
"""NOERROR and NXDOMAIN: the name server has an answer (RFC 1035 §4.1.1)."""
CHECKED, UNCHECKED = "checked", "not checked"
CODES = (
    Code("dns-type-unanswered", Severity.WARNING, "The name server does not answer every kind of question.",
         "Programs that ask like that wait, or do without.", "Choose other name servers.", "RFC 7766 §5, RFC 9460"),
    Code("dns-unchecked", Severity.NOTE, "The name server does not check signatures of zones.",
         "It passes on answers that somebody has changed.", "Choose name servers that check DNSSEC.", "RFC 4035 §4.2"),
)  # fmt: skip


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    zone, signed = questions.about.get("probe_zone"), questions.about.get("signed_zone")
    if not isinstance(zone, str) or not zone:
        return {}
    token = questions.random(12).hex()
    asked = [(name, over_tcp) for over_tcp in (False, True) for name in TYPES]
    names = [f"t{number}-{questions.random(4).hex()}.{token}.{zone}" for number in range(len(asked))]
    rows = [(name, TYPES[kind], over_tcp) for name, (kind, over_tcp) in zip(names, asked, strict=True)]

    def by_udp() -> tuple[list[Reply | None] | None, tuple[Sighting, ...]]:
        replies = questions.ask_name_server(rows[: len(TYPES)])
        return replies, resolvers_in(questions.get(f"/v1/names/{token}") or {})

    def signatures() -> str:
        return _signatures(questions, zone, signed) if isinstance(signed, str) else ""

    calls: list[Callable[[], Any]] = [by_udp, lambda: questions.ask_name_server(rows[len(TYPES) :]), signatures]
    (told, seen), streamed, checked = questions.together(calls)
    if told is None or streamed is None:
        return {}
    answered = {
        f"{kind} by {'TCP' if over_tcp else 'UDP'}": reply is not None and reply.code in GOOD
        for (kind, over_tcp), reply in zip(asked, (*told, *streamed), strict=True)
    }
    return {KEY: answered, SIGNED: checked, ASKED_BY: [asdict(one) for one in seen]}


def _signatures(questions: Questions, zone: str, signed: str) -> str:
    """Whether a name with a broken signature has an answer; empty where the parent zone names no key of this zone."""
    token = questions.random(12).hex()
    good, bad = (f"{word}-{questions.random(4).hex()}.{token}.{zone}" for word in ("good", "bad"))
    replies = questions.ask_name_server([(signed, DS, False), (good, A, False), (bad, A, False)]) or [None] * 3
    parent_has_key, good_answered, bad_answered = (
        reply is not None and reply.code == 0 and reply.answers > 0 for reply in replies
    )
    if not parent_has_key or not good_answered or replies[2] is None:
        return ""
    return UNCHECKED if bad_answered else CHECKED


def _judge(facts: Facts) -> Iterator[Finding]:
    seen = facts.after.more
    if not facts.after.reached or KEY not in seen:
        return
    missing = [words for words, is_answered in seen[KEY].items() if not is_answered]
    if missing:
        yield finding("dns-type-unanswered", "name resolution", ", ".join(missing))
    if seen[SIGNED] == UNCHECKED:
        yield finding("dns-unchecked", "name resolution", "a name with a broken signature was answered")
    known = {entry.address for entry in facts.after.resolvers}
    others = tuple(Sighting(**row) for row in seen[ASKED_BY] if row["address"] not in known)
    if facts.is_whole and others:
        told = judge_resolvers(replace(facts, after=replace(facts.after, resolvers=others)))
        yield from (entry for entry in told if entry.code.slug != "dns-inside")


def _words(observation: Observation) -> tuple[str, str]:
    rows = observation.more.get(KEY)
    if not rows:
        return "unknown", "unknown"
    missing = [words for words, is_answered in rows.items() if not is_answered]
    return (f"not {', '.join(missing)}" if missing else "all"), observation.more.get(SIGNED) or "unknown"


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    if KEY in before.more or KEY in after.more:
        (types, signed), (types_now, signed_now) = _words(before), _words(after)
        yield "types of questions", types, types_now
        yield "signatures (DNSSEC)", signed, signed_now


CHECK = Check(
    "name_types", CODES, judge=_judge, looks_at="types of questions, signatures of zones", ask=_ask, rows=_rows
)
