"""This machine's addresses, routes, rules and name servers as text, to see whether something has changed."""

from __future__ import annotations

from contextlib import suppress
from socket import AF_INET, AF_INET6
from typing import Any

from zesty_burrow.errors import MachineError
from zesty_burrow.host.guard.presence import is_in_force
from zesty_burrow.host.names.resolv_conf import RESOLV_CONF

VERSIONS = {AF_INET: 4, AF_INET6: 6}
_VOLATILE_TABLES = {255}
"""The kernel's own table of local addresses follows from the addresses."""


def snapshot() -> tuple[str, ...]:
    """Sorted lines, one for each address, route, rule and line of the resolver's settings."""
    from pyroute2 import IPRoute

    lines: list[str] = []
    with IPRoute() as netlink:
        names = {link["index"]: link.get("ifname") for link in netlink.get_links()}
        lines += [
            f"address {row.get('address')}/{row['prefixlen']} {names[row['index']]}" for row in netlink.get_addr()
        ]
        for row in netlink.get_routes():
            if row["family"] in VERSIONS and row.get("table") not in _VOLATILE_TABLES and not row["flags"] & 0x200:
                lines.append(_route(row, names))
        for row in netlink.get_rules():
            if row["family"] not in VERSIONS:
                continue
            target = f"to {row.get('dst')}/{row['dst_len']} " if row["dst_len"] else ""
            lines.append(
                f"rule IPv{VERSIONS[row['family']]} {row.get('priority') or 0} {target}table {row.get('table')}"
            )
    # Where the packet filter may be asked.
    with suppress(MachineError):
        lines += ["packet filter: the guard"] if is_in_force() else []
    with suppress(OSError):
        lines += [f"resolver {line}" for line in RESOLV_CONF.read_text().splitlines() if not line.startswith("#")]
    return tuple(sorted(lines))


def _route(row: Any, names: dict[int, str]) -> str:
    destination = f"{row.get('dst')}/{row['dst_len']}" if row.get("dst") else "default"
    parts = [f"route IPv{VERSIONS[row['family']]}", destination]
    if row.get("gateway"):
        parts.append(f"via {row.get('gateway')}")
    if row.get("oif"):
        parts.append(f"by {names.get(row.get('oif'))}")
    if row["type"] != 1:
        parts.append({7: "unreachable"}.get(row["type"], f"type {row['type']}"))
    parts.append(f"table {row.get('table')}")
    return " ".join(parts)
