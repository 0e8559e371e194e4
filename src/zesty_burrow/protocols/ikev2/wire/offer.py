"""One proposal in a side's own terms (RFC 7296 §3.3). Light to load: a profile's settings are made into these."""

from __future__ import annotations

from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Offer:
    """One proposal in a side's own terms; every tuple is in order of preference.

    ``encryption`` holds pairs of IANA number and key length in bits (0 where the cipher has only one).
    """

    encryption: tuple[tuple[int, int], ...]
    integrity: tuple[int, ...] = ()
    prf: tuple[int, ...] = ()
    groups: tuple[int, ...] = ()
    esn: tuple[int, ...] = ()
    extra: tuple[int, ...] = ()
