"""A table of the packet filter as a value: how to get from one to another, and how it differs from what the kernel has.

Numbers are those of the kernel's public header linux/netfilter/nf_tables.h.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import NamedTuple

from zesty_burrow.host.netlink_messages import APPEND, CREATE, attribute_rows, attributes, nest, text
from zesty_burrow.host.packet_filter.expressions import COUNTER
from zesty_burrow.host.packet_filter.messages import (
    DELETE_CHAIN,
    DELETE_RULE,
    DELETE_TABLE,
    GET_CHAIN,
    GET_RULE,
    GET_SET,
    GET_TABLE,
    NEW_CHAIN,
    NEW_OBJECT,
    NEW_RULE,
    NEW_SET,
    NEW_TABLE,
    Body,
    FamilyBody,
    FilterSocket,
    number,
)
from zesty_burrow.records import dataclass

DORMANT, OWNER, PERSIST = 0x1, 0x2, 0x4
"""Flags of a table: it does nothing; only the socket that has it may change it; it outlives that socket."""
OWNED = OWNER | PERSIST
SET_TIMEOUT = 0x10
POLICY_ACCEPT = 1
TABLE_FLAGS, TABLE_OWNER = 2, 7
DEFAULTS = {"bitwise": 6, "lookup": 5}
"""By expression: an attribute that the kernel adds, where it is zero."""
NESTED = {"cmp": (3,), "bitwise": (4, 5), "immediate": (2,)}
"""By expression: attributes that hold others."""


class Hook(NamedTuple):
    """Where a base chain is called; ``device``: of the netdev family alone."""

    number: int
    priority: int
    device: str = ""


@dataclass(frozen=True, slots=True)
class Chain:
    """``hook`` is None for a chain that others jump to."""

    rules: tuple[bytes, ...]
    hook: Hook | None = None


@dataclass(frozen=True, slots=True)
class TableSpec:
    """``chains`` by name, those that are jumped to first; ``user_sets``: sets of users, each with a time limit."""

    family: int
    name: str
    chains: Mapping[str, Chain]
    counters: tuple[str, ...] = ()
    user_sets: tuple[str, ...] = ()


def whole(spec: TableSpec, flags: int = 0, *, replaced: bool = False) -> list[FamilyBody]:
    """Changes that make the table; ``replaced``: there is one, which is deleted first."""
    own = text(1, spec.name)
    made = own + (number(TABLE_FLAGS, flags) if flags else b"")
    bodies: list[Body] = [(DELETE_TABLE, 0, own)] if replaced else []
    bodies.append((NEW_TABLE, CREATE, made))
    zero = nest(4, number(1, 0, 8), number(2, 0, 8))
    bodies += [(NEW_OBJECT, CREATE, own + text(2, name) + number(3, COUNTER) + zero) for name in spec.counters]
    of_users = number(3, SET_TIMEOUT) + number(4, 0) + number(5, 4) + number(10, 1)
    bodies += [(NEW_SET, CREATE, own + text(2, name) + of_users) for name in spec.user_sets]
    bodies += [_new_chain(spec, name) for name in spec.chains]
    bodies += [_new_rule(spec, name, rule) for name, chain in spec.chains.items() for rule in chain.rules]
    return [(spec.family, body) for body in bodies]


def changes(before: TableSpec, after: TableSpec) -> list[FamilyBody]:
    """What leads from one to the other. Rules that are only added are appended: removing makes every processor wait."""
    own = text(1, after.name)
    fresh = [name for name in after.chains if name not in before.chains]
    left = [name for name in before.chains if name not in after.chains]
    bodies: list[Body] = [_new_chain(after, name) for name in fresh]
    added: list[Body] = []
    for name, chain in after.chains.items():
        known = before.chains[name].rules if name in before.chains else ()
        if known == chain.rules[: len(known)]:
            added += [_new_rule(after, name, rule) for rule in chain.rules[len(known) :]]
        else:
            bodies.append((DELETE_RULE, 0, own + text(2, name)))
            added += [_new_rule(after, name, rule) for rule in chain.rules]
    bodies += [(DELETE_RULE, 0, own + text(2, name)) for name in left]
    bodies += added
    bodies += [(DELETE_CHAIN, 0, own + text(3, name)) for name in left]
    return [(after.family, body) for body in bodies]


def _new_chain(spec: TableSpec, name: str) -> Body:
    hook, where = spec.chains[name].hook, b""
    if hook is not None:
        device = text(3, hook.device) if hook.device else b""
        where = nest(4, number(1, hook.number), number(2, hook.priority), device)
        where += number(5, POLICY_ACCEPT) + text(7, "filter")
    return NEW_CHAIN, CREATE, text(1, spec.name) + text(3, name) + where


def _new_rule(spec: TableSpec, chain: str, rule: bytes) -> Body:
    return NEW_RULE, CREATE | APPEND, text(1, spec.name) + text(2, chain) + nest(4, rule)


@dataclass(frozen=True, slots=True)
class TableSeen:
    """A table as the kernel has it. ``owner``: the process's socket that owns it, 0 for none."""

    flags: int
    owner: int
    chains: Mapping[str, tuple[tuple[object, ...], Hook | None]]
    user_sets: tuple[str, ...]


