"""The tunnel profile as values: one way to reach one gateway."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from zesty_burrow.core.credentials import Kind
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.net import Address, Network
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, BY_NAME, BY_NUMBER, TransformType, describe
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.ikev2.wire.proposals import Offer

FORMAT = 1
PEM_MARK = "-----BEGIN CERTIFICATE-----"
KEY_MARK = "-----BEGIN PUBLIC KEY-----"
LIST_MARK = "-----BEGIN X509 CRL-----"
NAME = re.compile(r"[a-z0-9](?:[a-z0-9.-]{0,62}[a-z0-9])?")
TAG = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,30}[a-z0-9])?")
PROTOCOLS = ("ikev2",)
TRANSPORTS = ("udp",)
ORDERS = ("listed", "random")
GATEWAY_PROOFS = ("certificate", "pre-shared-key", "raw-public-key", "eap")
SIGN_IN_METHODS = (
    "eap-mschapv2",
    "eap-tls",
    "certificate",
    "certificate+eap-mschapv2",
    "pre-shared-key",
    "raw-public-key",
)
ADDITIONAL_KEY = ("none", "optional", "required")
IPV6_HANDLING = ("tunnel", "block", "outside")
LOCAL_NETWORK = ("outside", "inside")
EVERYTHING: tuple[Network, ...] = (ipaddress.IPv4Network("0.0.0.0/0"), ipaddress.IPv6Network("::/0"))
MIN_MTU, MAX_MTU, DEFAULT_MTU = 1280, 9000, 1400
FROM_ROUTE, AS_INNER = "route", "inner"
"""Words in place of a number: for the MTU, and for the DSCP."""
MOST_DSCP = 63
LIFETIMES = {
    "child_seconds": (60, 7 * 86400),
    "child_octets": (1 << 20, 1 << 60),
    "ike_seconds": (300, 30 * 86400),
}
"""What can be said of how long keys are used, with bounds."""

T = TransformType


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
        """From its IANA name, with the key length behind a space; ``ValueError`` where there is none such."""
        name, _, tail = text.strip().rpartition(" ")
        entry = BY_NAME.get((kind, text.strip().casefold()))
        if entry is not None:
            if entry.bits:
                raise ValueError(f"{text!r} needs a key length in bits: {', '.join(map(str, entry.bits))}")
            return cls(kind, entry.number)
        entry = BY_NAME.get((kind, name.casefold()))
        if entry is None or not tail.isdigit():
            known = ", ".join(row.name for row in BY_NUMBER.values() if row.type is kind and row.usable)
            raise ValueError(f"{text!r} is not an IANA name that is known here; usable ones are {known}")
        if int(tail) not in entry.bits:
            raise ValueError(f"{entry.name} has no key length of {tail} bits")
        return cls(kind, entry.number, int(tail))


@dataclass(frozen=True, slots=True)
class ProposalChoice:
    """One proposal of a profile: lists of algorithms in order of preference."""

    encryption: tuple[AlgorithmChoice, ...]
    integrity: tuple[AlgorithmChoice, ...] = ()
    prf: tuple[AlgorithmChoice, ...] = ()
    key_exchange: tuple[AlgorithmChoice, ...] = ()
    additional_key_exchange: tuple[AlgorithmChoice, ...] = ()
    sequence_numbers: tuple[AlgorithmChoice, ...] = ()

    def all(self) -> tuple[AlgorithmChoice, ...]:
        """Every algorithm in it."""
        return tuple(one for entries in self.lists() for one in entries)

    def lists(self) -> tuple[tuple[AlgorithmChoice, ...], ...]:
        """Its lists, one a kind."""
        ike_alone = self.prf, self.key_exchange, self.additional_key_exchange
        return self.encryption, self.integrity, *ike_alone, self.sequence_numbers

    def offer(self, *, for_ike: bool) -> Offer | None:
        """What is really offered: the algorithms that are implemented; None where too few are left."""
        encryption = tuple((one.number, one.key_bits) for one in self.encryption if one.usable)
        integrity = tuple(one.number for one in self.integrity if one.usable)
        prf = tuple(one.number for one in self.prf if one.usable)
        groups = tuple(one.number for one in self.key_exchange if one.usable)
        combined = all(number in AEAD_NUMBERS for number, _ in encryption)
        if not encryption or (not combined and not integrity) or (for_ike and not (prf and groups)):
            return None
        if for_ike:
            extra = tuple(one.number for one in self.additional_key_exchange if one.usable)
            return Offer(encryption, integrity, prf, groups, extra=extra)
        return Offer(encryption, integrity, esn=tuple(one.number for one in self.sequence_numbers) or (0,))


@dataclass(frozen=True, slots=True)
class Gateway:
    """Where the gateway is and who it is."""

    addresses: tuple[str, ...]
    order: str = "listed"
    port: int = 500
    identity: Identity | None = None


@dataclass(frozen=True, slots=True)
class Tunnel:
    """The protocol and how it travels.

    ``mtu``: of the tunnel device, 0: what the way to the gateway takes. ``dscp``: of the outer header (RFC 2474), None:
    as the inner one has it. ``clamp_segment_size``: TCP is told what fits. After ``child_seconds``, ``child_octets``
    and ``ike_seconds`` keys are renewed.
    """

    protocol: str = "ikev2"
    transport: str = "udp"
    mtu: int = DEFAULT_MTU
    dscp: int | None = 0
    clamp_segment_size: bool = False
    child_seconds: int = 3600
    child_octets: int = 1 << 36
    ike_seconds: int = 14400

    @property
    def particulars(self) -> tuple[str, ...]:
        """What is not as usual, in words; the MTU always."""
        usual = Tunnel()
        found = [f"MTU {self.mtu or 'from the route'}"]
        if self.dscp != usual.dscp:
            found.append("DSCP as inside" if self.dscp is None else f"DSCP {self.dscp}")
        if self.clamp_segment_size:
            found.append("TCP segment size lowered to fit")
        for name, what in (("child_seconds", "s"), ("child_octets", "octets"), ("ike_seconds", "s for the IKE SA")):
            value = getattr(self, name)
            if value != getattr(usual, name):
                found.append(f"keys renewed after {value} {what}")
        return tuple(found)


@dataclass(frozen=True, slots=True)
class SignIn:
    """How both sides prove themselves; ``gateway`` "eap" is RFC 5998, two methods with a plus RFC 4739.

    ``credentials`` is the label under which the secrets are kept.

    ``identity``: who this side calls itself where the method needs it; ``additional_key``: RFC 8784.
    """

    gateway: str = "certificate"
    method: str = "eap-mschapv2"
    credentials: str = ""
    outer_identity: str = ""
    identity: Identity | None = None
    additional_key: str = "none"

    @property
    def needs(self) -> tuple[Kind, ...]:
        """The kinds of credentials without which nobody can sign in."""
        kinds = _NEEDED[self.method] + ((Kind.PRE_SHARED_KEY,) if self.gateway == "pre-shared-key" else ())
        extra = (Kind.ADDITIONAL_KEY,) if self.additional_key == "required" else ()
        return tuple(dict.fromkeys(kinds + extra))

    @property
    def useful(self) -> tuple[Kind, ...]:
        """Kinds that are used where they are kept, and not missed where they are not."""
        return (Kind.ADDITIONAL_KEY,) if self.additional_key == "optional" else ()


_NEEDED = {
    "eap-mschapv2": (Kind.NAME_PASSWORD,),
    "eap-tls": (Kind.CLIENT_KEY,),
    "certificate": (Kind.CLIENT_KEY,),
    "certificate+eap-mschapv2": (Kind.CLIENT_KEY, Kind.NAME_PASSWORD),
    "pre-shared-key": (Kind.PRE_SHARED_KEY,),
    "raw-public-key": (Kind.RAW_KEY,),
}


@dataclass(frozen=True, slots=True)
class Algorithms:
    """Proposals in order of preference; empty means the default policy's."""

    ike: tuple[ProposalChoice, ...] = ()
    esp: tuple[ProposalChoice, ...] = ()


