"""What an event of the negotiation means to a person: a step with its detail."""

from __future__ import annotations

from zesty_burrow.carrier.status import suite_in_words
from zesty_burrow.core.ike.events import Event, Negotiated, Proven, Reached, SignedIn


def step_of(event: Event, peer: str, label: str) -> tuple[str, str] | None:
    """The step that an event completes, with its detail; None for events that complete none."""
    if isinstance(event, Reached):
        return "reach", peer
    if isinstance(event, Negotiated):
        behind = "; the gateway is behind an address translator" if event.nat_there else ""
        return "negotiate", suite_in_words(event.suite) + behind
    if isinstance(event, Proven):
        notes = "".join(f"; {entry.code.title}" for entry in event.findings)
        return "prove", event.subject + notes
    if isinstance(event, SignedIn):
        return "sign in", f"with the credentials for {label}"
    return None
