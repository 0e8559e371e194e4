"""What is PPTP's own in a profile."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile, ProtocolSettings, SignIn
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.pptp.control import PORT
from zesty_burrow.records import dataclass

NAME = "pptp"
GATEWAY_PROOFS = ("password",)
"""All that a gateway shows is that it knows the password too (RFC 2759 §5)."""
SIGN_IN_METHODS = ("ms-chap-v2",)


@dataclass(frozen=True, slots=True)
class PptpSettings(ProtocolSettings):
    """Nothing: its port, its cipher and its sign-in are what they are."""

    def needs(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        return (CredentialsKind.NAME_PASSWORD,)

    def over(self) -> str:
        """Its packets are no datagrams of UDP."""
        return "GRE"

    def written(self) -> dict[str, Any]:
        return {}

    def rows(self) -> list[tuple[str, str]]:
        """Labels and values for people."""
        return [("transport", f"TCP port {PORT}, and GRE"), ("encryption", "MPPE with RC4, 128 bits; no integrity")]

    def check(self, name: str) -> list[Finding]:
        """What it does not protect, always."""
        return [finding("pptp-unprotected", name, NAME)]

    def judge(self, policy: Policy, name: str) -> list[Finding]:
        """It has nothing that any policy allows."""
        return [finding("policy-algorithm", name, f"RC4 in {NAME}: broken, and without integrity (RFC 7465, RFC 3079)")]

    def restrict(self, policy: Policy, name: str) -> PptpSettings:
        """An organisation's policy forbids it. Without a policy the user decides (--unprotected)."""
        if policy != Policy():
            raise ProfileInvalid(
                f"the policy ({policy.name}) does not allow profile {name}",
                why="it goes over PPTP, whose RC4 no policy allows",
                slug="policy-algorithm",
            )
        return self


DEFAULTS = PptpSettings()


def settings_of(profile: Profile) -> PptpSettings:
    """A profile's settings, which are PPTP's."""
    return profile.settings if isinstance(profile.settings, PptpSettings) else DEFAULTS


def read_settings(table: Table) -> PptpSettings:
    """The protocol's table of a profile; ``ProfileInvalid`` names the key that is wrong."""
    # Whose gateway it is cannot be proven: an identity that another protocol has is passed over.
    table.identity("gateway_identity")
    return PptpSettings()
