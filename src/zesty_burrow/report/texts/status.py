"""A tunnel as it is now, as text for people."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from zesty_burrow.core.finding import finding
from zesty_burrow.errors import printable
from zesty_burrow.host.guard.record import BY_USER
from zesty_burrow.host.guard.state import Measured
from zesty_burrow.host.guard.tables.allow_list import (
    ADDRESSES,
    DROPPED,
    INSIDE,
    LEFT_OUT,
    LOCAL,
    NEIGHBOURS,
    PORTAL,
    REJECTED,
    SESSION,
    TUNNEL,
)
from zesty_burrow.host.paths import program_as_root
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.overview_lines import overview_parts
from zesty_burrow.report.parts import Parts, heading, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.status import GuardResult, LineResult, OverviewResult, StatusResult
from zesty_burrow.report.times import local_clock, local_time
from zesty_burrow.use_cases.overview import tunnel_devices
from zesty_burrow.use_cases.tunnel.running import SILENT

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.host.guard.probe_result import ProbeResult
    from zesty_burrow.host.guard.state import GuardState


NOT_YET = {
    "resolving": " yet: the gateway's name is being looked up",
    "reaching": " yet: the gateway is being asked",
    "signing in": " yet: it is being signed in",
    "lost": " yet: the gateway was not reached, and will be asked again",
    "returning": " yet: the gateway was not reached, and is being asked again",
    "ending": ": the tunnel's process is ending",
}
"""What the tunnel's process is doing until then, by its state."""


def up_line(status: TunnelStatus) -> Text:
    """Place, inner addresses, protocol, algorithms."""
    from zesty_burrow.carrier.control.status import IPV6_STATES

    place = ", ".join(part for part in (status.city, status.country) if part) or status.profile
    ipv6 = f"IPv6 {IPV6_STATES[status.ipv6]}"
    rest = [", ".join(status.addresses), status.protocol, *list(status.algorithms.values())[-1:], ipv6]
    return Text.assemble(("  up    ", "bold green"), (place, "bold"), *(f" | {part}" for part in rest))


def up_lines(status: TunnelStatus) -> Parts:
    """That line, and what was noticed in coming up."""
    yield up_line(status)
    if status.findings:
        yield from findings_table([finding(*row) for row in status.findings])


def octets(count: float) -> str:
    """Octets with a unit of thousands."""
    for unit in ("octets", "kB", "MB", "GB"):
        if count < 1000 or unit == "GB":
            return f"{count:.0f} {unit}" if unit == "octets" else f"{count:.1f} {unit}"
        count /= 1000
    return ""


def span(seconds: float) -> str:
    """A time that has passed: 0:04:12, and days where there are any."""
    whole = int(seconds)
    days, rest = divmod(whole, 86400)
    clock = f"{rest // 3600}:{rest // 60 % 60:02}:{rest % 60:02}"
    return f"{plural(days, 'day')} {clock}" if days else clock


def loss_words(row: tuple[str, str, float, int]) -> str:
    """When, for how long, why, and what was rejected in that time."""
    since, why, seconds, rejected_packets = row
    lasted = f"for {span(seconds)}" if seconds else "until now"
    return f"{since} {lasted}: {why}; {plural(rejected_packets, 'packet')} rejected"


def headline(result: StatusResult) -> Parts:
    """The first lines: how it stands."""
    status = result.tunnel
    if status is None:
        if result.state == SILENT:
            yield Text("Whether a tunnel is up is not known: its process does not answer.", "yellow")
        else:
            yield Text(_none_up(result))
        if result.guard is not None:
            yield from _closed(result.guard)
    else:
        yield _stands(status)


def _stands(status: TunnelStatus) -> Text:
    if status.is_up:
        return up_line(status)
    words = f"{status.profile} was lost and is reconnecting; until then its traffic is blocked"
    return Text.assemble(("  blocked  ", "bold yellow"), words)


def _encrypted(status: TunnelStatus) -> list[str]:
    """Each announced resolver, and what is made of it."""
    asked = (
        [
            encrypted_resolver
            for encrypted_resolver in status.encrypted_resolvers
            if "DNS over TLS" in encrypted_resolver
        ][:1]
        if status.encrypted_dns
        else []
    )
    unused = "announced, not used"
    return [
        f"{encrypted_resolver}; {status.encrypted_dns if encrypted_resolver in asked else unused}"
        for encrypted_resolver in status.encrypted_resolvers
    ]


def beside(status: TunnelStatus) -> Parts:
    """A tunnel beside the one that is shown at length."""
    yield _stands(status)
    volume = f"in {octets(status.octets_in)}, out {octets(status.octets_out)}"
    yield Indented(Text(f"{status.profile}, for {', '.join(status.networks)}; {volume}"), 8)