def read(channel: FilterSocket, family: int, name: str) -> TableSeen | None:
    """The kernel's table, None where it has no such table. Raises :class:`RightsMissing` or :class:`MachineError`."""
    what, own = f"reading the table {name}", text(1, name)
    found = channel.ask(GET_TABLE, family, own, what)
    if not found:
        return None
    flags, owner = (int.from_bytes(found[0].get(kind, b"")) for kind in (TABLE_FLAGS, TABLE_OWNER))
    rules: dict[str, list[object]] = {}
    for row in channel.ask(GET_RULE, family, own, what, every=True):
        if _word(row.get(1, b"")) == name:
            rules.setdefault(_word(row.get(2, b"")), []).append(_canonical(row.get(4, b"")))
    chains = {}
    for row in channel.ask(GET_CHAIN, family, own, what, every=True):
        if _word(row.get(1, b"")) == name:
            chain = _word(row.get(3, b""))
            chains[chain] = (tuple(rules.get(chain, ())), _hook(row))
    sets = channel.ask(GET_SET, family, own, what, every=True)
    names = tuple(sorted(_word(row.get(2, b"")) for row in sets if _word(row.get(1, b"")) == name))
    return TableSeen(flags, owner, chains, names)


def differences(spec: TableSpec, seen: TableSeen | None) -> list[str]:
    """How the kernel's table differs from what is meant, in words; none where it is as meant."""
    if seen is None:
        return ["the table is missing"]
    found = ["the table is dormant"] if seen.flags & DORMANT else []
    for name, chain in spec.chains.items():
        if name not in seen.chains:
            found.append(f"chain {name} is missing")
            continue
        rules, hook = seen.chains[name]
        if hook != chain.hook:
            found.append(f"chain {name} is hooked elsewhere")
        wanted = tuple(_canonical(rule) for rule in chain.rules)
        if rules != wanted:
            more = len(rules) - len(wanted)
            how = f"{more} rules more" if more > 0 else f"{-more} rules fewer" if more else "other rules"
            found.append(f"chain {name} has {how}")
    found += [f"chain {name} is foreign" for name in seen.chains if name not in spec.chains]
    found += [f"set {name} is missing" for name in spec.user_sets if name not in seen.user_sets]
    return found


def _word(value: bytes) -> str:
    return value.rstrip(b"\0").decode("utf-8", "replace")


def _hook(row: Mapping[int, bytes]) -> Hook | None:
    if 4 not in row:
        return None
    values = attributes(row[4])
    priority = int.from_bytes(values.get(2, b""), signed=True)
    return Hook(int.from_bytes(values.get(1, b"")), priority, _word(values.get(3, b"")) or _devices(values))


def _devices(values: Mapping[int, bytes]) -> str:
    """Newer kernels list a chain's devices (NFTA_HOOK_DEVS)."""
    return " ".join(_word(value) for _, value in attribute_rows(values.get(4, b"")))


@lru_cache(maxsize=8192)
def _canonical(rule: bytes) -> tuple[object, ...]:
    """A rule's expressions in a form in which the kernel's listing is equal to what was sent."""
    return tuple(_expressions(rule))


def _expressions(rule: bytes) -> Iterator[tuple[object, ...]]:
    for _, one in attribute_rows(rule):
        parts = attributes(one)
        name, values = _word(parts.get(1, b"")), attributes(parts.get(2, b""))
        skipped = DEFAULTS.get(name)
        kept: list[tuple[int, object]] = []
        for kind, value in sorted(values.items()):
            if name == "exthdr" and kind in (5, 6) and not any(value):
                continue
            if kind == skipped and not any(value):
                continue
            if name == "reject" and kind == 2 and int.from_bytes(values.get(1, b"")) == 1:
                # A reset of TCP has no code.
                continue
            kept.append((kind, _tree(value, 2) if kind in NESTED.get(name, ()) else value))
        yield (name, tuple(kept))


def _tree(value: bytes, depth: int) -> object:
    """Attributes within attributes, without the flag that says so, which the kernel leaves out."""
    rows = attributes(value)
    holds = {kind: one for kind, one in rows.items() if depth > 1 and kind == 2}
    return tuple((kind, _tree(one, depth - 1) if kind in holds else one) for kind, one in sorted(rows.items()))
