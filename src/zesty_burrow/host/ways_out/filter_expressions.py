"""Rules of the packet filter as the kernel lists them, read into what they ask and do.

Numbers are those of the kernel's public header linux/netfilter/nf_tables.h. What is not known by its meaning is a field
of its own, of which nothing is known but that conditions tell its values apart; an effect that is not known is said to
be unknown.
"""

from __future__ import annotations

import struct
import sys
from collections.abc import Iterator
from typing import NamedTuple

from zesty_burrow.core.ways_out.classes.conditions import (
    ALWAYS,
    DESTINATION,
    ENTRY,
    MARK,
    OWN,
    PORT,
    PROTOCOL,
    SERVICE,
    SOURCE,
    SOURCE_PORT,
    USER,
    WIDTHS,
    Condition,
    Match,
)
from zesty_burrow.core.ways_out.kernel import filter_facts as facts
from zesty_burrow.core.ways_out.kernel.filter_facts import (
    OUT_DEVICE,
    Ask,
    Decide,
    SendCopy,
    SetDestination,
    SetMark,
    Step,
    Unknown,
)
from zesty_burrow.host.netlink_messages import attribute_rows, attributes
from zesty_burrow.host.ways_out.filter_sets import SetSeen, keys_of, none_of, one_of

ETHERTYPES = {4: 0x0800, 6: 0x86DD}
FAMILY_NUMBERS = {4: 2, 6: 10}
NAME_OCTETS = 16
VERDICTS = {
    0: facts.DROP, 1: facts.ACCEPT, -1: facts.CONTINUE, -2: facts.CONTINUE, -3: facts.JUMP, -4: facts.GOTO,
    -5: facts.RETURN,
}  # fmt: skip
QUEUE = 3
EQ, NEQ, LT, LTE, GT, GTE = range(6)
INVERTED = 0x1
CONSTANT = "constant"
MOST_VALUES = 64
QUOTA_OBJECT, LIMIT_OBJECT = 2, 4
KNOWN_META = {1: "frame type", 3: MARK, 4: ENTRY, 5: OUT_DEVICE, 6: "entry name", 7: "leaving name", 10: USER,
              15: "family", 16: PROTOCOL}  # fmt: skip
HARMLESS = frozenset({"counter", "log", "objref", "dynset", "notrack", "last", "flow_offload", "byteorder_", "ct_set"})
CONDITIONS = frozenset({"limit", "quota", "connlimit", "match"})
LOADS = frozenset({"rt", "socket", "fib", "exthdr", "numgen", "hash", "ct", "xfrm", "tunnel", "osf", "inner"})
TRANSLATED = {"DNAT", "REDIRECT", "NETMAP"}
COPIED = {"TEE"}
PASSIVE_TARGETS = {"LOG", "NFLOG", "TRACE", "MASQUERADE", "SNAT", "TCPMSS", "CT", "NOTRACK", "CHECKSUM", "CONNMARK"}


class _Loaded(NamedTuple):
    """What a register holds: a field, or a constant. ``shift``: bits of the field that lie behind what was loaded.
    ``mask``, ``flip``: what was done with it since. ``native``: in this machine's order.
    """

    field: str
    octets: int
    constant: bytes = b""
    shift: int = 0
    mask: int = -1
    flip: int = 0
    native: bool = False