@dataclass(frozen=True, slots=True)
class Traffic:
    """What goes through the tunnel, what of it is ``left_out``, and how names are resolved."""

    networks: tuple[Network, ...] = EVERYTHING
    ipv6: str = "tunnel"
    local_network: str = "outside"
    name_servers: tuple[Address, ...] = ()
    suffixes: tuple[str, ...] = ()
    netbios_name_servers: tuple[Address, ...] = ()
    left_out: tuple[Network, ...] = ()


@dataclass(frozen=True, slots=True)
class Profile:
    """A tunnel profile. ``unknown`` holds keys that are not ours, by section; they survive reading and writing.

    ``edition``: the provider's number or date of these settings; ``tags``: the administrator's own words;
    ``gateway_keys`` and ``revocation_lists``: PEM.
    """

    name: str
    gateway: Gateway
    provider: str = ""
    country: str = ""
    city: str = ""
    edition: str = ""
    tags: tuple[str, ...] = ()
    tunnel: Tunnel = Tunnel()
    sign_in: SignIn = SignIn()
    algorithms: Algorithms = Algorithms()
    authorities: tuple[str, ...] = ()
    gateway_keys: tuple[str, ...] = ()
    revocation_lists: tuple[str, ...] = ()
    traffic: Traffic = Traffic()
    unknown: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    @property
    def place(self) -> str:
        """City and country for people."""
        return ", ".join(part for part in (self.city, self.country) if part) or self.name

    @property
    def gateway_identity(self) -> Identity:
        """Who the gateway must prove to be: as the profile says, else its first address."""
        return self.gateway.identity or Identity.of(self.gateway.addresses[0])

    @property
    def credentials_label(self) -> str:
        """Under which label the secrets are kept: the profile's own, else its provider's, else its name."""
        return self.sign_in.credentials or self.provider or self.name


