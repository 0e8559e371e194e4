"""Results as text for people: tables without lines, words before colours."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

from rich.cells import cell_len
from rich.table import Table
from rich.text import Text

from zesty_burrow.core.leak import Observation, Sighting, Verdict
from zesty_burrow.errors import printable
from zesty_burrow.report import result as results
from zesty_burrow.report.kits import kit_text
from zesty_burrow.report.parts import SEVERITY_STYLES, Parts, findings_table, grid, heading, indent, plural
from zesty_burrow.report.result import Result

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.core.profile import Profile

VERDICT_STYLES = {Verdict.SEALED: "bold green", Verdict.LEAKING: "bold red", Verdict.UNCLEAR: "bold yellow"}
VERDICT_WORDS = {
    Verdict.SEALED: "SEALED: the outside sees the tunnel's exit and nothing else.",
    Verdict.LEAKING: "LEAKING: not everything leaves as the profile says.",
    Verdict.UNCLEAR: "UNCLEAR: the observations are not enough for a verdict.",
}
MANY = 300
"""Rows of a list from which it is laid out without wrapping."""


IPV6_WORDS = {
    "tunnel": "through the tunnel, blocked if the gateway carries none",
    "block": "blocked while the tunnel is up",
    "outside": "left outside the tunnel",
}
LOCAL_WORDS = {"outside": "reached outside the tunnel", "inside": "not reached while the tunnel is up"}


def render(result: Result) -> Parts:
    """The parts of a result's text, to be printed one after the other."""
    return _RENDERERS[type(result)](result)


def _list(result: results.ListResult) -> Parts:
    if not result.profiles:
        yield Text("No profiles. Import a provider's kit: zesty import KIT")
        return
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
    headings = ["name", "place", "provider", "protocol", "imported"]
    headings += ["tags"] if any(row["tags"] for row in result.profiles) else []
    headings += ["for"] if len({row["for"] for row in result.profiles}) > 1 else []
    for label in headings:
        table.add_column(label, overflow="fold", no_wrap=label == "name")
    rows = []
    for row in result.profiles:
        place = ", ".join(part for part in (row["city"], row["country"]) if part)
        cells = {**row, "place": place, "imported": row["imported_at"][:10]}
        rows.append([printable(cells[label]) for label in headings])
    if len(rows) > MANY:
        # Laying out a table of thousands of rows would take longer than reading them from the store.
        yield Text("\n".join(_columns([headings, *rows])), no_wrap=True)
        return
    for cells_of_row in rows:
        table.add_row(*map(Text, cells_of_row))
    yield table


def _columns(rows: Sequence[Sequence[str]]) -> Iterable[str]:
    """Rows as lines, each column as wide as its widest cell."""
    widths = [max(map(cell_len, column)) for column in zip(*rows, strict=True)]
    for row in rows:
        yield "   ".join(
            cell + " " * (width - cell_len(cell)) for cell, width in zip(row, widths, strict=True)
        ).rstrip()


def _show_rows(profile: Profile) -> list[tuple[str, str]]:
    traffic, tunnel, sign_in = profile.traffic, profile.tunnel, profile.sign_in
    own = "the gateway's"
    rows = [
        ("provider", profile.provider),
        ("place", profile.place),
        ("gateway", ", ".join(profile.gateway.addresses)),
        ("identity", f"{profile.gateway_identity.value} ({profile.gateway_identity.type.name})"),
        ("protocol", f"{tunnel.protocol}, {', '.join(tunnel.particulars)}"),
        ("sign-in", f"gateway by {sign_in.gateway}, this side by {sign_in.method}"),
    ]
    rows += profile.settings.rows()
    rows += [
        ("networks", ", ".join(map(str, traffic.networks))),
        ("IPv6", IPV6_WORDS[traffic.ipv6]),
        ("local network", LOCAL_WORDS[traffic.local_network]),
        ("name servers", ", ".join(map(str, traffic.name_servers)) or own),
        ("suffixes", ", ".join(traffic.suffixes) or own),
        ("authorities", plural(len(profile.authorities), "certificate")),
    ]
    rare = (
        ("edition", profile.edition),
        ("tags", ", ".join(profile.tags)),
        ("NetBIOS names", ", ".join(map(str, traffic.netbios_name_servers))),
        ("left out", ", ".join(map(str, traffic.left_out))),
        ("revocation", "a gateway of unknown status is refused" if profile.revocation_status == "required" else ""),
        ("gateway keys", plural(len(profile.gateway_keys), "public key") if profile.gateway_keys else ""),
    )
    rows += [(label, value) for label, value in rare if value]
    for label, values in profile.unknown.items():
        for key, value in values.items():
            rows.append(("unknown key", printable(f"{label}.{key} = {value!r}" if label else f"{key} = {value!r}")))
    return rows


