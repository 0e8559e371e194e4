"""One profile, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import printable
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.profile import CreateResult, ShowResult

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile


IPV6_WORDS = {
    "tunnel": "through the tunnel, blocked if the gateway carries none",
    "block": "blocked while the tunnel is up",
    "outside": "left outside the tunnel",
}
LOCAL_WORDS = {"outside": "reached outside the tunnel", "inside": "not reached while the tunnel is up"}


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
    if (proxy := profile.proxy) is not None:
        rows.append(("proxy", f"{proxy}{', with a sign-in of its own' if proxy.sign_in else ''}"))
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
        ("local networks", ", ".join(map(str, traffic.local_networks))),
        ("to be reached", ", ".join(traffic.reach)),
        ("left out", ", ".join(map(str, traffic.left_out))),
        ("behind here", ", ".join(map(str, traffic.behind))),
        ("revocation", "a gateway of unknown status is refused" if profile.revocation_status == "required" else ""),
        ("gateway keys", plural(len(profile.gateway_keys), "public key") if profile.gateway_keys else ""),
    )
    rows += [(label, value) for label, value in rare if value]
    for label, values in profile.unknown.items():
        for key, value in values.items():
            rows.append(("unknown key", printable(f"{label}.{key} = {value!r}" if label else f"{key} = {value!r}")))
    return rows


def _show(result: ShowResult) -> Parts:
    yield heading(result.profile.name)
    table = Table(Column(whole=True, style="dim"), Column())
    for label, value in (
        *_show_rows(result.profile),
        *(("revocation list", revocation_list) for revocation_list in result.revocation_lists),
    ):
        table.add_row(label, Text(value))
    for position, row in enumerate(result.credentials):
        table.add_row("credentials" if position == 0 else "", _kept_words(row))
    shared = "; every user of this machine may use it" if result.whom == "machine" else ""
    table.add_row("imported", Text(f"{result.imported_at} from {result.origin}{shared}"))
    yield Indented(table)
    if result.findings:
        yield ""
        yield heading("Findings")
        yield from findings_table(result.findings)


def _created(result: CreateResult) -> Parts:
    yield ""
    yield heading(f"{result.profile.name} is in the store")
    table = Table(Column(whole=True, style="dim"), Column())
    for label, value in _show_rows(result.profile):
        if not label.endswith("offer"):
            table.add_row(label, Text(value))
    yield Indented(table)
    for slip in result.slips:
        yield Text(f"Note: {slip}.", style="yellow")
    if result.findings:
        yield ""
        yield heading("Findings")
        yield from findings_table(result.findings)
    yield ""
    if result.missing:
        change = f"zesty credentials change {result.profile.credentials_label!r} --kind {result.missing}"
        yield Text(f"It still needs a {result.missing}: {change}")
    else:
        yield Text(f"Try it without a tunnel: zesty credentials try {result.profile.name}")


def _kept_words(row: dict[str, str]) -> Text:
    """Which credentials of a kind would be used."""
    if not row["scope"]:
        return Text(f"{row['kind']}: missing", style="yellow")
    use = "" if row["needed"] == "yes" else ", not needed"
    domain = f", login domain {row['domain']}" if row["domain"] else ""
    worked = f", accepted {row['worked_at'][:10]}" if row["worked_at"] else ""
    kept = f"sealed {row['sealed_at'][:10]}{worked}, from {row['origin']}"
    return Text(f"{row['kind']}: for {row['scope']}{domain}, {kept}{use}")


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    ShowResult: _show,
    CreateResult: _created,
}
