"""What connects on each kind of device, whether it can use a profile, and which other profile comes nearest."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from zesty_burrow.core.policy.algorithms import ALGORITHMS, Algorithm, TransformType
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.ikev2.settings import NAME as IKE
from zesty_burrow.protocols.ikev2.settings import IkeSettings

T = TransformType


@dataclass(frozen=True, slots=True)
class Client:
    """A kind of device. ``knows``: whether it can be relied on to know an algorithm; empty ``methods`` means all."""

    kind: str
    words: str
    knows: Callable[[Algorithm], bool]
    methods: tuple[str, ...] = ()
    proofs: tuple[str, ...] = ()
    additional_key: bool = True
    protocols: tuple[str, ...] = ()
    is_special: bool = False
    """Whether it is one device's, which differs from others of its kind."""

    @property
    def called(self) -> str:
        """In sentences."""
        return "its client" if self.is_special else f"a {self.kind}"


def _expected(entry: Algorithm) -> bool:
    """What the RFCs ask every implementation to have."""
    return any(status.startswith(("MUST", "SHOULD")) and "NOT" not in status for status in _both(entry))


def _both(entry: Algorithm) -> tuple[str, str]:
    return entry.ike_status, entry.esp_status


_SMALL = {(T.ENCR, 14), (T.PRF, 4), (T.INTEG, 5)}
"""RFC 8247 §2.1 to §2.3: what is asked for the sake of constrained devices."""


def _asked_of_small(entry: Algorithm) -> bool:
    """What may be counted on where little room is: what is mandatory, and what is asked for such devices."""
    mandatory = any(status.startswith("MUST") and "NOT" not in status for status in _both(entry))
    return mandatory or (entry.type, entry.number) in _SMALL


PHONE = Client(
    "phone",
    "a telephone's own client: counted on for what RFC 8247 and RFC 8221 ask of everybody, and no more",
    lambda entry: _expected(entry) and entry.number not in (14, 28) if entry.type is T.ENCR else _expected(entry),
    ("eap-mschapv2", "certificate", "pre-shared-key", "ms-chap-v2"),
    ("certificate", "pre-shared-key"),
    additional_key=False,
    protocols=(IKE, "l2tp-ipsec"),
)
DEVICES: dict[str, Client] = {
    "workstation": Client("workstation", "a computer with this program", lambda entry: entry.usable),
    "phone": PHONE,
    "tablet": replace(PHONE, kind="tablet", words="a tablet's own client: counted on as a phone's"),
    "box": Client(
        "box",
        "a small device with a minimal initiator (RFC 7815): no EAP, no certificates; mandatory algorithms, and those "
        "that RFC 8247 asks for constrained devices",
        _asked_of_small,
        ("pre-shared-key", "raw-public-key"),
        ("pre-shared-key", "raw-public-key"),
        additional_key=False,
        protocols=(IKE,),
    ),
}
KINDS_OF_ALGORITHMS = ((T.ENCR, "cipher"), (T.PRF, "PRF"), (T.KE, "key exchange group"))


def misfits(profile: Profile, client: Client) -> list[str]:
    """Why a client cannot use a profile; nothing where it can."""
    unknown = f"which {client.called} does not know"
    protocol, sign_in = profile.tunnel.protocol, profile.sign_in
    if client.protocols and protocol not in client.protocols:
        return [f"goes over {protocol}, {unknown}"]
    found = []
    if client.protocols and profile.proxy is not None:
        found.append(f"goes by a proxy, {unknown}")
    if client.protocols and profile.settings.over() == "TCP":
        # What is built in speaks IKE over UDP alone.
        found.append(f"goes over {profile.over}, {unknown}")
    if client.methods and sign_in.method not in client.methods:
        found.append(f"signs in by {sign_in.method}, {unknown}")
    if client.proofs and sign_in.gateway not in client.proofs:
        found.append(f"the gateway proves itself by {sign_in.gateway}, {unknown}")
    return found + (_of_ike(profile.settings, client, unknown) if isinstance(profile.settings, IkeSettings) else [])


def _of_ike(settings: IkeSettings, client: Client, unknown: str) -> list[str]:
    found = []
    if settings.additional_key == "required" and not client.additional_key:
        found.append(f"needs an additional shared key (RFC 8784), {unknown}")
    offered = {(one.type, one.number) for proposal in settings.proposals("ike") for one in proposal.all()}
    for kind, words in KINDS_OF_ALGORITHMS:
        mine = [one for one in ALGORITHMS if one.type == kind and (one.type, one.number) in offered]
        if mine and not any(map(client.knows, mine)):
            found.append(f"offers no {words} that {client.called} knows")
    return found


def nearest(profile: Profile, client: Client, others: Iterable[Profile]) -> str:
    """The name of another profile that fits: of the same provider and place, else of the provider; empty for none."""
    fitting = [one for one in others if one.name != profile.name and not misfits(one, client)]

    def closeness(other: Profile) -> tuple[bool, bool, bool]:
        same = other.provider == profile.provider
        return same and other.place == profile.place, same, other.country == profile.country

    best = max(fitting, key=closeness, default=None)
    return best.name if best is not None and any(closeness(best)) else ""
