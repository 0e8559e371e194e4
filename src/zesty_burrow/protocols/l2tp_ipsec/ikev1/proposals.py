"""SA payloads (RFC 2408 §3.3 to §3.6, RFC 2407 §4.6.1): proposals, transforms and their attributes."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

IPSEC_DOI, IDENTITY_ONLY = 1, 1
MAX_PROPOSALS, MAX_TRANSFORMS, MAX_ATTRIBUTES = 16, 64, 32
_PROPOSAL, _TRANSFORM = 2, 3
_SHORT = 0x8000


@dataclass(frozen=True, slots=True)
class Transform:
    """``attributes``: types and values as they came, the same type perhaps twice."""

    number: int
    identifier: int
    attributes: tuple[tuple[int, int], ...]

    def value(self, kind: int, default: int = 0) -> int:
        """The first value of a type."""
        return next((value for one, value in self.attributes if one == kind), default)


@dataclass(frozen=True, slots=True)
class Proposal:
    """``protocol``: 1 ISAKMP, 3 ESP (RFC 2407 §4.4.1)."""

    number: int
    protocol: int
    spi: bytes
    transforms: tuple[Transform, ...]


def read_sa(body: bytes) -> list[Proposal]:
    """The proposals of an SA payload. Raises :class:`Malformed`."""
    cursor = Cursor(body, "an SA payload")
    if cursor.u32() != IPSEC_DOI or cursor.u32() != IDENTITY_ONLY:
        raise cursor.fail("it is of another domain of interpretation or situation than IPsec's (RFC 2407 §4.2)")
    proposals: list[Proposal] = []
    following = _PROPOSAL
    while following == _PROPOSAL:
        if len(proposals) >= MAX_PROPOSALS:
            raise cursor.fail(f"it has more than {MAX_PROPOSALS} proposals")
        following, length = _part(cursor)
        with cursor.within(length - 4, "a proposal"):
            number, protocol, size, count = cursor.u8(), cursor.u8(), cursor.u8(), cursor.u8()
            spi = cursor.take(size)
            proposals.append(Proposal(number, protocol, spi, _read_transforms(cursor, count)))
    if following:
        raise cursor.fail(f"a payload of type {following} follows a proposal")
    cursor.finish()
    return proposals


def _part(cursor: Cursor) -> tuple[int, int]:
    """What follows a proposal or transform, and its length."""
    following, _, length = cursor.u8(), cursor.u8(), cursor.u16()
    if length < 8:
        raise cursor.fail(f"a part of it announces {length} octets")
    return following, length


def _read_transforms(cursor: Cursor, count: int) -> tuple[Transform, ...]:
    if count > MAX_TRANSFORMS:
        raise cursor.fail(f"it has {count} transforms")
    found = []
    for index in range(count):
        following, length = _part(cursor)
        with cursor.within(length - 4, "a transform"):
            number, identifier, _ = cursor.u8(), cursor.u8(), cursor.u16()
            found.append(Transform(number, identifier, _read_attributes(cursor)))
        if following != (_TRANSFORM if index < count - 1 else 0):
            raise cursor.fail(f"a part of type {following} follows transform {index + 1} of {count}")
    return tuple(found)


def _read_attributes(cursor: Cursor) -> tuple[tuple[int, int], ...]:
    """RFC 2408 §3.3: short ones with their value, others with a length."""
    found: list[tuple[int, int]] = []
    while cursor.remaining:
        if len(found) >= MAX_ATTRIBUTES:
            raise cursor.fail(f"it has more than {MAX_ATTRIBUTES} attributes")
        kind, value = cursor.u16(), cursor.u16()
        if kind & _SHORT:
            found.append((kind & ~_SHORT, value))
        elif value > 8:
            # Numbers are all that is asked for here; RFC 2409 appendix A has longer ones for private groups.
            cursor.take(value)
        else:
            found.append((kind, int.from_bytes(cursor.take(value))))
    return tuple(found)


def write_sa(proposals: Sequence[Proposal]) -> bytes:
    """The body of an SA payload."""
    parts = [IPSEC_DOI.to_bytes(4) + IDENTITY_ONLY.to_bytes(4)]
    for index, one in enumerate(proposals):
        rows = []
        for place, transform in enumerate(one.transforms):
            attributes = b"".join(_attribute(*row) for row in transform.attributes)
            body = bytes((transform.number, transform.identifier, 0, 0)) + attributes
            rows.append(_framed(_TRANSFORM if place < len(one.transforms) - 1 else 0, body))
        body = bytes((one.number, one.protocol, len(one.spi), len(one.transforms))) + one.spi + b"".join(rows)
        parts.append(_framed(_PROPOSAL if index < len(proposals) - 1 else 0, body))
    return b"".join(parts)


def _framed(following: int, body: bytes) -> bytes:
    return bytes((following, 0)) + (len(body) + 4).to_bytes(2) + body


def _attribute(kind: int, value: int) -> bytes:
    if value < 1 << 16:
        return (kind | _SHORT).to_bytes(2) + value.to_bytes(2)
    return kind.to_bytes(2) + (4).to_bytes(2) + value.to_bytes(4)


def chosen_of(offered: Sequence[Proposal], answer: bytes) -> tuple[Proposal, Transform]:
    """What an answer has chosen of an offer, unchanged (RFC 2409 §5). Raises :class:`Malformed`."""
    found = read_sa(answer)
    if len(found) != 1 or len(found[0].transforms) != 1:
        raise Malformed("an SA payload is malformed", why="an answer has one proposal with one transform")
    answered = found[0].transforms[0]
    for one in offered:
        for transform in one.transforms:
            same = (one.number, one.protocol) == (found[0].number, found[0].protocol)
            if same and transform.identifier == answered.identifier and _same(transform, answered):
                return found[0], transform
    raise Malformed("an SA payload is malformed", why="what it answers was not offered")


def _same(one: Transform, other: Transform) -> bool:
    """In any order; a duration may be shortened (RFC 2407 §4.5.4): then a notification tells."""
    return sorted(one.attributes) == sorted(other.attributes)
