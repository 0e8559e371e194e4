"""Another profile replaces the one that is up: requested over the control socket."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Mapping
from typing import Any

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.carrier.network.addresses import look_up, names_of, with_proxy
from zesty_burrow.carrier.ways import Way, ways_to
from zesty_burrow.core.credentials import from_document, kind_of, to_document
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, Malformed, error_document
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols.session import NegotiatedSuite, Secrets
from zesty_burrow.records import dataclass, field

CALL = "switch"


def switch_body(profile: Profile, secrets: Secrets) -> dict[str, Any]:
    """What follows the call, as plain values; for the owner's own socket only."""
    return {
        "profile": write_profile(profile),
        "secrets": [to_document(secret) for secret in secrets.values()],
    }


@dataclass(slots=True)
class Switch:
    """``ways``: to the new gateway, those that were not tried yet, None before it is looked up; ``answer``: for the
    caller, who waits; ``suites``: what was agreed on.
    """

    profile: Profile
    secrets: Secrets = field(repr=False)
    answer: asyncio.Future[dict[str, Any]]
    ways: deque[Way] | None = None
    suites: tuple[NegotiatedSuite, ...] = ()

    @classmethod
    def of(cls, request: Mapping[str, Any], answer: asyncio.Future[dict[str, Any]]) -> Switch:
        """From what follows a call. :class:`BurrowError` where it is not that."""
        text, rows = request.get("profile"), request.get("secrets")
        if not isinstance(text, str) or not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
            raise Malformed("the call to switch is malformed", why="it has no profile or no secrets")
        known = [from_document(row) for row in rows]
        return cls(read_profile(text, "the profile to switch to"), {kind_of(one): one for one in known}, answer)

    async def next_way(self) -> Way:
        """To the new gateway; looked up through the tunnel that is up. Raises :class:`GatewayUnreachable`."""
        if self.ways is None:
            addresses = await asyncio.to_thread(look_up, names_of(self.profile))
            profile = await asyncio.to_thread(with_proxy, self.profile, look_up)
            self.ways = deque(ways_to(profile, addresses))
        return self.ways.popleft()

    def done(self, status: TunnelStatus) -> None:
        """The new tunnel is up."""
        if not self.answer.done():
            self.answer.set_result({"up": status.document()})

    def fail(self, problem: BurrowError) -> None:
        """It did not come to it; the tunnel before stays."""
        if not self.answer.done():
            self.answer.set_result({"error": error_document(problem)})
