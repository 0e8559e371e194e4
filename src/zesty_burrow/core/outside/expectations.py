"""What a tunnel's profile leads one to expect, one by one, each with its evidence or with none."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum

from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.core.outside.checks.check import Facts
from zesty_burrow.core.outside.intent import Intent
from zesty_burrow.core.outside.reach import evidence_of
from zesty_burrow.core.ways_out.beside import BY_DEVICE, GATEWAY
from zesty_burrow.records import dataclass

BY_CHOICE = frozenset({BY_DEVICE, GATEWAY})
"""Kinds of packets that leave without a guard, by their program's own choice: a watch sees whether any does."""
EXITS = frozenset({"address-unchanged", "ipv6-leak", "icmp-leak", "http-leak"})
GUARD = frozenset({"guard-missing", "guard-different", "guard-leaks"})
NO_GUARD_LOOK = frozenset({"guard-unknown", "guard-probe-blind", "guard-silent", "guard-device-open"})
SHOWN = 3


class Standing(StrEnum):
    """How it stands with an expectation."""

    HELD = "held"
    BROKEN = "broken"
    NO_EVIDENCE = "no evidence"


@dataclass(frozen=True, slots=True)
class Expectation:
    """``what``: in words; ``evidence``: what shows it, or why nothing does; ``tunnel``: the profile that it is of.
    ``is_leak``: where it is broken, something leaves beside the tunnel.
    """

    what: str
    standing: Standing
    evidence: str
    tunnel: str = ""
    is_leak: bool = True

    def document(self) -> dict[str, str]:
        return {"what": self.what, "standing": str(self.standing), "evidence": self.evidence, "tunnel": self.tunnel}


def expectations(facts: Facts, findings: Sequence[Finding]) -> list[Expectation]:
    """Of all tunnels together, in the order in which people ask. ``findings``: all that the checks have said."""
    if not facts.intents:
        return []
    rows = [row for intent in facts.intents for row in _of_tunnel(facts, intent, findings)]
    rows.append(_packets(facts))
    rows += [
        Expectation(
            f"{row.target} is reached",
            Standing.HELD if row.is_reached else Standing.BROKEN,
            evidence_of(row, facts.before),
            is_leak=False,
        )
        for row in facts.reach
    ]
    if any(intent.everything for intent in facts.intents):
        rows += _from_outside(facts, findings)
    return rows


def _serious(findings: Iterable[Finding], slugs: frozenset[str]) -> list[Finding]:
    return [entry for entry in findings if entry.code.slug in slugs and entry.severity is Severity.SERIOUS]


def _some(words: Sequence[str]) -> str:
    more = f"; {len(words) - SHOWN} more" if len(words) > SHOWN else ""
    return "; ".join(words[:SHOWN]) + more


def _shown(findings: Sequence[Finding]) -> str:
    return _some([f"{entry.subject}, {entry.detail}" if entry.detail else entry.subject for entry in findings])


def _of_tunnel(facts: Facts, intent: Intent, findings: Sequence[Finding]) -> Iterator[Expectation]:
    for version in (4, 6):
        what = intent.belongs(version)
        if what:
            yield _ways(facts, intent, findings, version, what)
    for network in intent.left_out:
        yield Expectation(f"{network} leaves beside it, as the profile says", *_by_routes(facts, intent), intent.name)
    if not intent.everything:
        yield _rest(facts, intent)
    if intent.guarded:
        yield _guard(facts, intent, findings)


def _ways(facts: Facts, intent: Intent, findings: Sequence[Finding], version: int, what: str) -> Expectation:
    seen = facts.ways
    beside = [row for row in (seen.beside if seen else ()) if (row.version, row.tunnel) == (version, intent.name)]
    broken = [f"{row.packets} by {row.device}: {row.why}" for row in beside if row.kind not in BY_CHOICE]
    broken += [f"{entry.subject}, {entry.detail}" for entry in _serious(findings, frozenset({"route-outside"}))]
    if broken:
        return Expectation(what, Standing.BROKEN, _some(broken), intent.name)
    if seen is None or not seen.is_decided:
        why = "; ".join((*seen.undecided, *seen.differing)[:SHOWN]) if seen else "nobody has looked at the ways out"
        return Expectation(what, Standing.NO_EVIDENCE, why or "no class of packets could be looked at", intent.name)
    words = (
        f"rules, routes and packet filters: {seen.classes} classes of packets, {seen.asked} compared with the kernel"
    )
    return Expectation(what, Standing.HELD, words, intent.name)


def _by_routes(facts: Facts, intent: Intent) -> tuple[Standing, str]:
    if facts.ways is None or not facts.ways.is_decided:
        return Standing.NO_EVIDENCE, "the ways out are not known"
    if intent.name in facts.ways.misled:
        return Standing.BROKEN, "it leaves by the tunnel, or not at all"
    return Standing.HELD, "rules and routes"


