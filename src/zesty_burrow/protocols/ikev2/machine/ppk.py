"""An additional shared key, mixed in beside the key exchange (RFC 8784)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from zesty_burrow.core.credentials import AdditionalKey
from zesty_burrow.errors import Malformed, NoAgreement
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys, prf_plus
from zesty_burrow.protocols.ikev2.wire.message import find, notifications
from zesty_burrow.protocols.ikev2.wire.payloads import Authentication, Notify, Payload
from zesty_burrow.protocols.ikev2.wire.registry import NotifyType
from zesty_burrow.records import replace

FIXED = b"\x02"
"""RFC 8784 §5.1: PPK_ID_FIXED, before the identifier."""
KeyOf = Callable[[str], bytes | None]
Prove = Callable[[IkeKeys], list[Payload]]
"""Makes CERT and AUTH under some keys."""


def mix(keys: IkeKeys, additional: bytes) -> IkeKeys:
    """RFC 8784 §3: SK_d, SK_pi and SK_pr each run through prf+ under the additional key."""
    number = keys.suite.prf

    def mixed(key: bytes) -> bytes:
        return prf_plus(number, additional, key, len(key))

    return replace(keys, sk_d=mixed(keys.sk_d), sk_pi=mixed(keys.sk_pi), sk_pr=mixed(keys.sk_pr))


def is_agreed(own: AdditionalKey | None, required: bool, told: Mapping[int, Notify], host: str) -> bool:
    """Whether it will be used; :class:`NoAgreement` where we need it and the gateway does not know of it."""
    offered = NotifyType.USE_PPK in told
    if own is not None and required and not offered:
        raise NoAgreement(
            f"the gateway {host} and the profile cannot agree",
            why="the profile needs an additional shared key (RFC 8784), and the gateway uses none",
            next_step="Ask the gateway's administrator to set the key there, or for a profile without it.",
        )
    return own is not None and offered


def proof_with(keys: IkeKeys, own: AdditionalKey, required: bool, prove: Prove) -> list[Payload]:
    """CERT and AUTH under the mixed keys, the key's identifier, and if it is optional the AUTH data without it."""
    payloads = prove(mix(keys, own.key.octets()))
    payloads.append(Notify(NotifyType.PPK_IDENTITY, FIXED + own.identifier.encode()))
    if not required:
        plain = find(prove(keys), Authentication)
        payloads.append(Notify(NotifyType.NO_PPK_AUTH, plain.data if plain else b""))
    return payloads


def keys_after(keys: IkeKeys, own: AdditionalKey, required: bool, payloads: Sequence[Payload], host: str) -> IkeKeys:
    """The initiator's keys once the gateway has said whether it mixed the key in."""
    if NotifyType.PPK_IDENTITY in notifications(payloads):
        return mix(keys, own.key.octets())
    if required:
        raise NoAgreement(
            f"the gateway {host} does not know the additional shared key",
            why="it went on without it, and the profile needs it (RFC 8784 §3)",
            next_step="Compare the key and its identifier with the gateway's administrator.",
        )
    return keys


def taken_by_gateway(
    keys: IkeKeys, key_of: KeyOf, required: bool, payloads: Sequence[Payload]
) -> tuple[IkeKeys, tuple[Payload, ...], list[Payload]]:
    """The gateway's side (RFC 8784 §3, table 1): its keys, the payloads to judge, and what to say.

    Raises :class:`Malformed` where the negotiation has to end.
    """
    told = notifications(payloads)
    named = told.get(NotifyType.PPK_IDENTITY)
    if named is None:
        raise Malformed("a caller is refused", why="it names no additional key though it agreed to use one")
    key = key_of(named.data[1:].decode("utf-8", "replace")) if named.data[:1] == FIXED else None
    if key is not None:
        return mix(keys, key), tuple(payloads), [Notify(NotifyType.PPK_IDENTITY)]
    without = told.get(NotifyType.NO_PPK_AUTH)
    auth = find(payloads, Authentication)
    if required or without is None or auth is None:
        raise Malformed("a caller is refused", why="its additional key is not known here")
    plain = replace(auth, data=without.data)
    return keys, tuple(plain if entry is auth else entry for entry in payloads), []
