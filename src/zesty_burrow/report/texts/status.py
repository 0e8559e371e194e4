"""A tunnel as it is now, as text for people."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from zesty_burrow.core.finding import finding
from zesty_burrow.errors import printable
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.status import StatusResult

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import TunnelStatus


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


def _status(result: StatusResult) -> Parts:
    status = result.tunnel
    if status is None:
        yield Text(f"No tunnel is up ({result.state})." if result.state else "No tunnel is up.")
    else:
        if status.is_up:
            yield up_line(status)
        else:
            yield Text.assemble(
                ("  down  ", "bold yellow"),
                f"{status.profile} was lost; reconnecting, traffic for the tunnel is blocked",
            )
        table = Table(Column(whole=True, style="dim"), Column())
        rows = [
            ("profile", f"{status.profile} ({status.provider})"),
            ("gateway", f"{status.gateway} at {status.gateway_address}"),
            ("since", f"{status.since}, {status.seconds_up:.0f} s"),
            ("device", status.device),
            ("name servers", ", ".join(status.name_servers) or "unchanged"),
            ("encrypted DNS", "\n".join(f"{one}; announced, not used" for one in status.encrypted_resolvers)),
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
            ("sign-ins repeated", str(status.sign_ins_repeated) if status.sign_ins_repeated else ""),
            ("process", str(status.process)),
        ]  # fmt: skip
        for label, value in rows:
            if value:
                table.add_row(label, Text(value))
        yield Indented(table, 8)
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


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    StatusResult: _status,
}
