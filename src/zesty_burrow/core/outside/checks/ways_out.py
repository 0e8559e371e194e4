"""Every way out of this machine: rules, routes and packet filters, all packets at once."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.check import Check, Facts
from zesty_burrow.core.ways_out import beside as kinds
from zesty_burrow.core.ways_out.beside import Beside

CODES = (
    Code("leaves-beside", Severity.SERIOUS, "Packets that belong in the tunnel leave beside it.",
         "A rule, a route or a packet filter of this machine sends them by another device.",
         "Remove what is named, if it is not wanted; the guard stops it: `zesty connect` without --no-guard."),
    Code("copied-beside", Severity.SERIOUS, "A packet filter sends copies of packets beside the tunnel.",
         "The receiver of the copies reads what is not encrypted by itself.", "Remove the rule that is named."),
    Code("passed-on-beside", Severity.SERIOUS, "Packets of others that this machine passes on leave beside the tunnel.",
         "Containers and machines behind this one do not use the tunnel, though all traffic is meant to.",
         "Leave their networks out of the profile by name if that is wanted, or remove the route that is named."),
    Code("wrong-tunnel", Severity.SERIOUS, "Packets leave by another tunnel than the one they belong in.",
         "The other gateway's operator sees them.", "Remove the rule or route that is named, or connect again."),
    Code("gateway-open", Severity.NOTE, "Any program can send to the gateway's own address beside the tunnel.",
         "The route to it is needed for the tunnel itself; only the guard tells whose packets they are.",
         "Connect with the guard."),
    Code("bound-programs-leave", Severity.NOTE,
         "A program that binds itself to an outer device sends beside the tunnel.",
         "Routes alone cannot stop it; the guard does.", "Connect with the guard."),
    Code("socket-bound", Severity.WARNING, "A program is bound to an outer device, or marks its packets.",
         "What it sends may leave beside the tunnel.", "Find out what it is for; the guard stops it."),
    Code("ways-undecided", Severity.WARNING, "Not every way out of this machine could be judged.",
         "What could not be looked at may let packets leave beside the tunnel.",
         "Run `zesty verify` as root; what is named needs a look by a person."),
    Code("ways-differ", Severity.WARNING, "The kernel sends a packet elsewhere than its rules and routes say.",
         "Something that was not looked at decides as well, or the rules were just changed.",
         "Run `zesty verify` again; if it stays, look for programs that hook into routing."),
    Code("ways-none-beside", Severity.NOTE, "No class of packets that belongs in the tunnel leaves beside it.", "",
         "Nothing to do."),
)  # fmt: skip
BY_KIND = {
    kinds.ORDINARY: "leaves-beside",
    kinds.COPY: "copied-beside",
    kinds.PASSED_ON: "passed-on-beside",
    kinds.WRONG_TUNNEL: "wrong-tunnel",
    kinds.GATEWAY: "gateway-open",
    kinds.BY_DEVICE: "bound-programs-leave",
}
DHCP_PORTS = frozenset({67, 68, 546, 547})


def _judge(facts: Facts) -> Iterator[Finding]:
    seen = facts.ways
    if seen is None or not facts.promise.tunnel_up:
        return
    for entry in seen.beside:
        yield finding(BY_KIND[entry.kind], f"IPv{entry.version}: {entry.packets}", _detail(entry))
    for row in seen.sockets:
        if int(row.local.rpartition(":")[2] or 0) in DHCP_PORTS or facts.guarded:
            continue
        where = f"bound to {row.device}" if row.device else f"mark {row.mark:#x}"
        yield finding(
            "socket-bound", row.process or f"a process of user {row.user}", f"{row.protocol} {row.local}, {where}"
        )
    for reason in seen.undecided:
        yield finding("ways-undecided", "this machine", reason)
    for difference in seen.differing:
        yield finding("ways-differ", "the kernel", difference)
    if seen.is_decided and not any(BY_KIND[entry.kind] not in _NOTES for entry in seen.beside):
        words = f"{seen.classes} classes of packets; the kernel agrees on all {seen.asked} that it was asked for"
        yield finding("ways-none-beside", "this machine", words)


_NOTES = frozenset({"gateway-open", "bound-programs-leave"})


def _detail(entry: Beside) -> str:
    return f"by {entry.device}: {entry.why}"


CHECK = Check("ways_out", CODES, frozenset({"ways-undecided", "ways-differ"}), judge=_judge)
