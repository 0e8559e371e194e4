"""What is IKEv2's own in a profile: model, text form, checks, policy."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from typing import Any

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.policy import short_names
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, BY_NAME, BY_NUMBER, TransformType, describe
from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.core.profile import Profile, ProtocolSettings, SignIn
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.records import dataclass, replace

T = TransformType
NAME = "ikev2"
UDP_TRANSPORT = "udp"
TCP_TRANSPORT = "tcp"
ANY_TRANSPORT = "any"
TRANSPORTS = (UDP_TRANSPORT, TCP_TRANSPORT, ANY_TRANSPORT)
PORTS = {UDP_TRANSPORT: 500, TCP_TRANSPORT: 4500, ANY_TRANSPORT: 500}
"""The default port of the first message (RFC 7296 §2, RFC 9329 §2)."""
GATEWAY_PROOFS = ("certificate", "pre-shared-key", "raw-public-key", "eap")
ANY_PEER_SECONDS = 15
NAT_PORT = 4500
"""Of IKE and ESP behind address translation (RFC 3947 §4, RFC 3948 §2.1)."""
SIGN_IN_METHODS = (
    "eap-mschapv2",
    "eap-tls",
    "certificate",
    "certificate+eap-mschapv2",
    "pre-shared-key",
    "raw-public-key",
)
ADDITIONAL_KEY = ("none", "optional", "required")
LIFETIMES = {
    "child_seconds": (60, 7 * 86400),
    "child_octets": (1 << 20, 1 << 60),
    "ike_seconds": (300, 30 * 86400),
    "peer_seconds": (10, 3600),
}
"""What can be said of how long keys are used, and of how long a silent gateway is waited for, with bounds."""
MAX_PROPOSALS = 16
_NEEDED = {
    "eap-mschapv2": (CredentialsKind.NAME_PASSWORD,),
    "eap-tls": (CredentialsKind.CLIENT_KEY,),
    "certificate": (CredentialsKind.CLIENT_KEY,),
    "certificate+eap-mschapv2": (CredentialsKind.CLIENT_KEY, CredentialsKind.NAME_PASSWORD),
    "pre-shared-key": (CredentialsKind.PRE_SHARED_KEY,),
    "raw-public-key": (CredentialsKind.RAW_KEY,),
}
PROPOSAL_KEYS = {
    "encryption": T.ENCR,
    "integrity": T.INTEG,
    "prf": T.PRF,
    "key_exchange": T.KE,
    "additional_key_exchange": T.ADDKE1,
    "sequence_numbers": T.ESN,
}


@dataclass(frozen=True, slots=True)
class AlgorithmChoice:
    """An algorithm by its IANA number, with its key length in bits where it has several."""

    type: TransformType
    number: int
    key_bits: int = 0

    def __str__(self) -> str:
        return describe(self.type, self.number, self.key_bits)

    @property
    def usable(self) -> bool:
        """Whether this program implements it."""
        return BY_NUMBER[self.type, self.number].usable

    @property
    def weak(self) -> bool:
        """Whether the RFCs advise against it."""
        return BY_NUMBER[self.type, self.number].weak

    @classmethod
    def read(cls, kind: TransformType, text: str) -> AlgorithmChoice:
        """From its IANA name and key length, or a short form of them. Raises ``ValueError`` if unknown."""
        name, _, tail = text.strip().rpartition(" ")
        entry = BY_NAME.get((kind, text.strip().casefold()))
        if entry is not None and not entry.bits:
            return cls(kind, entry.number)
        if entry is not None:
            raise ValueError(f"{text!r} needs a key length in bits: {', '.join(map(str, entry.bits))}")
        if named := short_names.find(kind, text):
            return cls(kind, named[0].number, named[1])
        entry = BY_NAME.get((kind, name.casefold()))
        if entry is not None and tail.isdigit():
            raise ValueError(f"{entry.name} has no key length of {tail[:20]} bits")
        near = short_names.nearest(kind, text)
        known = ", ".join(row.name for row in BY_NUMBER.values() if row.type is kind and row.usable)
        meant = f"is {near} meant? " if near else ""
        raise ValueError(f"{text!r:.80} is not an IANA name that is known here; {meant}usable ones are {known}")


@dataclass(frozen=True, slots=True)
class ProposalChoice:
    """One proposal of a profile: lists of algorithms in order of preference."""

    encryption: tuple[AlgorithmChoice, ...]
    integrity: tuple[AlgorithmChoice, ...] = ()
    prf: tuple[AlgorithmChoice, ...] = ()
    key_exchange: tuple[AlgorithmChoice, ...] = ()
    additional_key_exchange: tuple[AlgorithmChoice, ...] = ()
    sequence_numbers: tuple[AlgorithmChoice, ...] = ()

    def __str__(self) -> str:
        return "; ".join(", ".join(map(str, row)) for row in self.lists() if row)

    def all(self) -> tuple[AlgorithmChoice, ...]:
        """Every algorithm in it."""
        return tuple(entry for entries in self.lists() for entry in entries)

    def lists(self) -> tuple[tuple[AlgorithmChoice, ...], ...]:
        """Its lists, one a kind."""
        ike_alone = self.prf, self.key_exchange, self.additional_key_exchange
        return self.encryption, self.integrity, *ike_alone, self.sequence_numbers

    def offer(self, *, for_ike: bool) -> Offer | None:
        """What is really offered: the algorithms that are implemented; None where too few are left."""
        encryption = tuple((cipher.number, cipher.key_bits) for cipher in self.encryption if cipher.usable)
        integrity, prf, groups = _usable(self.integrity), _usable(self.prf), _usable(self.key_exchange)
        combined = all(number in AEAD_NUMBERS for number, _ in encryption)
        if not encryption or (not combined and not integrity) or (for_ike and not (prf and groups)):
            return None
        if for_ike:
            return Offer(encryption, integrity, prf, groups, extra=_usable(self.additional_key_exchange))
        return Offer(
            encryption,
            integrity,
            esn=tuple(sequence_number.number for sequence_number in self.sequence_numbers) or (0,),
        )


@dataclass(frozen=True, slots=True)
class IkeSettings(ProtocolSettings):
    """``port``: where IKE_SA_INIT goes. ``identity``: the gateway's; ``own_identity``: this side's, where the method
    needs one; ``outer_identity``: what goes out before the gateway's proof. ``additional_key``: RFC 8784.

    After ``child_seconds``, ``child_octets`` and ``ike_seconds`` keys are renewed; after ``peer_seconds`` without an
    answer an established tunnel is given up. ``ike`` and ``esp``: proposals in
    order of preference; empty means the defaults.
    """

    transport: str = "udp"
    port: int = 500
    identity: Identity | None = None
    own_identity: Identity | None = None
    outer_identity: str = ""
    additional_key: str = "none"
    child_seconds: int = 3600
    child_octets: int = 1 << 36
    ike_seconds: int = 14400
    peer_seconds: int = 180
    ike: tuple[ProposalChoice, ...] = ()
    esp: tuple[ProposalChoice, ...] = ()

    @property
    def gateway_identity(self) -> Identity | None:
        """Who the gateway must prove to be; None: its first address."""
        return self.identity

    def needs(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        """The kinds of credentials without which nobody can sign in."""
        kinds = _NEEDED[sign_in.method] + (
            (CredentialsKind.PRE_SHARED_KEY,) if sign_in.gateway == "pre-shared-key" else ()
        )
        extra = (CredentialsKind.ADDITIONAL_KEY,) if self.additional_key == "required" else ()
        return tuple(dict.fromkeys(kinds + extra))

    def useful(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        """Kinds that are used where they are kept, and not missed where they are not."""
        return (CredentialsKind.ADDITIONAL_KEY,) if self.additional_key == "optional" else ()

    def typed(self, gateway: str) -> tuple[tuple[str, str], ...]:
        """Both identities (RFC 7296 §3.5)."""
        own = (("local-identifier", self.own_identity.value),) if self.own_identity is not None else ()
        return (("remote-identifier", gateway), *own)

    def proposals(self, label: str) -> tuple[ProposalChoice, ...]:
        """Those for ``ike`` or ``esp``: the settings' own, else the defaults."""
        own: tuple[ProposalChoice, ...] = getattr(self, label)
        return own or getattr(DEFAULTS, label)

    def over(self) -> str:
        return "UDP or TCP" if self.transport == ANY_TRANSPORT else self.transport.upper()

    def where(self) -> str:
        """Transports and ports, in words."""
        ways = [variant for variant in self.variants() if isinstance(variant, IkeSettings)]
        return " or ".join(f"{way.transport.upper()} port {way.port}" for way in ways)

    def variants(self) -> tuple[ProtocolSettings, ...]:
        """UDP, then TCP; a port of its own holds for both. One that falls silent is given up soon for the other."""
        if self.transport != ANY_TRANSPORT:
            return (self,)
        soon = min(self.peer_seconds, ANY_PEER_SECONDS)
        ports = {
            one: PORTS[one] if self.port == PORTS[ANY_TRANSPORT] else self.port
            for one in (UDP_TRANSPORT, TCP_TRANSPORT)
        }
        return tuple(replace(self, transport=one, port=port, peer_seconds=soon) for one, port in ports.items())

    def every_transport(self) -> tuple[ProtocolSettings, ...]:
        port = PORTS[ANY_TRANSPORT] if self.port == PORTS[self.transport] else self.port
        return replace(self, transport=ANY_TRANSPORT, port=port).variants()

    def written(self) -> dict[str, Any]:
        """The table; what has its default is left out, but for transport and port."""
        table: dict[str, Any] = {"transport": self.transport, "port": self.port}
        for key, identity in (("gateway_identity", self.identity), ("own_identity", self.own_identity)):
            if identity is not None:
                table[key] = {"type": identity.type.name, "value": identity.value}
        for name in ("outer_identity", "additional_key", *LIFETIMES):
            if getattr(self, name) != getattr(DEFAULTS, name):
                table[name] = getattr(self, name)
        for label in ("ike", "esp"):
            if rows := getattr(self, label):
                table[label] = [_proposal_written(row) for row in rows]
        return table

    def rows(self) -> list[tuple[str, str]]:
        """Labels and values for people."""
        own = self.own_identity
        found = [
            ("own identity", f"{own.value} ({own.type.name})" if own else ""),
            ("outer identity", self.outer_identity),
            ("additional key", self.additional_key if self.additional_key != "none" else ""),
            ("transport", self.where()),
        ]
        for label in ("ike", "esp"):
            default = "" if getattr(self, label) else " (default)"
            found += [(f"{label.upper()} offer", f"{proposal}{default}") for proposal in self.proposals(label)]
        for name, what in (("child_seconds", "s"), ("child_octets", "octets"), ("ike_seconds", "s for the IKE SA")):
            value = getattr(self, name)
            if value != getattr(DEFAULTS, name):
                found.append(("rekeyed after", f"{value} {what}"))
        if self.peer_seconds != DEFAULTS.peer_seconds:
            found.append(("silent gateway", f"given up after {self.peer_seconds} s"))
        return [(label, value) for label, value in found if value]

    def check(self, name: str) -> list[Finding]:
        """Algorithms that are weak, or that this program does not implement."""
        findings = []
        for label in ("ike", "esp"):
            for choice in _algorithms(getattr(self, label)):
                if choice.weak:
                    findings.append(finding("algorithm-weak", name, f"{choice} in ikev2.{label}"))
                elif not choice.usable and choice.number:
                    findings.append(finding("algorithm-unavailable", name, f"{choice} in ikev2.{label}"))
        return findings

    def judge(self, policy: Policy, name: str) -> list[Finding]:
        """Where the settings break the policy. What they leave to the defaults is the program's to get right."""
        findings = []
        for label in ("ike", "esp"):
            for choice in _algorithms(getattr(self, label)):
                said = opinion(policy, choice.type, choice.number, choice.key_bits)
                if not said.good and not choice.weak and choice.number:
                    words = f"{choice} in ikev2.{label}: {said.why} ({said.source})"
                    findings.append(finding("policy-algorithm", name, words))
        if policy.additional_key and self.additional_key != "required":
            findings.append(finding("policy-sign-in", name, "ikev2.additional_key is not required"))
        return findings

    def restrict(self, policy: Policy, name: str) -> IkeSettings:
        """With nothing in the proposals that the policy forbids: a gateway can choose only from what is offered."""
        kept = {}
        for label in ("ike", "esp"):
            rows = [one for row in self.proposals(label) if (one := _restricted(policy, row, label == "ike"))]
            if not rows:
                raise ProfileInvalid(
                    f"profile {name}: the policy leaves nothing to offer in ikev2.{label}",
                    why=f"the policy ({policy.name}) forbids some part of each of its proposals",
                    next_step="Change the profile with `zesty choose`, or let the policy allow what is needed.",
                    slug="policy-algorithm",
                )
            kept[label] = tuple(rows)
        return replace(self, ike=kept["ike"], esp=kept["esp"])


