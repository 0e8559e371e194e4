"""Check an observatory from outside, as its callers see it: for who has just set one up."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_address

from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.errors import UsageError
from zesty_burrow.host.readiness.check import Readiness, ReadinessCheck
from zesty_burrow.observe.channel import BY_CERTIFICATE, BY_SIGNATURE, ObservatoryAddress
from zesty_burrow.observe.client import Observer
from zesty_burrow.use_cases.observatories import observatories
from zesty_burrow.use_cases.workspace import Workspace


def check_observatory(url: str, key: str, workspace: Workspace) -> tuple[ReadinessCheck, ...]:
    """``url``: empty: the first of the settings; ``key``: empty: that of the settings.

    Raises :class:`UsageError`.
    """
    known = observatories(workspace, url)
    if not known:
        raise UsageError("name an observatory to check", next_step="For example: zesty observatory check https://HOST")
    asked = known[0]
    if key:
        scheme = "https" if asked.tls else "http"
        asked = ObservatoryAddress.of(f"{scheme}://{_host(asked)}:{asked.port}", key, asked.authority)
    observation = Observer(asked, lambda what: workspace.interaction.note(f"  checking {what}")).observe()
    return tuple(_judge(asked, observation))


def _host(asked: ObservatoryAddress) -> str:
    return f"[{asked.host}]" if ":" in asked.host else asked.host


def _judge(asked: ObservatoryAddress, seen: Observation) -> Iterator[ReadinessCheck]:
    if not seen.reached:
        unproven = str(seen.more.get("unproven", ""))
        remedy = "Start it, and let these ports in: 80, 443 TCP; 53 UDP and TCP; 3478 UDP."
        if unproven:
            remedy = "Look at its certificate, at the key that you named, and at who answers for its name."
        yield _missing("answers", f"{asked.host} port {asked.port}: {unproven or 'nothing answers there'}", remedy)
        return
    for family, entry in (("IPv4", seen.ipv4), ("IPv6", seen.ipv6)):
        if entry.address:
            place = entry.place or "no place is known: give it a geofeed (--geofeed)"
            yield _ready(f"answers by {family}", f"it sees {entry.address}; {place}")
        else:
            remedy = f"Where it has {family}: name the address with --address and let port {asked.port} in. "
            remedy += f"This machine may have no {family} itself."
            yield _attention(f"answers by {family}", f"no answer over {family}", remedy)
    yield _proof(asked)
    yield _delegation(seen)
    versions = {ip_address(entry.address).version for entry in seen.real_time}
    for version, entry in ((4, seen.ipv4), (6, seen.ipv6)):
        if entry.address and version in versions:
            yield _ready(f"STUN by IPv{version}", "with message integrity, where it tells a credential")
        elif entry.address:
            yield _missing(f"STUN by IPv{version}", "no answer that proves whose it is", "Let port 3478 in by UDP.")


def _delegation(seen: Observation) -> ReadinessCheck:
    name = "its zone is delegated"
    if seen.resolvers:
        who = ", ".join(entry.address for entry in seen.resolvers)
        words = f"{seen.names_answered} of {seen.names_asked} one-time names were answered, asked by {who}"
        return _ready(name, words)
    words = f"{seen.names_asked} one-time names were looked up, and it saw no question"
    remedy = "Add an NS record for its zone at the parent zone, and let port 53 in by UDP and TCP."
    return _missing(name, words, remedy)


def _proof(asked: ObservatoryAddress) -> ReadinessCheck:
    if asked.proof == BY_SIGNATURE:
        return _ready("proves itself", "its answers are signed by the key that you named, with our nonce")
    if asked.proof == BY_CERTIFICATE:
        return _ready("proves itself", "by its certificate")
    return _attention("proves itself", "nothing proves its answers: callers get no sealed verdict",
                      "Give it a certificate (--certificate, --key) or have it sign (--signing-key).")  # fmt: skip


def _ready(name: str, found: str) -> ReadinessCheck:
    return ReadinessCheck(name, Readiness.READY, found)


def _attention(name: str, found: str, remedy: str) -> ReadinessCheck:
    return ReadinessCheck(name, Readiness.ATTENTION, found, "", remedy)


def _missing(name: str, found: str, remedy: str) -> ReadinessCheck:
    return ReadinessCheck(name, Readiness.MISSING, found, "Callers cannot be served without it.", remedy)
