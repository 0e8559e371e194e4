"""Who this machine asks for names, and by which way the questions go."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.check import Check, Facts
from zesty_burrow.core.ways_out.names_seen import NamesSeen

CODES = (
    Code("names-beside", Severity.SERIOUS, "Questions for names leave beside the tunnel.",
         "That server's operator, and everybody on the way, learns every name that you use.",
         "Look who has changed the name servers (`zesty status`), or set traffic.name_servers and connect again."),
    Code("proxy-beside", Severity.SERIOUS, "The environment names a proxy that is reached beside the tunnel.",
         "Programs that use it send their requests past the tunnel.",
         "Unset the variable while the tunnel is up."),
    Code("proxy-set", Severity.NOTE, "The environment names a proxy.",
         "Programs that use it are seen from the proxy's address, not from the tunnel's exit.",
         "Nothing, if it is wanted."),
    Code("hosts-override", Severity.WARNING, "A file of this machine answers a name that the verification relies on.",
         "What answers there need not be the observatory or the gateway.", "Look at /etc/hosts."),
    Code("browser-resolver", Severity.WARNING, "A browser's settings name an encrypted resolver of its own.",
         "Its operator sees the names that the browser asks for, though they go through the tunnel.",
         "Turn it off in the browser, or choose it knowingly."),
    Code("names-forwarder", Severity.NOTE, "A program of this machine answers questions for names.",
         "Whom it asks in turn is seen by the one-time names alone.", "Nothing to do."),
)  # fmt: skip


def _judge(facts: Facts) -> Iterator[Finding]:
    seen = facts.names
    if seen is None or not facts.promise.tunnel_up:
        return
    if facts.promise.everything:
        yield from _beside(facts, seen)
    for server in seen.servers:
        if server.is_here and server.listener:
            yield finding("names-forwarder", server.address, server.listener)
    for name, address in seen.hosts:
        if name in facts.relied_on:
            yield finding("hosts-override", name, f"{address}, by /etc/hosts")
    for path, resolver in seen.browsers:
        yield finding("browser-resolver", path, resolver)


def _beside(facts: Facts, seen: NamesSeen) -> Iterator[Finding]:
    for server in seen.servers:
        outer = [device for device in server.devices if device not in facts.tunnel_devices]
        if outer:
            yield finding("names-beside", server.address, f"by {', '.join(outer)}, named in {server.source}")
    for proxy in seen.proxies:
        outer = [device for device in proxy.devices if device not in facts.tunnel_devices]
        where = f"{proxy.host} port {proxy.port}"
        if outer:
            yield finding("proxy-beside", proxy.variable, f"{where}, by {', '.join(outer)}")
        else:
            yield finding("proxy-set", proxy.variable, where)


CHECK = Check("name_ways", CODES, judge=_judge)