def settings_of(profile: Profile) -> IkeSettings:
    """A profile's settings, which are IKEv2's."""
    return profile.settings if isinstance(profile.settings, IkeSettings) else IkeSettings()


def offers_of(profile: Profile) -> tuple[tuple[Offer, ...], tuple[Offer, ...]]:
    """What is offered for the IKE SA and for the child SA; :class:`ProfileInvalid` where nothing is left."""
    settings, result = settings_of(profile), []
    for label in ("ike", "esp"):
        rows = settings.proposals(label)
        offers = tuple(offer for row in rows if (offer := row.offer(for_ike=label == "ike")) is not None)
        if not offers:
            raise ProfileInvalid(
                f"profile {profile.name}: ikev2.{label} leaves nothing to offer",
                why="none of its proposals is made up of algorithms that this program implements",
            )
        result.append(offers)
    return result[0], result[1]


def _algorithms(proposals: Iterable[ProposalChoice]) -> Iterable[AlgorithmChoice]:
    return dict.fromkeys(one for proposal in proposals for one in proposal.all())


@functools.lru_cache(maxsize=256)
def _restricted(policy: Policy, proposal: ProposalChoice, for_ike: bool) -> ProposalChoice | None:
    lists = {
        key: tuple(one for one in getattr(proposal, key) if opinion(policy, one.type, one.number, one.key_bits).good)
        for key in PROPOSAL_KEYS
    }
    made = ProposalChoice(**lists)
    return made if made.offer(for_ike=for_ike) is not None else None