def _rest(facts: Facts, intent: Intent) -> Expectation:
    what = "everything else leaves as without the tunnel"
    if any(other.everything for other in facts.intents):
        return Expectation("everything else leaves by the other tunnel", *_by_routes(facts, intent), intent.name)
    if facts.no_observatory or not facts.after.reached:
        return Expectation(what, Standing.NO_EVIDENCE, _nobody(facts), intent.name)
    seen = ", ".join(entry.address for entry in (facts.after.ipv4, facts.after.ipv6) if entry.address)
    return Expectation(what, Standing.HELD, f"the outside sees {seen}", intent.name)


def _nobody(facts: Facts) -> str:
    if facts.no_observatory:
        return "nobody looked from outside: no observatory is configured"
    return "the observatory did not answer"


def _guard(facts: Facts, intent: Intent, findings: Sequence[Finding]) -> Expectation:
    what = "the guard stops all that would leave beside it"
    broken = _serious(findings, GUARD)
    if broken:
        return Expectation(what, Standing.BROKEN, _shown(broken), intent.name)
    unseen = [entry for entry in findings if entry.code.slug in NO_GUARD_LOOK]
    if unseen or not facts.guarded:
        return Expectation(what, Standing.NO_EVIDENCE, _shown(unseen) or "the guard was not seen in force", intent.name)
    return Expectation(what, Standing.HELD, facts.guard_evidence, intent.name)


def _packets(facts: Facts) -> Expectation:
    what = "no packet leaves that nothing explains"
    seen = facts.watch
    if seen is None or seen.blind:
        return Expectation(what, Standing.NO_EVIDENCE, seen.blind if seen else "nobody watched")
    if seen.unexplained:
        return Expectation(what, Standing.BROKEN, "; ".join(row.words for row in seen.unexplained[:SHOWN]))
    if seen.lost:
        return Expectation(what, Standing.NO_EVIDENCE, f"the kernel dropped {seen.lost} captures")
    where = ", ".join(seen.devices) or "no outer device is up"
    return Expectation(what, Standing.HELD, f"watched for {seen.seconds:.1f} s: {where}")


def _from_outside(facts: Facts, findings: Sequence[Finding]) -> Iterator[Expectation]:
    """Of a tunnel for all traffic: what an observatory has to have seen."""
    rows = (
        ("the outside sees the exit's addresses alone", EXITS, _addresses(facts)),
        ("only resolvers on the tunnel's side see which names are asked", frozenset({"dns-leak"}), _names(facts)),
        ("real-time applications reveal no own address", frozenset({"real-time-leak"}), _real_time(facts)),
    )
    for what, slugs, evidence in rows:
        broken = _serious(findings, slugs)
        if broken:
            yield Expectation(what, Standing.BROKEN, _shown(broken))
        elif facts.no_observatory or not facts.after.reached:
            yield Expectation(what, Standing.NO_EVIDENCE, _nobody(facts))
        elif facts.before is None or not facts.before.reached:
            yield Expectation(what, Standing.NO_EVIDENCE, "there is no observation from before the tunnel")
        elif not evidence:
            yield Expectation(what, Standing.NO_EVIDENCE, "not all of it was seen that was seen before the tunnel")
        else:
            yield Expectation(what, Standing.HELD, evidence)
    place = facts.promise
    if place.country:
        yield _place(facts, findings)


def _place(facts: Facts, findings: Sequence[Finding]) -> Expectation:
    wanted = ", ".join(part for part in (facts.promise.city, facts.promise.country) if part)
    what = f"the exit is in {wanted}"
    broken = _serious(findings, frozenset({"exit-elsewhere"}))
    if broken:
        return Expectation(what, Standing.BROKEN, _shown(broken))
    held = [entry for entry in findings if entry.code.slug == "exit-as-promised"]
    if held:
        return Expectation(what, Standing.HELD, f"by the observatory's list of places: {held[0].detail}")
    unknown = "the observatory knows no place for it" if facts.after.reached else _nobody(facts)
    return Expectation(what, Standing.NO_EVIDENCE, unknown)


def _addresses(facts: Facts) -> str:
    """Empty where a version of IP that was seen before, and that the tunnel carries, was not seen now."""
    before = facts.before
    if before is not None and before.ipv4.address and not facts.after.ipv4.address:
        return ""
    carries6 = any(intent.everything and intent.ipv6 == "tunnel" for intent in facts.intents)
    if before is not None and carries6 and before.ipv6.address and not facts.after.ipv6.address:
        return ""
    return ", ".join(entry.words for entry in (facts.after.ipv4, facts.after.ipv6) if entry.address)


def _names(facts: Facts) -> str:
    asked = f"{facts.after.names_answered} of {facts.after.names_asked} one-time names"
    return f"{asked}: {', '.join(entry.words for entry in facts.after.resolvers)}" if facts.after.resolvers else ""


def _real_time(facts: Facts) -> str:
    return ", ".join(entry.address for entry in facts.after.real_time)