def _details(status: TunnelStatus, guard: GuardState | None) -> Parts:
    table = Table(Column(whole=True, style="dim"), Column())
    rows = [
        ("profile", f"{status.profile} ({status.provider})"),
        ("gateway", f"{status.gateway} at {status.gateway_address} {status.over}"),
        ("since", f"{local_time(status.since)}, {status.seconds_up:.0f} s"),
        ("device", status.device),
        ("name servers", ", ".join(status.name_servers) or "unchanged"),
        ("encrypted DNS", "\n".join(_encrypted(status))),
        ("suffixes", ", ".join(status.suffixes) or "none"),
        ("NetBIOS names", ", ".join(status.netbios_name_servers)),
        *status.algorithms.items(),
        ("in", f"{plural(status.packets_in, 'packet')}, {octets(status.octets_in)}; {status.rejected} rejected"),
        ("out", f"{plural(status.packets_out, 'packet')}, {octets(status.octets_out)}; "
                f"{status.dropped} dropped"),
        ("offloads", ", ".join(status.offloads) or "none"),
        ("data path", status.data_path),
        ("MTU", str(status.mtu)),
        ("rekeys", str(status.rekeys)),
        ("address changes", str(status.address_changes) if status.address_changes else ""),
        ("reconnects", str(status.reconnects) if status.reconnects else ""),
        ("lost", "\n".join(map(loss_words, status.losses))),
        ("sign-ins repeated", str(status.sign_ins_repeated) if status.sign_ins_repeated else ""),
        ("guard", guard_words(guard) if guard else "none: routes alone keep traffic in the tunnel"),
        ("packet watch", watch_words(status.watch)),
        ("process", str(status.process)),
    ]  # fmt: skip
    for label, value in rows:
        if value:
            table.add_row(label, Text(value))
    yield Indented(table, 8)


def _status(result: StatusResult) -> Parts:
    status = result.tunnel
    guard = result.guard
    yield from headline(result)
    if status is not None:
        yield from _details(status, guard)
    for other in result.others:
        yield ""
        yield _stands(other)
        yield from _details(other, guard)
    if result.findings:
        yield from findings_table(result.findings)
    if result.log is not None:
        yield ""
        yield heading("Log")
        yield from _log_lines(result.log)
    if result.network is not None:
        yield ""
        yield heading("This machine")
        for line in result.network:
            yield Indented(Text(line))


def _line(result: LineResult) -> Parts:
    yield Text(result.text)


def _closed(guard: GuardState) -> Parts:
    """The guard without a tunnel: since when, why, and what would open it."""
    table = Table(Column(whole=True, style="bold yellow"), Column())
    for key, share in guard.shares.items():
        why = f": {share.why}" if share.why else ""
        opens = "zesty guard off" if key == BY_USER else "zesty disconnect"
        table.add_row("blocked", Text(f"since {local_time(share.since)}, {share.what}{why}"))
        table.add_row("", Text(f"{guard_words(guard)}. Open it: {opens}"))
    yield Indented(table)


def watch_words(watch: Mapping[str, Any]) -> str:
    """What the packet watch of a tunnel's process has seen, and since when; empty before it has begun."""
    if watch.get("blind"):
        return f"none: {printable(watch['blind'])}"
    if not watch.get("since"):
        return ""
    lost = f"; the kernel dropped {watch['lost']} captures" if watch["lost"] else ""
    where = ", ".join(watch["devices"]) or "no outer device"
    begun = watch["since"][11:19]
    gaps = f", not seen for {watch['unwatched']:.0f} s of it" if watch.get("unwatched", 0) >= 1 else ""
    return f"{plural(watch['packets'], 'packet')} left beside the tunnel by {where} since {begun} UTC{gaps}{lost}"


def guard_words(guard: GuardState) -> str:
    """What it holds, what it has rejected, and what it has let through beside the tunnel."""
    if guard.measured is Measured.UNKNOWN:
        return "UNKNOWN: " + "; ".join(guard.why)
    if guard.measured is Measured.MISSING:
        return f"MISSING from the packet filter, seen at {local_time(guard.at)}"
    if guard.measured is Measured.DIFFERENT:
        return f"DIFFERENT in the packet filter, seen at {local_time(guard.at)}: {'; '.join(guard.why)}"
    what = "all traffic" if guard.everything else "the profile's networks"
    rejected_packets = sum(guard.counts[name].packets for name in (REJECTED, DROPPED) if name in guard.counts)
    beside = sum(guard.counts[name].packets for name in (LOCAL, LEFT_OUT, PORTAL) if name in guard.counts)
    also = f", {plural(beside, 'packet')} let through beside the tunnel" if beside else ""
    return f"closed for {what} at {local_clock(guard.at)}, {plural(rejected_packets, 'packet')} rejected{also}"


GUARD_KINDS = {
    TUNNEL: "the tunnel itself",
    INSIDE: "into the tunnel",
    LOCAL: "local networks",
    LEFT_OUT: "left out",
    NEIGHBOURS: "neighbours",
    ADDRESSES: "addresses",
    PORTAL: "sign-in page",
    SESSION: "kept session",
}