# The text form.


def read_settings(table: Table) -> IkeSettings:
    """The protocol's table of a profile; ``ProfileInvalid`` names the key that is wrong."""
    transport = table.text("transport", UDP_TRANSPORT, TRANSPORTS)
    return IkeSettings(
        transport=transport,
        port=table.number("port", PORTS[transport], 1, 65535),
        identity=table.identity("gateway_identity"),
        own_identity=table.identity("own_identity"),
        outer_identity=table.text("outer_identity"),
        additional_key=table.text("additional_key", "none", ADDITIONAL_KEY),
        child_seconds=_lifetime(table, "child_seconds"),
        child_octets=_lifetime(table, "child_octets"),
        ike_seconds=_lifetime(table, "ike_seconds"),
        peer_seconds=_lifetime(table, "peer_seconds"),
        ike=_proposals(table, "ike"),
        esp=_proposals(table, "esp"),
    )


def _lifetime(table: Table, name: str) -> int:
    return table.number(name, getattr(DEFAULTS, name), *LIFETIMES[name])


def _proposals(table: Table, label: str) -> tuple[ProposalChoice, ...]:
    entries = table.take(label, list, [])
    if len(entries) > MAX_PROPOSALS or not all(isinstance(entry, dict) for entry in entries):
        raise table.invalid(label, f"a list of up to {MAX_PROPOSALS} tables is needed")
    rows = (Table(f"{table.label}.{label}[{index}]", entry, table.origin) for index, entry in enumerate(entries))
    return tuple(_proposal(row, label == "ike") for row in rows)


