"""What is L2TP's over IPsec in a profile: model, text form, checks, policy."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.policy import short_names
from zesty_burrow.core.policy.algorithms import BY_NAME, BY_NUMBER, TransformType, describe
from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.core.profile import Profile, ProtocolSettings, SignIn
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.records import dataclass, replace

T = TransformType
NAME = "l2tp-ipsec"
PORT, NAT_PORT = 500, 4500
SHARED_KEY, CERTIFICATE = "pre-shared-key", "certificate"
GATEWAY_PROOFS = (SHARED_KEY, CERTIFICATE)
SIGN_IN_METHODS = ("ms-chap-v2", "chap", "pap")
LIFETIMES = {"child_seconds": (60, 7 * 86400), "ike_seconds": (300, 30 * 86400), "peer_seconds": (10, 3600)}
LISTS = {"encryption": T.ENCR, "integrity": T.INTEG, "key_exchange": T.KE}
MAX_LIST = 8
Choice = tuple[int, int]
"""IANA's number (IKEv2's registry) and key bits."""
STRONG: dict[str, tuple[Choice, ...]] = {
    "encryption": ((20, 256), (12, 256), (20, 128), (12, 128)),
    "integrity": ((12, 0), (13, 0), (14, 0)),
    "key_exchange": ((20, 0), (19, 0), (16, 0), (15, 0), (14, 0)),
}
WEAK: dict[str, tuple[Choice, ...]] = {
    "encryption": ((3, 0),),
    "integrity": ((2, 0), (1, 0)),
    "key_exchange": ((5, 0), (2, 0)),
}
"""The implemented algorithms; WEAK ones are offered only with ``weak_algorithms``."""
DEFAULT: dict[str, tuple[Choice, ...]] = {
    "encryption": STRONG["encryption"],
    "integrity": ((12, 0),),
    "key_exchange": ((19, 0), (15, 0), (14, 0)),
}


@dataclass(frozen=True, slots=True)
class L2tpSettings(ProtocolSettings):
    """``encryption``, ``integrity``, ``key_exchange``: for IKE and for ESP, in order of preference; empty: defaults.

    ``weak_algorithms``: 3DES, SHA-1, MD5 and small MODP groups are offered behind the others. Combined-mode ciphers
    are for ESP alone (RFC 4106 §8).
    """

    port: int = PORT
    identity: Identity | None = None
    own_identity: Identity | None = None
    encryption: tuple[Choice, ...] = ()
    integrity: tuple[Choice, ...] = ()
    key_exchange: tuple[Choice, ...] = ()
    weak_algorithms: bool = False
    child_seconds: int = 3600
    ike_seconds: int = 28800
    peer_seconds: int = 180

    @property
    def gateway_identity(self) -> Identity | None:
        """Who the gateway must prove to be; None: its first address."""
        return self.identity

    def needs(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        """Name and password in any case; and what IPsec wants."""
        proof = CredentialsKind.CLIENT_KEY if sign_in.gateway == CERTIFICATE else CredentialsKind.PRE_SHARED_KEY
        return CredentialsKind.NAME_PASSWORD, proof

    def over(self) -> str:
        """ESP always travels in UDP here."""
        return "UDP"

    def offered(self, name: str) -> tuple[Choice, ...]:
        """A list as it is offered: the settings' own or the defaults, then weak ones where they are allowed."""
        own: tuple[Choice, ...] = getattr(self, name) or DEFAULT[name]
        weak = WEAK[name] if self.weak_algorithms and not getattr(self, name) else ()
        return tuple(dict.fromkeys((*own, *weak)))

    def written(self) -> dict[str, Any]:
        """The table; what has its default is left out, but for the port."""
        table: dict[str, Any] = {"port": self.port}
        for name, identity in (("gateway_identity", self.identity), ("own_identity", self.own_identity)):
            if identity is not None:
                table[name] = {"type": identity.type.name, "value": identity.value}
        for name, kind in LISTS.items():
            if own := getattr(self, name):
                table[name] = [describe(kind, *one) for one in own]
        for name in ("weak_algorithms", *LIFETIMES):
            if getattr(self, name) != getattr(DEFAULTS, name):
                table[name] = getattr(self, name)
        return table

    def rows(self) -> list[tuple[str, str]]:
        """Labels and values for people."""
        own = self.own_identity
        found = [("own identity", f"{own.value} ({own.type.name})" if own else ""), ("transport", self.where())]
        for name in LISTS:
            default = "" if getattr(self, name) else " (default)"
            found.append((name.replace("_", " "), f"{', '.join(self.names(name))}{default}"))
        if self.weak_algorithms:
            found.append(("weak algorithms", "offered behind the others"))
        if self.peer_seconds != DEFAULTS.peer_seconds:
            found.append(("silent gateway", f"given up after {self.peer_seconds} s"))
        return [(label, value) for label, value in found if value]

    def where(self) -> str:
        return f"UDP port {self.port}, then {NAT_PORT}"

    def names(self, name: str) -> list[str]:
        """A list's algorithms by IANA's names."""
        return [describe(LISTS[name], *one) for one in self.offered(name)]

    def check(self, name: str) -> list[Finding]:
        """That the protocol is retired, always; and weak algorithms."""
        findings = [finding("ikev1-used", name, NAME)]
        rows = [(kind, one) for label, kind in LISTS.items() for one in self.offered(label) if one in WEAK[label]]
        findings += [finding("algorithm-weak", name, f"{describe(kind, *one)} in {NAME}") for kind, one in rows]
        return findings

    def judge(self, policy: Policy, name: str) -> list[Finding]:
        """Where the settings break the policy; the word for weak algorithms stands against the RFCs' advice alone."""
        findings = []
        for label, kind in LISTS.items():
            for one in self.offered(label):
                said = opinion(policy, kind, *one)
                if not said.good and not self._may(policy, label, one):
                    words = f"{describe(kind, *one)} in {NAME}.{label}: {said.why} ({said.source})"
                    findings.append(finding("policy-algorithm", name, words))
        return findings

    def _may(self, policy: Policy, label: str, choice: Choice) -> bool:
        """Weak ones, if the profile allows them and no organisation has a policy."""
        return self.weak_algorithms and choice in WEAK[label] and policy == Policy()

    def restrict(self, policy: Policy, name: str) -> L2tpSettings:
        """With nothing in the offer that the policy forbids."""
        kept: dict[str, Any] = {}
        for label, kind in LISTS.items():
            offered = self.offered(label)
            kept[label] = tuple(
                one for one in offered if opinion(policy, kind, *one).good or self._may(policy, label, one)
            )
            if not kept[label]:
                raise ProfileInvalid(
                    f"profile {name}: the policy leaves nothing to offer in {NAME}.{label}",
                    why=f"the policy ({policy.name}) forbids each of {', '.join(self.names(label))}",
                    next_step="Change the profile with `zesty choose`, or let the policy allow what is needed.",
                    slug="policy-algorithm",
                )
        return replace(self, **kept)