def _choices(kind: TransformType, *names: str) -> tuple[AlgorithmChoice, ...]:
    return tuple(AlgorithmChoice.read(kind, name) for name in names)


_GROUPS = _choices(T.KE, "curve25519", "256-bit random ECP group", "2048-bit MODP Group")
_PRFS = _choices(T.PRF, "PRF_HMAC_SHA2_256", "PRF_HMAC_SHA2_384", "PRF_HMAC_SHA2_512")
_GCM = _choices(T.ENCR, "ENCR_AES_GCM_16 256", "ENCR_AES_GCM_16 128")
_CBC = _choices(T.ENCR, "ENCR_AES_CBC 256", "ENCR_AES_CBC 128")
_SHA2 = _choices(T.INTEG, "AUTH_HMAC_SHA2_256_128")

DEFAULT_ALGORITHMS = Algorithms(
    ike=(ProposalChoice(_GCM, (), _PRFS, _GROUPS), ProposalChoice(_CBC, _SHA2, _PRFS, _GROUPS)),
    esp=(ProposalChoice(_GCM), ProposalChoice(_CBC, _SHA2)),
)
"""What is offered where a profile says nothing: combined-mode ciphers first (RFC 8247 §2.1, RFC 8221 §5)."""


def offers_of(profile: Profile) -> tuple[tuple[Offer, ...], tuple[Offer, ...]]:
    """What is offered for the IKE SA and for the child SA; :class:`ProfileInvalid` where nothing is left."""
    result = []
    for label, own, default, for_ike in (
        ("algorithms.ike", profile.algorithms.ike, DEFAULT_ALGORITHMS.ike, True),
        ("algorithms.esp", profile.algorithms.esp, DEFAULT_ALGORITHMS.esp, False),
    ):
        offers = tuple(offer for entry in own or default if (offer := entry.offer(for_ike=for_ike)) is not None)
        if not offers:
            raise ProfileInvalid(
                f"profile {profile.name}: {label} leaves nothing to offer",
                why="none of its proposals is made up of algorithms that this program implements",
            )
        result.append(offers)
    return result[0], result[1]
