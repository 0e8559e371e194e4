"""What a running tunnel reports about itself: values that travel as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from zesty_burrow.records import asdict, dataclass, field

if TYPE_CHECKING:
    from zesty_burrow.protocols.session import NegotiatedSuite

IPV6_STATES = {
    "tunnel": "through the tunnel",
    "blocked": "blocked",
    "outside": "OUTSIDE the tunnel",
    "untouched": "as before",
}


@dataclass(frozen=True, slots=True)
class StepReport:
    """A step that is complete: ``seconds`` since the one before; ``detail`` in words."""

    step: str
    seconds: float
    detail: str = ""


@dataclass(frozen=True, slots=True)
class TunnelStatus:
    """A tunnel that is up, or was and is being set up again.

    ``algorithms``: in words by what they are for; ``suites``: the same as numbers. ``encrypted_dns``: whether the
    first of the announced resolvers is asked by DNS over TLS, in words. ``findings``: slug, subject and detail of what
    was noticed since. ``is_partial``: the gateway carries less than the profile asks for, and nobody has
    accepted that. ``guarded``: the guard holds what belongs in the tunnel. ``networks``,
    ``left_out``: what the profile wants inside, and what of it outside; ``reach``: what it expects to reach. ``proof``:
    by what the gateway has proven its identity, in words. ``over``: by which transport, and why where several were
    tried.

    ``round_trip``: seconds of the gateway's quickest answer, 0 where there was none; ``last_heard``: seconds since
    anything authentic came, below 0: not yet. ``losses``: since when the tunnel was lost, why, for how many seconds (0:
    it still is), how many packets the guard rejected in that time. ``watch``: what the packet watch of the whole
    connection has seen (:class:`zesty_burrow.carrier.supervision.outside_watch.OutsideWatch`).
    """

    profile: str
    provider: str
    country: str
    city: str
    gateway: str
    gateway_address: str
    protocol: str
    since: str
    device: str
    addresses: tuple[str, ...]
    name_servers: tuple[str, ...]
    suffixes: tuple[str, ...]
    netbios_name_servers: tuple[str, ...]
    encrypted_resolvers: tuple[str, ...]
    ipv6: str
    process: int
    algorithms: Mapping[str, str] = field(default_factory=dict)
    suites: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    encrypted_dns: str = ""
    over: str = ""
    offloads: tuple[str, ...] = ()
    data_path: str = ""
    mtu: int = 0
    seconds_up: float = 0.0
    packets_in: int = 0
    packets_out: int = 0
    octets_in: int = 0
    octets_out: int = 0
    rejected: int = 0
    dropped: int = 0
    rekeys: int = 0
    reconnects: int = 0
    address_changes: int = 0
    sign_ins_repeated: int = 0
    is_up: bool = True
    is_partial: bool = False
    guarded: bool = False
    round_trip: float = 0.0
    last_heard: float = -1.0
    losses: tuple[tuple[str, str, float, int], ...] = ()
    networks: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()
    reach: tuple[str, ...] = ()
    proof: str = ""
    findings: tuple[tuple[str, str, str], ...] = ()
    watch: Mapping[str, Any] = field(default_factory=dict)

    def document(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def of(cls, document: dict[str, Any]) -> TunnelStatus:
        """From what ``document`` gave and JSON carried."""
        values: dict[str, Any] = {
            key: tuple(value) if isinstance(value, list) else value for key, value in document.items()
        }
        values["losses"] = tuple(tuple(row) for row in values.get("losses", ()))
        values["findings"] = tuple(tuple(row) for row in values.get("findings", ()))
        return cls(**values)


def algorithms_of(suites: tuple[NegotiatedSuite, ...]) -> dict[str, Any]:
    """What was negotiated, as the status has it."""
    return {
        "algorithms": {suite.label: str(suite.suite) for suite in suites},
        "suites": {suite.label: asdict(suite.suite) for suite in suites},
    }