def _guard(result: GuardResult) -> Parts:
    guard = result.guard
    if result.message:
        yield Text(result.message)
    if not guard.shares:
        yield _held_by_nobody(guard)
        if result.findings:
            yield from findings_table(result.findings)
        return
    yield from (
        _closed(guard)
        if not any(share.devices for share in guard.shares.values())
        else (Text(_sentence(guard_words(guard))),)
    )
    table = Table(
        Column("lets through", whole=True), Column(), Column("packets", right=True), Column("octets", right=True)
    )
    kinds: dict[str, list[str]] = {}
    for row in guard.lets_through():
        kinds.setdefault(row["counter"], []).append(row["what"])
    for counter, things in kinds.items():
        count = guard.counts.get(counter)
        cells = (str(count.packets), octets(count.octets)) if count else ("", "")
        table.add_row(GUARD_KINDS[counter], "\n".join(things), *cells)
    yield Indented(table)
    turned = Table(Column("rejects"), Column("packets", right=True), Column("octets", right=True))
    for name, what in ((REJECTED, "rejected; the sender is informed"), (DROPPED, "dropped at the device")):
        if name in guard.counts:
            turned.add_row(what, str(guard.counts[name].packets), octets(guard.counts[name].octets))
    if DROPPED in guard.egress_counts:
        bypassing = guard.egress_counts[DROPPED]
        words = f"dropped at {', '.join(guard.devices)}, past the IP stack"
        turned.add_row(words, str(bypassing.packets), octets(bypassing.octets))
    yield Indented(turned)
    yield from _how_measured(guard)
    if result.findings:
        yield from findings_table(result.findings)


def _sentence(words: str) -> str:
    return f"{words[:1].upper()}{words[1:]}."


def _held_by_nobody(guard: GuardState) -> Text:
    if guard.measured is Measured.UNKNOWN:
        return Text(f"Whether the guard is closed is not known: {'; '.join(guard.why)}.", "yellow")
    if guard.measured is Measured.ABSENT:
        return Text(f"The guard is off: nothing is held back (the packet filter was read at {local_clock(guard.at)}).")
    return Text("The packet filter has a guard that nobody is known to hold. Remove it: zesty guard off", "yellow")


def probe_words(probe: ProbeResult) -> str:
    """When, how many were sent and have left, and where that is proven."""
    sent, left = (sum(getattr(row, name) for row in probe.rows) for name in ("sent", "left"))
    proven = ", ".join(probe.controls) or "no device"
    return f"{local_time(probe.at)}, {sent} sent, {left} left; the capture was seen to work on {proven}"


def _how_measured(guard: GuardState) -> Parts:
    """How it is known, and what probes have shown."""
    table = Table(Column(style="dim", whole=True), Column())
    owner = "" if not guard.owned else f", owned by process {guard.process}: no other may change them"
    if guard.measured is Measured.AS_INTENDED:
        table.add_row("measured", f"{local_time(guard.at)}: the kernel's tables are as intended{owner}")
    if guard.probe is not None:
        table.add_row("probed", Text(probe_words(guard.probe), "bold red" if guard.probe.left else ""))
    yield Indented(table)


LEVEL_STYLES = {"warning": "yellow", "error": "bold red"}
NOT_SHOWN = ("time", "level", "event", "logger")
LONGEST = 2000
"""Of a field of the log, which may be a peer's own words; the log itself has it whole."""


def _log_lines(lines: Sequence[Mapping[str, Any]]) -> Parts:
    """A log for people: the time of day, what happened, and its particulars."""
    table = Table(Column(style="dim", whole=True), Column(whole=True), Column())
    for line in lines:
        style = LEVEL_STYLES.get(str(line.get("level", "")), "")
        words = _fields({key: value for key, value in line.items() if key not in NOT_SHOWN}, "; ")
        clock = str(line.get("time", ""))[11:23]
        table.add_row(clock, Text(printable(str(line["event"])), style), Text(printable(words), style))
    yield table if lines else "No tunnel was brought up with --detach yet."


def _fields(fields: Mapping[str, Any], between: str) -> str:
    """Those that say something, each with its name."""
    kept = {
        key: value for key, value in fields.items() if isinstance(value, float) or value not in ("", None, [], {}, 0)
    }
    return between.join(f"{key}: {_field(value)}" for key, value in kept.items())


def _field(value: object) -> str:
    if isinstance(value, Mapping):
        text = _fields(value, ", ")
    elif isinstance(value, list):
        text = ", ".join(map(_field, value))
    else:
        text = f"{value:.3f}" if isinstance(value, float) else str(value)
    return text if len(text) <= LONGEST else text[:LONGEST] + "…"


def _none_up(result: StatusResult) -> str:
    """Of this user's; another's is seen by its device."""
    if not result.state and (others := tunnel_devices()):
        return f"No tunnel of yours is up. The device {others[0]} is another user's: {program_as_root()} status"
    return f"No tunnel is up{NOT_YET.get(result.state, '')}."


def _overview(result: OverviewResult) -> Parts:
    return overview_parts(result.seen)


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    StatusResult: _status,
    GuardResult: _guard,
    LineResult: _line,
    OverviewResult: _overview,
}
