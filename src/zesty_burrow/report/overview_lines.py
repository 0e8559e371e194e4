"""Where things stand, as text for people. Light to load: a user who types the program's name alone waits for it."""

from __future__ import annotations

from zesty_burrow.errors import printable
from zesty_burrow.report.layout import Column, Table, Text
from zesty_burrow.report.times import local_time

TYPE_CHECKING = False
if TYPE_CHECKING:
    from zesty_burrow.report.parts import Parts
    from zesty_burrow.use_cases.overview import Overview, TunnelSeen

GUARD = {
    "absent": ("open: the kernel has no table of it, so traffic leaves this machine as usual", ""),
    "present": ("the kernel has its table now; whether its rules are as intended: zesty guard", "green"),
}
VERDICTS = {"sealed": "green", "leaking": "bold red"}


def overview_parts(seen: Overview) -> Parts:
    """The result's lines."""
    table = Table(Column(style="bold", whole=True), Column())
    there = f"{seen.profiles} profile{'s' * (seen.profiles > 1)}" if seen.profiles else "nothing yet"
    table.add_row("store", f"{there}, in {printable(seen.store)}")
    for tunnel in seen.tunnels:
        table.add_row("tunnel", _tunnel(tunnel))
    if seen.left_over:
        table.add_row("tunnel", Text("an earlier one has ended without restoring this machine's settings", "bold red"))
    elif seen.others:
        table.add_row("tunnel", Text(f"another user's is up, by the device {', '.join(seen.others)}", "yellow"))
    elif not seen.tunnels:
        table.add_row("tunnel", "none is up")
    words, style = GUARD.get(seen.guard, ("not known: only root may ask the kernel for it", "yellow"))
    table.add_row("guard", Text(words, style))
    if seen.verified:
        at, profile, verdict = seen.verified
        said = Text.assemble(
            (verdict, VERDICTS.get(verdict, "yellow")), f" at {local_time(at)}, {printable(profile) or 'no tunnel'}"
        )
        table.add_row("verified", said)
    if seen.devices:
        table.add_row("devices", f"{seen.devices} in the list")
    yield table
    yield ""
    steps = Table(Column(style="bold", whole=True), Column(style="cyan", whole=True), Column(), gap=3)
    for number, step in enumerate(seen.steps):
        steps.add_row("" if number else "next", step.command, step.does)
    yield steps
    yield ""
    yield Text("All commands: zesty help", style="dim")


def _tunnel(tunnel: TunnelSeen) -> Text:
    style = "green" if tunnel.state == "up" else "yellow"
    place = f", {printable(tunnel.place)}" if tunnel.place else ""
    return Text.assemble((printable(tunnel.profile) or "one that is being set up", style), f" {tunnel.state}{place}")
