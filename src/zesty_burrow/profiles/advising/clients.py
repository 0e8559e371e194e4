"""What connects on each kind of device, whether it can use a profile, and which other profile comes nearest."""

from __future__ import annotations

from collections.abc import Iterable

from zesty_burrow.core.policy.algorithms import Algorithm, TransformType
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.parts import device_of, protocols_of
from zesty_burrow.records import replace

T = TransformType


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
    additional_key=False,
    is_built_in=True,
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
        additional_key=False,
        is_built_in=True,
    ),
}


def misfits(profile: Profile, client: Client) -> list[str]:
    """Why a client cannot use a profile, in words; nothing if it can."""
    if not client.is_built_in and not client.is_special:
        return []
    unknown = f"which {client.called} does not know"
    protocol, sign_in = profile.tunnel.protocol, profile.sign_in
    if protocol not in protocols_of(client):
        return [f"goes over {protocol}, {unknown}"]
    if not client.is_built_in:
        return [f"signs in by {sign_in.method}, {unknown}"] if sign_in.method not in client.methods else []
    facet = device_of(protocol)
    kind = facet.built_in.get(client.kind)
    methods = client.methods or (kind.methods if kind else ())
    found = []
    if profile.proxy is not None:
        found.append(f"goes by a proxy, {unknown}")
    if profile.settings.over() == "TCP":
        # Built-in clients are counted on for UDP alone.
        found.append(f"goes over {profile.over}, {unknown}")
    if methods and sign_in.method not in methods:
        found.append(f"signs in by {sign_in.method}, {unknown}")
    if kind and sign_in.gateway not in kind.proofs:
        found.append(f"the gateway proves itself by {sign_in.gateway}, {unknown}")
    return found + facet.misfits(profile.settings, client)


def nearest(profile: Profile, client: Client, others: Iterable[Profile]) -> str:
    """The name of another profile that fits: of the same provider and place, else of the provider; empty for none."""
    fitting = [one for one in others if one.name != profile.name and not misfits(one, client)]

    def closeness(other: Profile) -> tuple[bool, bool, bool]:
        same = other.provider == profile.provider
        return same and other.place == profile.place, same, other.country == profile.country

    best = max(fitting, key=closeness, default=None)
    return best.name if best is not None and any(closeness(best)) else ""
