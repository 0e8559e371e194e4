"""The tables of the kernel's packet filter, of all programs, read over netlink."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

from zesty_burrow.core.ways_out.kernel.filter_facts import (
    AT_DEVICE,
    FORWARD,
    NOTHING,
    OUTPUT,
    POSTROUTING,
    PREROUTING,
    FilterChain,
    FilterFacts,
    FilterRule,
)
from zesty_burrow.errors import MachineError
from zesty_burrow.host.netlink_messages import attribute_rows, attributes, text
from zesty_burrow.host.packet_filter.messages import (
    GET_CHAIN,
    GET_ELEMENT,
    GET_RULE,
    GET_SET,
    GET_TABLE,
    INET,
    IPV4,
    IPV6,
    NETDEV,
    FilterSocket,
)
from zesty_burrow.host.ways_out.filter_expressions import RuleReader
from zesty_burrow.host.ways_out.filter_sets import ElementRow, SetSeen

HOOKS = {0: PREROUTING, 2: FORWARD, 3: OUTPUT, 4: POSTROUTING}
EGRESS = 1
DORMANT = 1
LEGACY = {4: "ip_tables_names", 6: "ip6_tables_names"}
WHAT = "reading the packet filter"


def read_filters(version: int, devices: dict[int, str]) -> FilterFacts:
    """Of one version of IP. ``devices``: names by number. Raises :class:`RightsMissing` or :class:`MachineError`."""
    channel = FilterSocket()
    chains: dict[str, FilterChain] = {}
    free: dict[str, int] = {}
    undecided = _legacy(version)
    try:
        for family in (IPV4 if version == 4 else IPV6, INET, NETDEV):
            for row in channel.ask(GET_TABLE, family, b"", WHAT, every=True):
                if int.from_bytes(row.get(2, b"")) & DORMANT:
                    continue
                table = _word(row.get(1, b""))
                reader = RuleReader(version, devices, _sets(channel, family, table), free)
                chains |= _table(channel, family, table, reader, devices)
    except MachineError as problem:
        if problem.slug == "packet-filter-missing" and "no packet filter" in str(problem.why):
            return NOTHING
        raise
    finally:
        channel.close()
    return FilterFacts(chains, free, tuple(undecided))


def _legacy(version: int) -> list[str]:
    """Tables of the packet filter that the kernel had before, which cannot be read here."""
    try:
        names = Path("/proc/self/net", LEGACY[version]).read_text().split()
    except OSError:
        return []
    return [f"the older packet filter's tables ({', '.join(names)})"] if names else []


def _word(value: bytes) -> str:
    return value.rstrip(b"\0").decode("utf-8", "replace")


def _table(
    channel: FilterSocket, family: int, table: str, reader: RuleReader, devices: dict[int, str]
) -> dict[str, FilterChain]:
    own = text(1, table)
    rules: dict[str, list[FilterRule]] = defaultdict(list)
    for row in channel.ask(GET_RULE, family, own, WHAT, every=True):
        if _word(row.get(1, b"")) == table:
            chain = _word(row.get(2, b""))
            name = f"table {table}, chain {chain}, rule {int.from_bytes(row.get(3, b''))}"
            key = f"{family}/{table}/"
            rules[chain] += [FilterRule(steps, name) for steps in reader.read(row.get(4, b""), key, name)]
    chains = {}
    for row in channel.ask(GET_CHAIN, family, own, WHAT, every=True):
        if _word(row.get(1, b"")) != table:
            continue
        name = _word(row.get(3, b""))
        key = f"{family}/{table}/{name}"
        for suffix, made in _chains(family, row, tuple(rules[name]), devices):
            chains[key + suffix] = made
    return chains


def _chains(
    family: int, row: dict[int, bytes], rules: tuple[FilterRule, ...], devices: dict[int, str]
) -> Iterator[tuple[str, FilterChain]]:
    """A chain; one at several devices is one at each."""
    if 4 not in row:
        yield "", FilterChain(rules)
        return
    hook = attributes(row[4])
    number, priority = int.from_bytes(hook.get(1, b"")), int.from_bytes(hook.get(2, b""), signed=True)
    drops = 5 in row and int.from_bytes(row[5]) == 0
    changes = _word(row.get(7, b"")) in ("route", "nat")
    if family == NETDEV:
        names = [_word(hook[3])] if 3 in hook else [_word(value) for _, value in attribute_rows(hook.get(4, b""))]
        for number_of_device, name in devices.items():
            if name in names and number == EGRESS:
                yield f" at {name}", FilterChain(rules, AT_DEVICE, priority, number_of_device, drops=drops)
    elif number in HOOKS:
        yield "", FilterChain(rules, HOOKS[number], priority, 0, changes, drops)


def _sets(channel: FilterSocket, family: int, table: str) -> dict[str, SetSeen]:
    sets = {}
    own = text(1, table)
    for row in channel.ask(GET_SET, family, own, WHAT, every=True):
        if _word(row.get(1, b"")) != table:
            continue
        name = _word(row.get(2, b""))
        elements = []
        for part in channel.ask(GET_ELEMENT, family, own + text(2, name), WHAT, every=True):
            elements += [_element(value) for _, value in attribute_rows(part.get(3, b""))]
        sets[name] = SetSeen(int.from_bytes(row.get(3, b"")), int.from_bytes(row.get(5, b"")), tuple(elements))
    return sets


def _element(value: bytes) -> ElementRow:
    known = attributes(value)
    data = attributes(known.get(2, b""))
    verdict = attributes(data.get(2, b"")) if 2 in data else {}
    code = int.from_bytes(verdict[1], signed=True) if 1 in verdict else None
    return ElementRow(
        attributes(known.get(1, b"")).get(1, b""),
        attributes(known.get(10, b"")).get(1, b""),
        int.from_bytes(known.get(3, b"")),
        code,
        _word(verdict.get(2, b"")),
        data.get(1, b""),
    )