DEFAULTS = L2tpSettings()


def settings_of(profile: Profile) -> L2tpSettings:
    """A profile's settings, which are L2TP's."""
    return profile.settings if isinstance(profile.settings, L2tpSettings) else DEFAULTS


def read_choice(label: str, text: str, *, weak: bool) -> Choice:
    """An algorithm from its IANA name or a short form of it. Raises ``ValueError`` if it cannot be used here."""
    kind = LISTS[label]
    known = STRONG[label] + WEAK[label]
    choice = _find(kind, text)
    if choice is None or choice not in known:
        near = short_names.nearest(kind, text)
        meant = f"is {near} meant? " if choice is None and near else ""
        usable = ", ".join(describe(kind, *one) for one in STRONG[label])
        raise ValueError(f"{text!r:.80} is no algorithm that {NAME} has here; {meant}usable ones are {usable}")
    if choice in WEAK[label] and not weak:
        raise ValueError(f"{describe(kind, *choice)} is weak: it needs weak_algorithms = true as well")
    return choice


def _find(kind: TransformType, text: str) -> Choice | None:
    words = text.strip()
    entry = BY_NAME.get((kind, words.casefold()))
    if entry is not None and not entry.bits:
        return entry.number, 0
    name, _, tail = words.rpartition(" ")
    entry = BY_NAME.get((kind, name.casefold()))
    if entry is not None and tail.isdigit() and int(tail) in entry.bits:
        return entry.number, int(tail)
    named = short_names.find(kind, words)
    return (named[0].number, named[1]) if named else None


def is_weak(kind: int, number: int) -> bool:
    """Whether an algorithm is one of the weak ones here."""
    label = next((one for one, own in LISTS.items() if own == kind), "")
    return bool(label) and any(number == one for one, _ in WEAK[label]) and (kind, number) in BY_NUMBER


def read_settings(table: Table) -> L2tpSettings:
    """The protocol's table of a profile; ``ProfileInvalid`` names the key that is wrong."""
    weak = table.take("weak_algorithms", bool, False)
    lists = {
        label: tuple(dict.fromkeys(table.items(label, lambda text, label=label: read_choice(label, text, weak=weak))))  # type: ignore[misc]
        for label in LISTS
    }
    for label, row in lists.items():
        if len(row) > MAX_LIST:
            raise table.invalid(label, f"up to {MAX_LIST} algorithms")
    if lists["encryption"] and all(number == 20 for number, _ in lists["encryption"]):
        raise table.invalid("encryption", "combined-mode ciphers are for ESP alone (RFC 4106 §8): IKEv1 needs another")
    lifetimes = {name: table.number(name, getattr(DEFAULTS, name), *bounds) for name, bounds in LIFETIMES.items()}
    return L2tpSettings(
        port=table.number("port", PORT, 1, 65535),
        identity=table.identity("gateway_identity"),
        own_identity=table.identity("own_identity"),
        weak_algorithms=weak,
        encryption=lists["encryption"],
        integrity=lists["integrity"],
        key_exchange=lists["key_exchange"],
        child_seconds=lifetimes["child_seconds"],
        ike_seconds=lifetimes["ike_seconds"],
        peer_seconds=lifetimes["peer_seconds"],
    )
