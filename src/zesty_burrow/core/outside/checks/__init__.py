"""The checks of a verification: a file each, and a line here. They are asked, judged and shown in this order."""

from __future__ import annotations

from zesty_burrow.core.finding import register_codes
from zesty_burrow.core.outside.checks import conditions, name_ways, packets, routes, several, ways_out
from zesty_burrow.core.outside.checks.asked import (
    addresses,
    answers,
    exit_place,
    icmp,
    inbound,
    name_types,
    path,
    plain_http,
    real_time,
    resolvers,
)
from zesty_burrow.core.outside.checks.check import Check

CHECKS: list[Check] = []


def register_check(check: Check) -> None:
    """Add a check after the others, with its codes."""
    register_codes(check.codes)
    CHECKS.append(check)


for _module in (
    ways_out,
    packets,
    name_ways,
    routes,
    conditions,
    addresses,
    exit_place,
    resolvers,
    answers,
    name_types,
    real_time,
    icmp,
    plain_http,
    path,
    inbound,
    several,
):
    register_check(_module.CHECK)
