"""What other programs have changed of a tunnel's settings on this machine: found, said, and set again."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.host.netlink import RT_TABLE_MAIN, Netlink, Route, Rule
from zesty_burrow.host.plan import FIRST_RULE, WIDEST_HARMLESS, RoutingPlan

REPAIRED, FOREIGN_RULE, WIDE_ROUTES, RESOLVER = (
    "settings-repaired",
    "foreign-rule",
    "wide-routes",
    "resolver-changed",
)
LOCAL_PUBLIC, LOCAL_OVERLAPS, LOCAL_MANY = "local-network-public", "local-network-overlaps", "local-networks-many"
CONDITIONS = (FOREIGN_RULE, WIDE_ROUTES, LOCAL_PUBLIC, LOCAL_OVERLAPS, LOCAL_MANY)
"""They hold as long as they are seen; the others say what was done."""
MAX_NAMED = 8


def repair_routing(netlink: Netlink, plan: RoutingPlan) -> list[str]:
    """Set again what is missing of the plan; what that was, in words."""
    done = []
    tables = {route.table for route in plan.routes}
    present = {_identity(route) for table in tables for route in netlink.routes(table)}
    for route in plan.routes:
        if _identity(route) not in present and _can_be_set(netlink, route):
            netlink.add_route(route)
            done.append(f"route to {route.destination}")
    rules = set(netlink.rules())
    for rule in plan.rules:
        if rule not in rules:
            netlink.add_rule(rule)
            done.append(f"rule {rule.priority} (IPv{rule.version})")
    return done


def _identity(route: Route) -> tuple[str, int, str, str]:
    return route.destination, route.table, route.device, route.kind


def _can_be_set(netlink: Netlink, route: Route) -> bool:
    """A route by a device that is gone, or down, comes back with it."""
    return not route.device or netlink.is_up(route.device)


def foreign_rules(rules: Iterable[Rule]) -> list[Rule]:
    """Rules of others that are asked before the tunnel's. The kernel's own first one leads to local addresses alone."""
    return [rule for rule in rules if 0 < rule.priority < FIRST_RULE]


def wide_routes(routes: Iterable[Route]) -> list[str]:
    """Destinations of routes that would take much of all traffic, as DHCP (RFC 3442) or a router can add them."""
    found = []
    for route in routes:
        length = int(route.destination.partition("/")[2] or 128)
        if 0 < length <= WIDEST_HARMLESS[route.version]:
            found.append(route.destination)
    return found


def judge_routing(netlink: Netlink, device: str, repaired: Sequence[str]) -> list[Finding]:
    """What there is to say about this machine's routing."""
    findings = [finding(REPAIRED, device, _named(repaired))] if repaired else []
    foreign = [f"rule {rule.priority} (IPv{rule.version})" for rule in foreign_rules(netlink.rules())]
    findings += [finding(FOREIGN_RULE, device, _named(foreign))] if foreign else []
    wide = wide_routes(netlink.routes(RT_TABLE_MAIN))
    findings += [finding(WIDE_ROUTES, device, _named(wide))] if wide else []
    return findings


def _named(things: Sequence[str]) -> str:
    rest = len(things) - MAX_NAMED
    return ", ".join(things[:MAX_NAMED]) + (f" and {rest} more" if rest > 0 else "")
