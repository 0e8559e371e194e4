"""Asks gateways what they can do, several at a time, without signing in; and measures what algorithms cost here."""

from __future__ import annotations

import asyncio
import os
import socket
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from zesty_burrow.carrier.channel import udp_socket
from zesty_burrow.carrier.configuring import resolve
from zesty_burrow.carrier.pump import Pump
from zesty_burrow.core.ike.enquiry import Abilities, Done, Enquiry
from zesty_burrow.core.ike.keyexchange import METHODS, make_key_agreement
from zesty_burrow.core.ike.proposals import Offer
from zesty_burrow.core.ike.sa import Backoff
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, TransformType
from zesty_burrow.core.profile.model import Profile, offers_of
from zesty_burrow.core.protection import key_sizes, make_protection
from zesty_burrow.errors import BurrowError

AT_ONCE = 16
T = TransformType
PACKET, PACKETS = bytes(1400), 40
DEFAULT_INTEGRITY = 12


@dataclass(frozen=True, slots=True)
class Asked:
    """A gateway's abilities, or why there are none."""

    address: str
    abilities: Abilities | None
    why: str = ""


def enquire(profiles: Sequence[Profile], patience: float, on_done: Callable[[int], None]) -> list[Asked]:
    """Each profile's gateway; ``on_done`` hears how many are done. A gateway that several share is asked for each."""
    return asyncio.run(_enquire(profiles, patience, on_done))


async def _enquire(profiles: Sequence[Profile], patience: float, on_done: Callable[[int], None]) -> list[Asked]:
    places = asyncio.Semaphore(AT_ONCE)
    count = 0

    async def one(profile: Profile) -> Asked:
        nonlocal count
        async with places:
            try:
                found = await _ask(profile, patience)
            except BurrowError as problem:
                found = Asked("", None, str(problem))
        count += 1
        on_done(count)
        return found

    return list(await asyncio.gather(*map(one, profiles)))


async def _ask(profile: Profile, patience: float) -> Asked:
    addresses = await asyncio.to_thread(resolve, profile)
    offers, _ = offers_of(profile)
    for address in addresses:
        abilities = await _ask_at(address, profile.gateway.port, offers, patience)
        if abilities is not None:
            return Asked(address, abilities)
    return Asked(addresses[0], None, f"no answer for {patience:g} seconds")


async def _ask_at(address: str, port: int, offers: tuple[Offer, ...], patience: float) -> Abilities | None:
    enquiry = Enquiry((address, port), offers, os.urandom, Backoff(give_up=patience))
    outcome: asyncio.Future[Done] = asyncio.get_running_loop().create_future()

    def receive(data: bytes, source: tuple[str, int], _: int, now: float) -> None:
        if source[0] == address:
            enquiry.receive(data, source, now)

    def on_event(event: Done) -> None:
        if not outcome.done():
            outcome.set_result(event)

    with udp_socket(socket.AF_INET6 if ":" in address else socket.AF_INET) as channel:
        pump: Pump[Done] = Pump(enquiry, {enquiry.local_port: channel}, receive, on_event)
        try:
            enquiry.start(pump.now())
            pump.flush()
            done = await outcome
        finally:
            pump.close()
    # Silence after some answers still tells something; silence from the start tells nothing.
    return None if done.silent and not enquiry.found.groups and enquiry.found.chosen is None else enquiry.found


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