def _show(result: results.ShowResult) -> Parts:
    yield heading(result.profile.name)
    table = grid({"no_wrap": True, "style": "dim"}, {"overflow": "fold"})
    for label, value in (*_show_rows(result.profile), *(("revocation list", one) for one in result.revocation_lists)):
        table.add_row(label, Text(value))
    for position, row in enumerate(result.credentials):
        table.add_row("credentials" if position == 0 else "", _kept_words(row))
    shared = "; every user of this machine may use it" if result.whom == "machine" else ""
    table.add_row("imported", Text(f"{result.imported_at} from {result.origin}{shared}"))
    yield indent(table)
    if result.findings:
        yield Text()
        yield heading("Findings")
        yield from findings_table(result.findings)


def _created(result: results.CreateResult) -> Parts:
    yield Text()
    yield heading(f"{result.profile.name} is in the store")
    table = grid({"no_wrap": True, "style": "dim"}, {"overflow": "fold"})
    for label, value in _show_rows(result.profile):
        if not label.endswith("offer"):
            table.add_row(label, Text(value))
    yield indent(table)
    for slip in result.slips:
        yield Text(f"Note: {slip}.", style="yellow")
    if result.findings:
        yield Text()
        yield heading("Findings")
        yield from findings_table(result.findings)
    yield Text()
    if result.missing:
        change = f"zesty credentials change {result.profile.credentials_label!r} --kind {result.missing}"
        yield Text(f"It still needs a {result.missing}: {change}")
    else:
        yield Text(f"Try it without a tunnel: zesty credentials try {result.profile.name}")


def _places(result: results.PlacesResult) -> Parts:
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
    for label in ("name", "place", "protocols", "load"):
        table.add_column(label, overflow="fold", justify="right" if label == "load" else "left")
    for row in result.places:
        place = ", ".join(part for part in (row["city"], row["country"]) if part)
        load = f"{row['load']} %" if row["load"] >= 0 else "not told"
        best = "bold" if row["name"] == result.recommended else ""
        table.add_row(Text(row["name"], style=best), place, ", ".join(row["protocols"]), load)
    yield table
    yield Text()
    if result.recommended:
        yield Text(f"The portal recommends {result.recommended}: {result.reason}.")
    yield Text(f"Import them all: zesty import {result.portal}; or one of them: --place NAME")


def _kept_words(row: dict[str, str]) -> Text:
    """Which credentials of a kind would be used."""
    if not row["scope"]:
        return Text(f"{row['kind']}: missing", style="yellow")
    use = "" if row["needed"] == "yes" else ", not needed"
    return Text(f"{row['kind']}: for {row['scope']}, sealed {row['sealed_at'][:10]}, from {row['origin']}{use}")


def _removed(result: results.RemoveResult) -> Parts:
    yield Text(f"Removed {plural(len(result.removed), 'profile')}: {', '.join(result.removed)}.")
    if result.forgotten:
        yield Text(f"The credentials for {', '.join(result.forgotten)} are gone with them.")


def _credentials(result: results.CredentialsResult) -> Parts:
    if not result.credentials:
        yield Text("No credentials are kept, and no profile needs any.")
        return
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
    for label in ("for", "kind", "sealed", "from", "used by"):
        table.add_column(label, overflow="fold")
    for row in result.credentials:
        names = row["profiles"]
        used = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
        kept = row["sealed_at"][:10] or "missing"
        table.add_row(*map(Text, (row["scope"], row["kind"], kept, row["origin"], used or "no profile")))
    yield table


def _exported(result: results.ExportResult) -> Parts:
    extra = f", with the sealed credentials for {', '.join(result.credentials)}" if result.credentials else ""
    yield Text(f"Wrote {plural(len(result.profiles), 'profile')} to {', '.join(result.files)}{extra}.")
    if result.left_out:
        yield Text("Left out, because the format cannot contain it:")
        for words in dict.fromkeys(result.left_out):
            yield indent(Text(words))


