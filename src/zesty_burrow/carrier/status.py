"""What a running tunnel tells about itself: values that travel as JSON."""

from __future__ import annotations

from dataclasses import asdict, astuple, dataclass
from typing import Any

from zesty_burrow.core.ike.suite import Suite
from zesty_burrow.core.policy.algorithms import TransformType, describe

STEPS = ("resolve", "reach", "negotiate", "prove", "sign in", "address", "routes", "name servers")

IPV6_STATES = {
    "tunnel": "through the tunnel",
    "blocked": "blocked",
    "outside": "OUTSIDE the tunnel",
    "untouched": "as before",
}


@dataclass(frozen=True, slots=True)
class StepDone:
    """A step that is done: ``seconds`` since the one before; ``detail`` in words."""

    step: str
    seconds: float
    detail: str = ""


@dataclass(frozen=True, slots=True)
class TunnelStatus:
    """A tunnel that stands."""

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
    ike_algorithms: str
    esp_algorithms: str
    ike_suite: tuple[int, ...]
    esp_suite: tuple[int, ...]
    ipv6: str
    process: int
    offloads: tuple[str, ...] = ()
    loops: str = ""
    mtu: int = 0
    seconds_up: float = 0.0
    packets_in: int = 0
    packets_out: int = 0
    octets_in: int = 0
    octets_out: int = 0
    rejected: int = 0
    turned_away: int = 0
    renewals: int = 0
    returns: int = 0
    moves: int = 0
    sign_ins_repeated: int = 0
    standing: bool = True

    def document(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)

    @classmethod
    def of(cls, document: dict[str, Any]) -> TunnelStatus:
        """From what ``document`` gave and JSON carried."""
        values: dict[str, Any] = {
            key: tuple(value) if isinstance(value, list) else value for key, value in document.items()
        }
        return cls(**values)


def suite_in_words(suite: Suite) -> str:
    """A suite by its IANA names."""
    parts = [describe(TransformType.ENCR, suite.encryption, suite.key_bits)]
    for kind, number in (
        (TransformType.INTEG, suite.integrity),
        (TransformType.PRF, suite.prf),
        (TransformType.KE, suite.group),
        (TransformType.ADDKE1, suite.extra),
    ):
        if number:
            parts.append(describe(kind, number))
    if suite.esn:
        parts.append(describe(TransformType.ESN, suite.esn))
    return ", ".join(parts)


def suites(ike: Suite, esp: Suite) -> dict[str, Any]:
    """What was negotiated, as the status has it."""
    return {
        "ike_algorithms": suite_in_words(ike),
        "esp_algorithms": suite_in_words(esp),
        "ike_suite": astuple(ike),
        "esp_suite": astuple(esp),
    }
