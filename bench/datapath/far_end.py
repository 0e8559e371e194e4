"""The far end of our tunnel: the lab's gateway, alone in a network namespace, with a kit for one account."""

from __future__ import annotations

import asyncio
import sys
from dataclasses import replace
from ipaddress import ip_network
from pathlib import Path

from zesty_burrow.carrier.fast_path import selector
from zesty_burrow.core.policy.algorithms import TransformType
from zesty_burrow.core.profile import Traffic
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import make_authority
from zesty_burrow.lab.gateways.gateway import GatewayHost
from zesty_burrow.lab.kit import kit_archive, kit_files, place_profile
from zesty_burrow.profiles.text import write_profile
from zesty_burrow.protocols.ikev2.settings import AlgorithmChoice, settings_of
from zesty_burrow.protocols.ikev2.settings import ProposalChoice as Proposal
from zesty_burrow.store.seal import write_private

PLACE = replace(story.PLACES[0], is_old=True)
PASSWORD, SHARED_KEY = "made-up-for-the-bench", "made-up-for-all-of-the-bench"


def proposal(words: str) -> Proposal:
    """Encryption, and integrity behind a plus where it needs one."""
    encryption, _, integrity = words.partition(" + ")
    separate = (AlgorithmChoice.read(TransformType.INTEG, integrity),) if integrity else ()
    return Proposal((AlgorithmChoice.read(TransformType.ENCR, encryption),), separate)


def kit(authority_pem: bytes, encryption: str) -> bytes:
    """Only the inner network goes through the tunnel, so that the others are measured beside it."""
    inner = tuple(ip_network(one) for one in (f"{PLACE.pool4}0/24", f"{PLACE.pool6}/64"))
    profile = replace(place_profile(PLACE), traffic=Traffic(networks=inner))
    if encryption:
        profile = replace(profile, settings=replace(settings_of(profile), esp=(proposal(encryption),)))
    files = kit_files(authority_pem, PASSWORD)
    files = {name: data for name, data in files.items() if not name.startswith("profiles/")}
    return kit_archive({**files, f"profiles/{profile.name}.toml": write_profile(profile).encode()})


async def serve(folder: Path, encryption: str, disabled: frozenset[str]) -> None:
    """Write the kit, answer, say so."""
    authority = make_authority("Quillwort Relay")
    also = (proposal(encryption),) if encryption else ()
    accounts = {story.ACCOUNT: PASSWORD}
    host = GatewayHost(PLACE, authority, accounts, SHARED_KEY, disabled=disabled, also=also)
    host.start()
    write_private(folder / "kit.zip", kit(authority.pem(), encryption))
    print(host.note or "ready", flush=True)
    # Each line that comes is a question how packets are worked on.
    while await asyncio.to_thread(sys.stdin.readline):
        print(host.data_path.words if host.data_path else "", flush=True)


if __name__ == "__main__":
    selector.run(serve(Path(sys.argv[1]), sys.argv[2], frozenset(filter(None, sys.argv[3].split(",")))))
