"""Observations in, verdict out: what the outside saw before the tunnel and sees now."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from zesty_burrow.core.finding import Finding, Severity, finding


class Verdict(StrEnum):
    """A verification's verdict."""

    SEALED = "sealed"
    LEAKING = "leaking"
    UNCLEAR = "unclear"


@dataclass(frozen=True, slots=True)
class Sighting:
    """An address as the outside saw it, with its operator and place; ``address`` is empty where there was none."""

    address: str = ""
    operator: str = ""
    country: str = ""
    city: str = ""

    @property
    def place(self) -> str:
        """City and country for people."""
        return ", ".join(part for part in (self.city, self.country) if part)


@dataclass(frozen=True, slots=True)
class Observation:
    """What one run saw. ``real_time`` holds what STUN told, ``resolvers`` who asked for the one-time names."""

    taken_at: str
    ipv4: Sighting = Sighting()
    ipv6: Sighting = Sighting()
    real_time: tuple[Sighting, ...] = ()
    resolvers: tuple[Sighting, ...] = ()
    names_asked: int = 0
    names_answered: int = 0
    reached: bool = True


@dataclass(frozen=True, slots=True)
class ExpectedExit:
    """What the profile promises; ``tunnel_up`` whether a tunnel is up; ``everything``: all traffic belongs in it."""

    country: str = ""
    city: str = ""
    provider: str = ""
    tunnel_up: bool = True
    everything: bool = True


@dataclass(frozen=True, slots=True)
class RouteSeen:
    """``device``: by which a packet to ``address`` leaves, empty: it is rejected; ``tunnel``: by which it should."""

    target: str
    address: str
    device: str
    tunnel: str


@dataclass(frozen=True, slots=True)
class Judgement:
    """The verdict with its reasons."""

    verdict: Verdict
    findings: tuple[Finding, ...]

    def also(self, found: Iterable[Finding]) -> Judgement:
        """With what is known besides; what is serious of that makes it leaking."""
        whole = (*self.findings, *found)
        serious = any(one.severity is Severity.SERIOUS for one in whole)
        return Judgement(Verdict.LEAKING if serious else self.verdict, whole)


_UNCLEAR = frozenset({"no-baseline", "no-tunnel", "observatory-silent", "dns-silent", "exit-place-unknown"})


def judge(
    before: Observation | None, after: Observation, promise: ExpectedExit, routes: Iterable[RouteSeen] = ()
) -> Judgement:
    """Compare, and say why. Leaking wins over unclear, unclear over sealed. ``routes``: where the kernel sends packets
    that belong in the tunnel.
    """
    found = [
        finding("route-outside", one.target, f"{one.address} by {one.device or 'no device'}, not by {one.tunnel}")
        for one in routes
        if one.device != one.tunnel
    ]
    if not promise.tunnel_up:
        found.append(finding("no-tunnel", "this machine"))
    if promise.everything and (before is None or not before.reached):
        found.append(finding("no-baseline", "this machine"))
    if not after.reached:
        found.append(finding("observatory-silent", "the observatory"))
    elif not promise.everything:
        # What the outside sees of the rest is as it should be: the rest is meant to be there.
        found += _split(before, after)
    elif not promise.tunnel_up:
        found += _addresses(before, after)
    else:
        found += _addresses(before, after)
        exits = _exits(before, after)
        found += _exit(exits, promise)
        found += _resolvers(before, after, exits)
        found += _real_time(before, after)
    if any(entry.severity is Severity.SERIOUS for entry in found):
        verdict = Verdict.LEAKING
    elif any(entry.code.slug in _UNCLEAR for entry in found):
        verdict = Verdict.UNCLEAR
    else:
        verdict = Verdict.SEALED
    return Judgement(verdict, tuple(found))


def judge_exit(seen: Observation, promise: ExpectedExit) -> list[Finding]:
    """What an exit by itself shows, with nothing from before to compare it with."""
    exits = _exits(None, seen)
    return [*_exit(exits, promise), *_resolvers(None, seen, exits)]


