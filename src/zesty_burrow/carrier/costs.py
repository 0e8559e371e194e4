"""Measures what algorithms cost on this machine."""

from __future__ import annotations

import os
import time
from collections.abc import Callable

from zesty_burrow.core.crypto.key_exchange import METHODS, make_key_agreement
from zesty_burrow.core.crypto.protection import key_sizes, make_protection
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, TransformType

T = TransformType
PACKET = bytes(1400)
ROUNDS, AGREEMENT_ROUNDS = 60, 3
DEFAULT_INTEGRITY = 12
Key = tuple[int, int, int]


def measure_costs() -> dict[Key, float]:
    """Seconds that a packet of 1400 octets or a key agreement take here, by type, number and key bits."""
    packets: dict[Key, Callable[[], object]] = {}
    agreements: dict[Key, Callable[[], object]] = {}
    for entry in ALGORITHMS:
        if not entry.usable:
            continue
        if entry.type is T.ENCR:
            for bits in entry.bits or (0,):
                packets[T.ENCR, entry.number, bits] = _sealing(entry.number, bits, DEFAULT_INTEGRITY)
        elif entry.type is T.INTEG:
            packets[T.INTEG, entry.number, 0] = _sealing(12, 128, entry.number)
        elif entry.type is T.KE and entry.number in METHODS:
            agreements[T.KE, entry.number, 0] = _agreeing(entry.number)
    return _least(packets, ROUNDS) | _least(agreements, AGREEMENT_ROUNDS)


def _least(work: dict[Key, Callable[[], object]], rounds: int) -> dict[Key, float]:
    """The shortest time of each. All take turns, so that a moment in which the machine is busy slows no single one."""
    best = dict.fromkeys(work, float("inf"))
    for _ in range(rounds):
        for key, call in work.items():
            began = time.perf_counter()
            call()
            best[key] = min(best[key], time.perf_counter() - began)
    return best


def _sealing(encryption: int, bits: int, integrity: int) -> Callable[[], object]:
    integrity = 0 if encryption in AEAD_NUMBERS else integrity
    sizes = key_sizes(encryption, bits, integrity)
    protection = make_protection(encryption, os.urandom(sizes[0]), os.urandom(sizes[1]), os.urandom, integrity)
    plaintext = PACKET + bytes(-len(PACKET) % protection.block)
    return lambda: protection.seal(b"header..", plaintext)


def _agreeing(group: int) -> Callable[[], object]:
    public = make_key_agreement(group, os.urandom).public
    return lambda: make_key_agreement(group, os.urandom).shared(public)