class RuleReader:
    """Of one table. ``free``: fields that have no meaning here, with their bits; those that are met are added."""

    def __init__(self, version: int, devices: dict[int, str], sets: dict[str, SetSeen], free: dict[str, int]) -> None:
        self._version, self._devices, self._sets, self._free = version, devices, sets, free
        self._registers: dict[int, _Loaded] = {}
        self._key = ""

    def read(self, expressions: bytes, key: str, name: str) -> list[tuple[Step, ...]]:
        """A rule's steps; several rules for one that looks into a map. ``key``: of its table's chains."""
        self._registers, self._key = {}, key
        rows = [attributes(expression) for _, expression in attribute_rows(expressions)]
        return [tuple(steps) for steps in self._rest(rows, name)]

    def _rest(self, rows: list[dict[int, bytes]], name: str) -> list[list[Step]]:
        """The steps of the rest of a rule, with registers as they are."""
        steps: list[Step] = []
        for number, parts in enumerate(rows):
            kind, values = parts.get(1, b"").rstrip(b"\0").decode(), attributes(parts.get(2, b""))
            if kind == "lookup" and 3 in values:
                if _number(values[3]) == 0:
                    return [[*steps, *row] for row in self._verdict_map(values)]
                known = self._sets.get(values[1].rstrip(b"\0").decode())
                if known is not None and 0 < len(known.elements) <= MOST_VALUES:
                    return [[*steps, *more] for more in self._each_value(known, values, rows[number + 1 :], name)]
            steps += self._step(kind, values, name)
        return [steps]

    def _each_value(
        self, known: SetSeen, values: dict[int, bytes], rows: list[dict[int, bytes]], name: str
    ) -> Iterator[list[Step]]:
        """A map of values: the rule goes on with each of them, for its key."""
        kept = dict(self._registers)
        for low, high, element in keys_of(known):
            self._registers = dict(kept)
            match = self._key_match(_number(values[2]), low, high)
            self._load(values, _Loaded(CONSTANT, len(element.value), element.value), 3)
            for rest in self._rest(rows, name):
                yield [Ask(match), *rest]

    def _step(self, kind: str, values: dict[int, bytes], name: str) -> Iterator[Step]:
        if kind == "objref" and _number(values.get(1, b"")) in (QUOTA_OBJECT, LIMIT_OBJECT):
            kind = "limit"
        if kind in HARMLESS:
            return
        if kind in LOADS:
            if 1 in values or kind == "inner":
                self._load_free(kind, values)
            return
        if kind in CONDITIONS:
            # Each by itself: what one lets through says nothing of another.
            yield Ask(((self._free_condition(f"{kind} of {name}", 8, ((1, 1),)),),))
            return
        act = {
            "meta": self._meta, "payload": self._payload, "bitwise": self._bitwise, "byteorder": self._byteorder,
            "cmp": self._cmp, "range": self._range, "lookup": self._lookup, "immediate": self._immediate,
            "reject": self._reject, "nat": self._nat, "redir": self._to_itself, "masq": self._harmless,
            "dup": self._dup, "fwd": self._fwd, "target": self._target, "queue": self._queue, "tproxy": self._to_itself,
        }.get(kind)  # fmt: skip
        if act is None:
            yield Unknown(f"an effect that is not looked at ({kind})")
            return
        yield from act(values)

    # Loads.

    def _load(self, values: dict[int, bytes], loaded: _Loaded, attribute: int = 1) -> None:
        self._registers[_slot(_number(values[attribute]))] = loaded

    def _register(self, value: bytes) -> _Loaded:
        return self._registers.get(_slot(_number(value)), _Loaded(self._free_field("a register", 128), 16))

    def _free_field(self, field: str, bits: int) -> str:
        if field not in WIDTHS and field not in (SOURCE, DESTINATION, OUT_DEVICE):
            self._free[field] = max(bits, self._free.get(field, 0))
        return field

    def _free_condition(self, field: str, bits: int, ranges: tuple[tuple[int, int], ...]) -> Condition:
        return Condition(self._free_field(field, bits), ranges)

    def _load_free(self, kind: str, values: dict[int, bytes]) -> None:
        words = " ".join(f"{key}:{value.hex()}" for key, value in sorted(values.items()) if key != 1)
        # How many octets it has is not told; comparisons tell, and nothing has more than sixteen.
        field = self._free_field(f"{kind} {words}".strip(), 128)
        register = values.get(1) or (1).to_bytes(4)
        self._registers[_slot(_number(register))] = _Loaded(field, 0)

    def _meta(self, values: dict[int, bytes]) -> Iterator[Step]:
        key = _number(values.get(2, b""))
        if 1 in values:
            field = KNOWN_META.get(key)
            if field is None:
                self._load(values, _Loaded(self._free_field(f"meta {key}", 128), 0))
            else:
                octets = {"entry name": NAME_OCTETS, "leaving name": NAME_OCTETS, "frame type": 2, "family": 1}
                self._load(
                    values,
                    _Loaded(field, octets.get(field, 1 if field == PROTOCOL else 4), native=key in (3, 4, 5, 10)),
                )
            return
        if key == 3:
            yield self._set_mark(self._register(values[3]))

    def _set_mark(self, loaded: _Loaded) -> Step:
        if loaded.field == CONSTANT:
            return SetMark(int.from_bytes(loaded.constant[:4], sys.byteorder))
        if loaded.field == MARK:
            mask = ~loaded.mask & 0xFFFF_FFFF if loaded.mask >= 0 else 0
            # A bit that is kept and turned over depends on what it was.
            if loaded.flip & ~mask:
                return Unknown("a mark that depends on what it was")
            return SetMark(loaded.flip & mask, mask)
        return Unknown("a mark that is taken from elsewhere")

    def _payload(self, values: dict[int, bytes]) -> Iterator[Step]:
        base, offset, length = (_number(values.get(kind, b"")) for kind in (2, 3, 4))
        if 5 in values:
            if base == 1:
                yield Unknown("a change of the packet's addresses")
            return
        self._load(values, self._octets(base, offset, length))

    def _octets(self, base: int, offset: int, length: int) -> _Loaded:
        four = self._version == 4
        size = 4 if four else 16
        if base == 1:
            for field, start in ((SOURCE, 12 if four else 8), (DESTINATION, 16 if four else 24)):
                if offset == start and length <= size:
                    return _Loaded(field, length, shift=8 * (size - length))
            if (offset, length) == ((9, 1) if four else (6, 1)):
                return _Loaded(PROTOCOL, 1)
            if four and (offset, length) == (1, 1):
                return _Loaded(SERVICE, 1)
        if base == 2 and length == 2 and offset in (0, 2):
            return _Loaded(SOURCE_PORT if offset == 0 else PORT, 2)
        if base == 2 and (offset, length) == (0, 4):
            return _Loaded("both ports", 4)
        return _Loaded(self._free_field(f"octets {base}.{offset}.{length}", 8 * length), length)

    def _bitwise(self, values: dict[int, bytes]) -> Iterator[Step]:
        loaded = self._register(values[1])
        mask, flip = (attributes(values.get(kind, b"")).get(1, b"") for kind in (4, 5))
        if _number(values.get(6, b"")) or not mask or loaded.field == CONSTANT:
            self._load(values, _Loaded(self._free_field(f"a computed value of {loaded.field}", 128), 0), 2)
            return iter(())
        order = sys.byteorder if loaded.native else "big"
        one, other = int.from_bytes(mask, order), int.from_bytes(flip, order)
        known = loaded.mask if loaded.mask >= 0 else (1 << 8 * len(mask)) - 1
        self._load(values, loaded._replace(mask=known & one, flip=loaded.flip & one ^ other, octets=len(mask)), 2)
        return iter(())

    def _byteorder(self, values: dict[int, bytes]) -> Iterator[Step]:
        loaded = self._register(values[1])
        self._load(values, loaded._replace(native=not loaded.native and sys.byteorder == "little"), 2)
        return iter(())

    # Comparisons.

    def _cmp(self, values: dict[int, bytes]) -> Iterator[Step]:
        loaded, how = self._register(values[1]), _number(values[2])
        data = attributes(values[3]).get(1, b"")
        yield Ask(self._compared(loaded, how, data))

    def _compared(self, loaded: _Loaded, how: int, data: bytes) -> Match:
        if loaded.field in ("entry name", "leaving name"):
            return self._by_name(loaded, data, negated=how == NEQ)
        value = self._value(loaded, data)
        most = (1 << 8 * len(data)) - 1
        ranges = {
            EQ: ((value, value),), NEQ: ((value, value),), LT: ((0, value - 1),), LTE: ((0, value),),
            GT: ((value + 1, most),), GTE: ((value, most),),
        }[how]  # fmt: skip
        return self._in_ranges(loaded, tuple(r for r in ranges if r[0] <= r[1]), negated=how == NEQ, octets=len(data))

    def _value(self, loaded: _Loaded, data: bytes) -> int:
        return int.from_bytes(data, sys.byteorder if loaded.native else "big")

    def _range(self, values: dict[int, bytes]) -> Iterator[Step]:
        loaded, how = self._register(values[1]), _number(values[2])
        low, high = (attributes(values[kind]).get(1, b"") for kind in (3, 4))
        ranges = ((self._value(loaded, low), self._value(loaded, high)),)
        yield Ask(self._in_ranges(loaded, ranges, negated=how == NEQ, octets=len(low)))

    def _in_ranges(
        self, loaded: _Loaded, ranges: tuple[tuple[int, int], ...], *, negated: bool = False, octets: int = 0
    ) -> Match:
        """Where what a register holds lies in one of the ranges."""
        if loaded.field in ("family", "frame type"):
            wanted = FAMILY_NUMBERS[self._version] if loaded.field == "family" else ETHERTYPES[self._version]
            return ALWAYS if any(low <= wanted <= high for low, high in ranges) != negated else ()
        if loaded.field == "both ports":
            return self._both_ports(ranges, negated=negated)
        if loaded.field == ENTRY:
            # What this machine sends has no incoming device: the number is 0.
            rows = {number: 0 if number == OWN else number for number in self._devices}
            numbers = [n for n, seen in rows.items() if any(low <= seen <= high for low, high in ranges) != negated]
            return one_of(ENTRY, numbers)
        bits = 8 * (octets or loaded.octets or 16)
        field = self._free_field(loaded.field, bits)
        shift = loaded.shift
        if loaded.mask >= 0 or loaded.flip:
            return self._masked(field, loaded, ranges, negated=negated)
        spread = tuple((low << shift, (high << shift) | ((1 << shift) - 1)) for low, high in ranges)
        return ((Condition(field, spread, negated=negated),),)

    def _masked(self, field: str, loaded: _Loaded, ranges: tuple[tuple[int, int], ...], *, negated: bool) -> Match:
        shift, mask = loaded.shift, loaded.mask
        alike = tuple(((low ^ loaded.flip) << shift, (high ^ loaded.flip) << shift) for low, high in ranges)
        whole = Condition(field, alike, mask << shift, negated)
        if all(low == high for low, high in alike):
            return ((whole,),)
        leading = (~mask & ((1 << 8 * max(loaded.octets, 1)) - 1)) + 1
        if leading & (leading - 1) == 0 and not loaded.flip:
            return ((whole,),)
        self._free_field(f"a computed value of {field}", 128)
        return ((Condition(f"a computed value of {field}", ranges, negated=negated),),)

    def _both_ports(self, ranges: tuple[tuple[int, int], ...], *, negated: bool) -> Match:
        if ranges == ((0, 0xFFFF_FFFF),):
            return () if negated else ALWAYS
        if all(low == high for low, high in ranges) and not negated:
            return tuple(
                (Condition.equals(SOURCE_PORT, low >> 16), Condition.equals(PORT, low & 0xFFFF)) for low, _ in ranges
            )
        return ((Condition(self._free_field("both ports", 32), ranges, negated=negated),),)

    def _by_name(self, loaded: _Loaded, data: bytes, *, negated: bool) -> Match:
        """Data without the zero octet at its end is the beginning of names."""
        whole = len(data) >= NAME_OCTETS or data.endswith(b"\0")
        name = data.rstrip(b"\0").decode("utf-8", "surrogateescape")
        field = ENTRY if loaded.field == "entry name" else OUT_DEVICE
        # What this machine sends has no incoming device: its name is empty.
        rows = {number: "" if field == ENTRY and number == OWN else known for number, known in self._devices.items()}
        numbers = [n for n, seen in rows.items() if (seen == name if whole else seen.startswith(name)) != negated]
        return one_of(field, numbers)

    # Sets.

    def _lookup(self, values: dict[int, bytes]) -> Iterator[Step]:
        name = values[1].rstrip(b"\0").decode()
        known = self._sets.get(name)
        if known is None:
            yield Unknown(f"the set {name}")
            return
        negated = bool(_number(values.get(5, b"")) & INVERTED)
        rows = [self._key_match(_number(values[2]), low, high) for low, high, _ in keys_of(known)]
        if 3 in values:
            # A map of values: which of them is not followed.
            self._load(values, _Loaded(self._free_field(f"a value of the map {name}", 128), 0), 3)
        match = none_of(rows) if negated else tuple(one for row in rows for one in row)
        yield Unknown(f"the many keys of the set {name}") if match is None else Ask(match)

    def _verdict_map(self, values: dict[int, bytes]) -> Iterator[tuple[Step, ...]]:
        name = values[1].rstrip(b"\0").decode()
        known = self._sets.get(name)
        if known is None:
            yield (Unknown(f"the map {name}"),)
            return
        for low, high, element in keys_of(known):
            match = self._key_match(_number(values[2]), low, high)
            yield (Ask(match), *self._verdict(element.verdict or 0, element.chain))

    def _key_match(self, register: int, low: bytes, high: bytes) -> Match:
        """A key that is made of several fields stands in several registers, each part filled up to four octets."""
        slot, position = _slot(register), 0
        match: Match = ALWAYS
        while position < len(low):
            loaded = self._registers.get(slot + position // 4)
            octets = loaded.octets if loaded is not None and loaded.octets else len(low) - position
            if loaded is None:
                loaded, octets = _Loaded(self._free_field("a register", 128), 16), len(low) - position
            octets = min(octets, len(low) - position)
            first, last = low[position : position + octets], high[position : position + octets]
            if loaded.field in ("entry name", "leaving name"):
                part = self._by_name(loaded, first, negated=False)
            else:
                ranges = ((self._value(loaded, first), self._value(loaded, last)),)
                part = self._in_ranges(loaded, ranges, octets=octets)
            match = tuple((*one, *other) for one in match for other in part)
            position += (octets + 3) & ~3
        return match

    # Effects.

    def _immediate(self, values: dict[int, bytes]) -> Iterator[Step]:
        data = attributes(values[2])
        if 2 in data:
            verdict = attributes(data[2])
            yield from self._verdict(
                int.from_bytes(verdict[1], signed=True), verdict.get(2, b"").rstrip(b"\0").decode()
            )
        else:
            value = data.get(1, b"")
            self._load(values, _Loaded(CONSTANT, len(value), value))

    def _verdict(self, code: int, chain: str) -> Iterator[Step]:
        if code & 0xFF == QUEUE and code > 0:
            yield Unknown("a program that decides (queue)")
            yield Decide(facts.ACCEPT)
        else:
            yield Decide(VERDICTS.get(code, facts.DROP), self._key + chain if chain else "")

    def _queue(self, _values: dict[int, bytes]) -> Iterator[Step]:
        yield from self._verdict(QUEUE, "")

    def _reject(self, _values: dict[int, bytes]) -> Iterator[Step]:
        yield Decide(facts.DROP)

    def _harmless(self, _values: dict[int, bytes]) -> Iterator[Step]:
        return iter(())

    def _to_itself(self, _values: dict[int, bytes]) -> Iterator[Step]:
        yield SetDestination(is_own=True)
        yield Decide(facts.ACCEPT)

    def _nat(self, values: dict[int, bytes]) -> Iterator[Step]:
        if _number(values.get(1, b"")) == 1 and 3 in values:
            low = self._register(values[3])
            high = self._register(values[4]) if 4 in values else low
            if low.field == high.field == CONSTANT:
                yield SetDestination(((int.from_bytes(low.constant), int.from_bytes(high.constant)),))
            else:
                yield SetDestination()
        yield Decide(facts.ACCEPT)

    def _dup(self, values: dict[int, bytes]) -> Iterator[Step]:
        device = self._register(values[2]) if 2 in values else None
        target = self._register(values[1]) if 1 in values else None
        if device is not None and device.field == CONSTANT:
            yield SendCopy(int.from_bytes(device.constant[:4], sys.byteorder))
        elif target is not None and target.field == CONSTANT:
            yield SendCopy(destination=int.from_bytes(target.constant))
        else:
            yield Unknown("a copy that goes somewhere")

    def _fwd(self, values: dict[int, bytes]) -> Iterator[Step]:
        device = self._register(values[1])
        if device.field == CONSTANT:
            yield SendCopy(int.from_bytes(device.constant[:4], sys.byteorder), instead=True)
        else:
            yield Unknown("a device that a rule chooses")

    def _target(self, values: dict[int, bytes]) -> Iterator[Step]:
        """An effect of the packet filter that the kernel had before."""
        name, info = values.get(1, b"").rstrip(b"\0").decode(), values.get(3, b"")
        if name == "MARK" and len(info) >= 8:
            value, mask = struct.unpack_from("=II", info)
            yield SetMark(value & mask, mask)
        elif name in TRANSLATED:
            yield SetDestination(is_own=name == "REDIRECT")
            yield Decide(facts.ACCEPT)
        elif name == "REJECT":
            yield Decide(facts.DROP)
        elif name not in PASSIVE_TARGETS:
            yield Unknown(f"an effect that is not looked at ({name})")


def _number(value: bytes) -> int:
    return int.from_bytes(value)


def _slot(register: int) -> int:
    """Registers of sixteen octets (1 to 4) and of four (from 8 on) lie in one memory."""
    return (register - 1) * 4 if register < 8 else register - 8