def _addresses(before: Observation | None, after: Observation) -> list[Finding]:
    found: list[Finding] = []
    old4, new4 = (before.ipv4 if before else Sighting()), after.ipv4
    if new4.address and new4.address == old4.address:
        found.append(finding("address-unchanged", "IPv4", f"still {new4.address} ({new4.operator})"))
    elif new4.address and old4.address:
        found.append(finding("address-changed", "IPv4", f"{old4.address} became {new4.address}"))
    old6, new6 = (before.ipv6 if before else Sighting()), after.ipv6
    if not new6.address:
        found.append(finding("ipv6-absent", "IPv6"))
    elif old6.address and (new6.address == old6.address or _same_home(old6, new6, after)):
        found.append(finding("ipv6-leak", "IPv6", f"the outside sees {new6.address} ({new6.operator})"))
    elif old6.address:
        found.append(finding("address-changed", "IPv6", f"{old6.address} became {new6.address}"))
    return found


def _same_home(old: Sighting, new: Sighting, after: Observation) -> bool:
    """The operator from before while IPv4 has moved: a new address of one's own network (RFC 8981) is still a leak."""
    return bool(new.operator) and new.operator == old.operator and new.operator != after.ipv4.operator


def _split(before: Observation | None, after: Observation) -> list[Finding]:
    seen = [one.address for one in (after.ipv4, after.ipv6) if one.address]
    found = [finding("outside-as-meant", "other traffic", ", ".join(seen))]
    known = {one.address for one in (before.ipv4, before.ipv6)} if before else set()
    if known and not known & set(seen):
        found.append(finding("address-changed", "other traffic", "although it is meant to leave as without the tunnel"))
    return found


Exits = Sequence[tuple[str, Sighting]]
"""Address families and what is seen of them."""


def _exits(before: Observation | None, after: Observation) -> Exits:
    """What is seen of the tunnel: not an address that bypasses it, which is a finding of its own."""
    old4, old6 = (before.ipv4, before.ipv6) if before else (Sighting(), Sighting())
    beside4 = after.ipv4.address == old4.address
    beside6 = after.ipv6.address == old6.address or _same_home(old6, after.ipv6, after)
    rows = (("IPv4", after.ipv4, beside4), ("IPv6", after.ipv6, beside6))
    return [(label, seen) for label, seen, beside in rows if seen.address and not beside]


def _exit(exits: Exits, promise: ExpectedExit) -> list[Finding]:
    if not promise.country:
        return []
    found: list[Finding] = []
    wanted = ", ".join(part for part in (promise.city, promise.country) if part)
    for label, seen in exits:
        if not seen.country:
            found.append(finding("exit-place-unknown", label, seen.address))
        elif seen.country != promise.country:
            found.append(finding("exit-elsewhere", label, f"{seen.place} instead of {wanted}"))
        else:
            found.append(finding("exit-as-promised", label, seen.place))
    return found


def _resolvers(before: Observation | None, after: Observation, exits: Exits) -> list[Finding]:
    if not after.resolvers:
        asked = f"{after.names_asked} names, {after.names_answered} answers"
        return [finding("dns-silent", "name resolution", asked)]
    exit_operators = {seen.operator for _, seen in exits if seen.operator}
    old = before.resolvers if before else ()
    old_addresses = {seen.address for seen in old}
    old_operators = {seen.operator for seen in old if seen.operator}
    if before:
        old_operators |= {seen.operator for seen in (before.ipv4, before.ipv6) if seen.operator}
    found: list[Finding] = []
    for seen in after.resolvers:
        shown = f"{seen.address} ({', '.join(part for part in (seen.operator, seen.country) if part) or 'unknown'})"
        if seen.address in old_addresses or (seen.operator in old_operators and seen.operator not in exit_operators):
            found.append(finding("dns-leak", seen.address, shown))
        elif seen.operator not in exit_operators:
            found.append(finding("dns-foreign", seen.address, shown))
    if not found:
        found.append(finding("dns-inside", "name resolution", _names(after.resolvers)))
    return found


def _names(resolvers: Sequence[Sighting]) -> str:
    return ", ".join(sorted({f"{seen.address} ({seen.operator})" for seen in resolvers}))


def _real_time(before: Observation | None, after: Observation) -> list[Finding]:
    if before is None:
        return []
    own = {seen.address for seen in (before.ipv4, before.ipv6, *before.real_time) if seen.address}
    return [
        finding("real-time-leak", "STUN", f"{seen.address} ({seen.operator})")
        for seen in after.real_time
        if seen.address in own
    ]
