"""Measures what algorithms cost on this machine."""

from __future__ import annotations

import os
import time

from zesty_burrow.core.crypto.key_exchange import METHODS, make_key_agreement
from zesty_burrow.core.crypto.protection import key_sizes, make_protection
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, TransformType

T = TransformType
PACKET, PACKETS = bytes(1400), 40
DEFAULT_INTEGRITY = 12


def measure_costs() -> dict[tuple[int, int, int], float]:
    """Seconds that a packet of 1400 octets or a key agreement take here, by type, number and key bits."""
    costs: dict[tuple[int, int, int], float] = {}
    for entry in ALGORITHMS:
        if not entry.usable:
            continue
        if entry.type is T.ENCR:
            for bits in entry.bits or (0,):
                costs[T.ENCR, entry.number, bits] = _packet_cost(entry.number, bits, DEFAULT_INTEGRITY)
        elif entry.type is T.INTEG:
            costs[T.INTEG, entry.number, 0] = _packet_cost(12, 128, entry.number)
        elif entry.type is T.KE and entry.number in METHODS:
            costs[T.KE, entry.number, 0] = _agreement_cost(entry.number)
    return costs


def _packet_cost(encryption: int, bits: int, integrity: int) -> float:
    integrity = 0 if encryption in AEAD_NUMBERS else integrity
    sizes = key_sizes(encryption, bits, integrity)
    protection = make_protection(encryption, os.urandom(sizes[0]), os.urandom(sizes[1]), os.urandom, integrity)
    plaintext = PACKET + bytes(-len(PACKET) % protection.block)
    best = float("inf")
    for _ in range(PACKETS):
        began = time.perf_counter()
        protection.seal(b"header..", plaintext)
        best = min(best, time.perf_counter() - began)
    return best


def _agreement_cost(group: int) -> float:
    other = make_key_agreement(group, os.urandom)
    best = float("inf")
    for _ in range(3):
        began = time.perf_counter()
        make_key_agreement(group, os.urandom).shared(other.public)
        best = min(best, time.perf_counter() - began)
    return best