def _code(result: results.CodeResult) -> Parts:
    for position, code in enumerate(result.codes, start=1):
        of = f", code {position} of {len(result.codes)}" if len(result.codes) > 1 else ""
        yield heading(f"{result.profile}{of}")
        yield Text.from_ansi(code)
    if result.credentials:
        yield Text(f"With the sealed credentials for {', '.join(result.credentials)}.")


def up_line(status: TunnelStatus) -> Text:
    """Place, inner addresses, protocol, algorithms."""
    from zesty_burrow.carrier.control.status import IPV6_STATES

    place = ", ".join(part for part in (status.city, status.country) if part) or status.profile
    ipv6 = f"IPv6 {IPV6_STATES[status.ipv6]}"
    rest = [", ".join(status.addresses), status.protocol, *list(status.algorithms.values())[-1:], ipv6]
    return Text.assemble(("  up    ", "bold green"), (place, "bold"), *(f" | {part}" for part in rest))


def _up(result: results.UpResult) -> Parts:
    yield up_line(result.status)
    yield Text(
        f"        The tunnel continues in the background (process {result.status.process}); end it: zesty disconnect"
    )


def _ended(result: results.EndResult) -> Parts:
    yield Text(f"The tunnel has ended ({result.end.reason}); its settings on this machine were removed.")
    for path in result.end.restored.left_alone:
        yield Text(f"{path} was changed by another program and was left unchanged.", style="yellow")


def octets(count: float) -> str:
    """Octets with a unit of thousands."""
    for unit in ("octets", "kB", "MB", "GB"):
        if count < 1000 or unit == "GB":
            return f"{count:.0f} {unit}" if unit == "octets" else f"{count:.1f} {unit}"
        count /= 1000
    return ""


def _status(result: results.StatusResult) -> Parts:
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
        table = grid({"no_wrap": True, "style": "dim"}, {"overflow": "fold"})
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
        yield indent(table, 8)
    if result.findings:
        yield from findings_table(result.findings)
    if result.network is not None:
        yield Text()
        yield heading("This machine")
        for line in result.network:
            yield indent(Text(line))


def _disconnected(result: results.DisconnectResult) -> Parts:
    yield Text(f"The tunnel {result.profile} has ended; its settings on this machine were removed.")


def _restored(result: results.RestoreResult) -> Parts:
    if not result.restored.done and not result.restored.left_alone:
        yield Text("Nothing to restore: no tunnel has left anything behind.")
        return
    yield Text("Restored:")
    for line in result.restored.done:
        yield indent(Text(line))
    for path in result.restored.left_alone:
        yield Text(f"{path} was changed by another program and was left unchanged.", style="yellow")


def _sighting(seen: Sighting, *, none: str = "none") -> str:
    return seen.address or none


def _describe(seen: Sighting) -> str:
    known = ", ".join(part for part in (seen.operator, seen.place) if part)
    return f"{seen.address} ({known})" if known else seen.address


def _observation_rows(before: Observation | None, after: Observation) -> list[tuple[str, str, str]]:
    old = before or Observation("")
    rows = [("taken", old.taken_at or "never", after.taken_at)]
    for label, one, two in (("IPv4", old.ipv4, after.ipv4), ("IPv6", old.ipv6, after.ipv6)):
        rows.append((f"{label} address", _sighting(one), _sighting(two)))
        if one.address or two.address:
            rows.append(("  operator", one.operator, two.operator))
            rows.append(("  place", one.place, two.place))
    for index in range(max(len(old.resolvers), len(after.resolvers), 1)):
        cells = [_describe(side[index]) if index < len(side) else "" for side in (old.resolvers, after.resolvers)]
        rows.append(("resolvers" if index == 0 else "", *cells))  # type: ignore[arg-type]
    for index in range(max(len(old.real_time), len(after.real_time), 1)):
        cells = [_sighting(side[index]) if index < len(side) else "" for side in (old.real_time, after.real_time)]
        rows.append(("real-time (STUN)" if index == 0 else "", *cells))  # type: ignore[arg-type]
    rows.append(
        (
            "names answered",
            f"{old.names_answered} of {old.names_asked}",
            f"{after.names_answered} of {after.names_asked}",
        )
    )
    return rows


