"""What a tunnel is meant to carry, in words for people: values only."""

from __future__ import annotations

from zesty_burrow.records import dataclass

EVERYTHING = {4: "0.0.0.0/0", 6: "::/0"}


@dataclass(frozen=True, slots=True)
class Intent:
    """``networks``: what belongs in it; ``left_out``: what of it does not; ``ipv6``: "tunnel", "blocked", "outside" or
    "untouched"; ``local``: local networks that are reached beside it; ``guarded``: the guard is to hold it.
    """

    name: str
    networks: tuple[str, ...]
    left_out: tuple[str, ...] = ()
    ipv6: str = "tunnel"
    local: tuple[str, ...] = ()
    guarded: bool = False

    @property
    def everything(self) -> bool:
        """Whether all traffic of a version of IP belongs in it."""
        return any(network in EVERYTHING.values() for network in self.networks)

    def of_version(self, version: int) -> tuple[str, ...]:
        """What belongs in it of one version of IP."""
        if version == 6 and self.ipv6 == "outside":
            return ()
        return tuple(network for network in self.networks if (":" in network) == (version == 6))

    def belongs(self, version: int) -> str:
        """What is expected of one version of IP, as a sentence; empty where nothing is."""
        own = self.of_version(version)
        if version == 6 and self.ipv6 == "blocked":
            return "no IPv6 packet leaves at all" if self.everything else "no IPv6 packet leaves beside it"
        if not own:
            return ""
        if EVERYTHING[version] in own:
            return f"all IPv{version} packets leave by it, or not at all"
        return f"packets to {', '.join(own)} leave by it, or not at all"