def _usable(choices: Sequence[AlgorithmChoice]) -> tuple[int, ...]:
    return tuple(choice.number for choice in choices if choice.usable)


def _proposal(table: Table, for_ike: bool) -> ProposalChoice:
    lists = {
        key: table.items(key, lambda text, kind=kind: AlgorithmChoice.read(kind, text))  # type: ignore[misc]
        for key, kind in PROPOSAL_KEYS.items()
    }
    if table.values:
        raise table.invalid(next(iter(table.values)), "a proposal has only " + ", ".join(PROPOSAL_KEYS))
    choice = ProposalChoice(**lists)
    _check_ciphers(table, choice)
    if for_ike:
        if not (choice.prf and choice.key_exchange):
            raise table.invalid("prf" if not choice.prf else "key_exchange", "the IKE SA needs one (RFC 7296 §3.3.3)")
        if choice.sequence_numbers:
            raise table.invalid("sequence_numbers", "only ESP has them (RFC 7296 §3.3.3)")
    elif choice.additional_key_exchange:
        raise table.invalid("additional_key_exchange", "the first child SA has none (RFC 9370 §2.2.4)")
    elif choice.prf or choice.key_exchange:
        raise table.invalid("prf" if choice.prf else "key_exchange", "the first child SA has none (RFC 7296 §1.2)")
    return choice