def _verification(result: results.VerifyResult) -> Parts:
    promise = f", which names {result.promise}" if result.promise else ""
    subject = f"profile {result.profile}{promise}" if result.profile else "no tunnel"
    yield heading(f"Verification of {subject}")
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
    table.add_column("", style="dim", no_wrap=True)
    table.add_column("before", overflow="fold")
    table.add_column("after", overflow="fold")
    for row in _observation_rows(result.before, result.after):
        table.add_row(*map(Text, row))
    yield indent(table)
    yield Text()
    yield Text(VERDICT_WORDS[result.judgement.verdict], style=VERDICT_STYLES[result.judgement.verdict])
    yield from findings_table(result.judgement.findings)


def _baseline(result: results.BaselineResult) -> Parts:
    seen = result.observation
    yield heading("What the outside sees before the tunnel")
    table = grid({"no_wrap": True, "style": "dim"}, {"overflow": "fold"})
    table.add_row("IPv4 address", Text(_describe(seen.ipv4) or "none"))
    table.add_row("IPv6 address", Text(_describe(seen.ipv6) or "none"))
    for index, resolver in enumerate(seen.resolvers):
        table.add_row("resolvers" if index == 0 else "", Text(_describe(resolver)))
    yield indent(table)
    yield Text("Stored. Connect, then run `zesty verify`.")


def _advice(result: results.AdviceResult) -> Parts:
    """Loaded only when it is needed: with it comes all of the policy."""
    from zesty_burrow.report.advice import advice_text

    return advice_text(result)


def _rehearsals(result: results.RehearsalResult) -> Parts:
    from zesty_burrow.report.rehearsals import rehearsal_table

    return rehearsal_table(result)


def _explanation(result: results.ExplainResult) -> Parts:
    if len(result.codes) > 1:
        table = grid({"no_wrap": True}, {"no_wrap": True}, {"overflow": "fold"})
        for code in result.codes:
            table.add_row(
                Text(code.severity, style=SEVERITY_STYLES[code.severity]), Text(code.slug, style="bold"), code.title
            )
        yield table
        return
    for code in result.codes:
        yield Text.assemble((code.slug, "bold"), " (", (code.severity, SEVERITY_STYLES[code.severity]), ")")
        table = grid({"no_wrap": True, "style": "dim"}, {"overflow": "fold"})
        for label, value in (
            ("what", code.title),
            ("why", code.why),
            ("to do", code.remedy),
            ("source", code.reference),
        ):
            if value:
                table.add_row(label, Text(value))
        yield indent(table)


def _lab(result: results.LabResult) -> Parts:
    yield heading(f"The lab runs (process {result.status['process']}, folder {result.status['folder']})")
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="bold")
    rows = result.status["hosts"]
    headings = ["host", "process", "tunnels", "faults"]
    headings += ["note"] if any(row.get("note") for row in rows.values()) else []
    for label in headings:
        table.add_column(label, overflow="fold")
    for name, row in rows.items():
        faults = ", ".join(row.get("faults", [])) or ("none" if "faults" in row else "")
        cells = [name, str(row["process"]), str(row.get("tunnels", "")), faults, row.get("note", "")]
        table.add_row(*map(Text, cells[: len(headings)]))
    yield indent(table)
    yield Text(f"The provider's kit: {result.kit}")
    yield Text("Run a command on the workstation: zesty lab run heron -- zesty list")


def _message(result: results.MessageResult) -> Parts:
    yield Text(result.message)


_RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    results.KitResult: kit_text,
    results.ListResult: _list,
    results.ShowResult: _show,
    results.CreateResult: _created,
    results.PlacesResult: _places,
    results.RemoveResult: _removed,
    results.CredentialsResult: _credentials,
    results.ExportResult: _exported,
    results.CodeResult: _code,
    results.UpResult: _up,
    results.EndResult: _ended,
    results.StatusResult: _status,
    results.DisconnectResult: _disconnected,
    results.RestoreResult: _restored,
    results.VerifyResult: _verification,
    results.BaselineResult: _baseline,
    results.AdviceResult: _advice,
    results.RehearsalResult: _rehearsals,
    results.ExplainResult: _explanation,
    results.LabResult: _lab,
    results.MessageResult: _message,
}
