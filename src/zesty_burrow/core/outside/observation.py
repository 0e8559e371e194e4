"""What one look from the outside saw, and what a profile promises."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from zesty_burrow.records import asdict, dataclass, field, fields, replace


@dataclass(frozen=True, slots=True)
class Sighting:
    """An address as the outside saw it, with its operator and place; ``address`` is empty where there was none."""

    address: str = ""
    operator: str = ""
    country: str = ""
    city: str = ""

    @property
    def place(self) -> str:
        """City and country for people."""
        return ", ".join(part for part in (self.city, self.country) if part)

    @property
    def words(self) -> str:
        """The address, with its operator and place as far as they are known."""
        known = ", ".join(part for part in (self.operator, self.place) if part)
        return f"{self.address} ({known})" if known else self.address


@dataclass(frozen=True, slots=True)
class Observation:
    """What one run saw. ``real_time`` holds what STUN told, ``resolvers`` who asked for the one-time names.

    ``more``: what further checks saw, as JSON values by the keys that they choose.
    """

    taken_at: str
    ipv4: Sighting = Sighting()
    ipv6: Sighting = Sighting()
    real_time: tuple[Sighting, ...] = ()
    resolvers: tuple[Sighting, ...] = ()
    names_asked: int = 0
    names_answered: int = 0
    reached: bool = True
    more: Mapping[str, Any] = field(default_factory=dict)

    def document(self) -> dict[str, Any]:
        """As plain values; :func:`read_observation` reads them."""
        values = asdict(self)
        return {**values.pop("more"), **values}

    def with_evidence(self, evidence: Mapping[str, Any]) -> Observation:
        """With what a check saw: values of these fields, and others, which go to ``more``."""
        own = {key: value for key, value in evidence.items() if key in EVIDENCE}
        more = {key: value for key, value in evidence.items() if key not in EVIDENCE}
        return replace(self, **own, more={**self.more, **more})


def read_observation(document: Mapping[str, Any]) -> Observation:
    """An observation from its plain values, as the store has them."""
    values = {key: value for key, value in document.items() if key not in ("ipv4", "ipv6", "real_time", "resolvers")}
    more = {key: values.pop(key) for key in list(values) if key not in {entry.name for entry in fields(Observation)}}
    real_time, resolvers = (tuple(Sighting(**entry) for entry in document[key]) for key in ("real_time", "resolvers"))
    families = Sighting(**document["ipv4"]), Sighting(**document["ipv6"])
    return Observation(values.pop("taken_at"), *families, real_time, resolvers, **values, more=more)


EVIDENCE = frozenset(entry.name for entry in fields(Observation)) - {"taken_at", "reached", "more"}


@dataclass(frozen=True, slots=True)
class ExpectedExit:
    """What the profile promises; ``tunnel_up`` whether a tunnel is up; ``everything``: all traffic belongs in it."""

    country: str = ""
    city: str = ""
    provider: str = ""
    tunnel_up: bool = True
    everything: bool = True


@dataclass(frozen=True, slots=True)
class RouteSeen:
    """``device``: by which a packet to ``address`` leaves, empty: it is rejected; ``tunnel``: by which it should."""

    target: str
    address: str
    device: str
    tunnel: str
