"""The tunnels that are up: their processes, as they answer."""

from __future__ import annotations

import time
from ipaddress import ip_network
from typing import TYPE_CHECKING, Any

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.errors import StateError
from zesty_burrow.host.journal.lock import is_held, recorded_name
from zesty_burrow.host.paths import TunnelPaths
from zesty_burrow.records import dataclass

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.use_cases.workspace import Workspace


SILENT = "does not answer"
"""The state of a tunnel's process that holds a journal and gives no answer: nothing else is known of it."""
PATIENCE = 2.0
"""Seconds for a process to answer."""
SETTLE = 1.0
"""Seconds in which a process that has a journal answers, or is gone."""


@dataclass(frozen=True, slots=True)
class Running:
    """A tunnel's process, and the name of its profile. ``document``: its status, empty until it is up."""

    paths: TunnelPaths
    state: str
    profile: str
    document: dict[str, Any]

    @property
    def takes_everything(self) -> bool:
        """Whether all traffic of a family is to go through it."""
        return any(ip_network(one).prefixlen == 0 for one in self.document.get("networks", ()))

    def is_called(self, word: str) -> bool:
        """Whether a user may mean it: by its profile, or the place of its exit."""
        names = (self.profile, str(self.document.get("city", "")))
        return word.lower() in [name.lower() for name in names if name] or self.profile.endswith(f"-{word}")


def running_tunnels(workspace: Workspace) -> list[Running]:
    """Those whose processes answer; one that takes everything comes first.

    A process that has the journal and does not answer is beginning, or dying: in a moment it is clear which.
    """
    until = time.monotonic() + SETTLE
    while True:
        found = _answering(workspace)
        answered = {one.paths.journal for one in found}
        silent = [
            tunnel for tunnel in workspace.paths.tunnels if tunnel.journal not in answered and is_held(tunnel.journal)
        ]
        if not silent or time.monotonic() > until:
            return sorted(found, key=lambda one: not one.takes_everything)
        time.sleep(0.02)


def _answering(workspace: Workspace) -> list[Running]:
    runnings = []
    for paths in workspace.paths.tunnels:
        try:
            answer = ask(paths.control, "status", PATIENCE)
        except StateError:
            # Stopped, or overloaded: it is there, and nothing else is known of it.
            runnings.append(Running(paths, SILENT, recorded_name(paths.journal), {}))
            continue
        if answer is not None:
            state, profile = (str(answer.get(key, "")) for key in ("state", "profile"))
            runnings.append(Running(paths, state, profile, answer.get("status") or {}))
    return runnings


def the_one(tunnels: list[Running], profile: Profile) -> Running:
    """The tunnel in whose place another profile's is wanted: where there are several, one that takes as much."""
    alike = [tunnel for tunnel in tunnels if tunnel.takes_everything == profile.traffic.everything]
    chosen = tunnels if len(tunnels) == 1 else alike
    if len(chosen) != 1:
        names = ", ".join(tunnel.profile for tunnel in tunnels)
        raise StateError(
            f"several tunnels are up: {names}",
            next_step=f"End the one that {profile.name} is to replace, or add --beside.",
            slug="several-tunnels",
        )
    return chosen[0]


def refuse_overlap(profile: Profile, others: list[Running]) -> None:
    """Two tunnels that want the same addresses cannot both have them; nor may one take the other's own packets.

    One that takes everything leaves to another what that one takes.
    """
    traffic = profile.traffic
    for other in others:
        refuse_silent(other)
        if not other.document:
            raise busy(f"the tunnel {other.profile} is being set up")
        theirs = [ip_network(one) for one in other.document.get("networks", ())]
        if traffic.everything != other.takes_everything:
            shared: list[str] = []
        else:
            shared = [str(network) for network in traffic.networks if any(network.overlaps(their) for their in theirs)]
        gateway = str(other.document.get("gateway_address", ""))
        if gateway and not traffic.everything:
            shared += [f"{network} (its gateway is there)" for network in traffic.networks if _holds(network, gateway)]
        if shared:
            raise StateError(
                f"{profile.name} and {other.profile}, which is up, want the same addresses",
                why=", ".join(shared),
                next_step=f"Disconnect {other.profile} first, or connect without --beside to switch.",
                slug="tunnels-overlap",
            )


def refuse_silent(tunnel: Running) -> None:
    """:class:`StateError` where a tunnel's process gives no answer: it could not be asked for anything."""
    if tunnel.state == SILENT:
        raise StateError(
            f"the process of the tunnel {tunnel.profile} does not answer",
            next_step="Let it continue (kill -CONT), or end it (kill -9) and run `zesty restore`.",
            slug="tunnel-silent",
        )


def busy(what: str) -> StateError:
    """Another process is changing this machine at this moment."""
    return StateError(what, next_step="Try again once that is done.", slug="busy")


def _holds(network: Any, address: str) -> bool:
    one = ip_network(address)
    return bool(network.version == one.version and one.subnet_of(network))