def _check_ciphers(table: Table, choice: ProposalChoice) -> None:
    """Ciphers and integrity algorithms that go together."""
    if not choice.encryption:
        raise table.invalid("encryption", "at least one encryption algorithm is needed")
    combined = {one.number in AEAD_NUMBERS for one in choice.encryption}
    if len(combined) > 1:
        raise table.invalid(
            "encryption", "combined-mode ciphers and others cannot share a proposal (RFC 7296 §3.3): make two"
        )
    if combined == {True} and any(one.number for one in choice.integrity):
        raise table.invalid("integrity", "a combined-mode cipher takes no integrity algorithm (RFC 5282 §8)")
    if combined == {False} and not any(one.number for one in choice.integrity):
        raise table.invalid("integrity", "this cipher needs an integrity algorithm (RFC 8221 §4)")


def _proposal_written(choice: ProposalChoice) -> dict[str, list[str]]:
    rows = {key: [str(one) for one in getattr(choice, key)] for key in PROPOSAL_KEYS}
    return {key: names for key, names in rows.items() if names}


def _choices(kind: TransformType, *names: str) -> tuple[AlgorithmChoice, ...]:
    return tuple(AlgorithmChoice.read(kind, name) for name in names)


_GROUPS = _choices(T.KE, "curve25519", "256-bit random ECP group", "2048-bit MODP Group")
_PRFS = _choices(T.PRF, "PRF_HMAC_SHA2_256", "PRF_HMAC_SHA2_384", "PRF_HMAC_SHA2_512")
_GCM = _choices(T.ENCR, "ENCR_AES_GCM_16 256", "ENCR_AES_GCM_16 128")
_CBC = _choices(T.ENCR, "ENCR_AES_CBC 256", "ENCR_AES_CBC 128")
_SHA2 = _choices(T.INTEG, "AUTH_HMAC_SHA2_256_128")

DEFAULTS = IkeSettings(
    ike=(ProposalChoice(_GCM, (), _PRFS, _GROUPS), ProposalChoice(_CBC, _SHA2, _PRFS, _GROUPS)),
    esp=(ProposalChoice(_GCM), ProposalChoice(_CBC, _SHA2)),
)
"""What is offered where a profile says nothing: combined-mode ciphers first (RFC 8247 §2.1, RFC 8221 §5)."""
