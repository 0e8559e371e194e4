"""From a profile to what the initiator needs."""

from __future__ import annotations

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_public_key

from zesty_burrow.core.credentials import AdditionalKey, Credentials, PreSharedKey
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.gateway_proof import anchors_of, revocation_lists_of
from zesty_burrow.protocols.ikev2.initiator.config import EAP, EAP_TLS, InitiatorConfig
from zesty_burrow.protocols.ikev2.machine.authentication import identity_of
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff
from zesty_burrow.protocols.ikev2.settings import NAT_PORT, TCP_TRANSPORT, offers_of, settings_of
from zesty_burrow.protocols.session import SessionRequest

WHOLE_IPV4 = AddressRange(bytes(4), b"\xff" * 4)
WHOLE_IPV6 = AddressRange(bytes(16), b"\xff" * 16)


def initiator_config(profile: Profile, request: SessionRequest) -> InitiatorConfig:
    """A profile as the initiator wants it. Raises :class:`ProfileInvalid`."""
    ike, esp = offers_of(profile)
    settings = settings_of(profile)
    needs = settings.needs(profile.sign_in)
    identity, sign_in = profile.gateway_identity, profile.sign_in
    versions = {network.version for network in profile.traffic.networks}
    if profile.traffic.ipv6 != "tunnel":
        versions.discard(6)
    local = tuple(entry for entry in (WHOLE_IPV4, WHOLE_IPV6) if entry.version in versions)
    remote = tuple(AddressRange.of(entry) for entry in profile.traffic.networks if entry.version in versions)
    secrets = request.secrets
    own = secrets[needs[0]]
    shared, mixed = secrets.get(CredentialsKind.PRE_SHARED_KEY), secrets.get(CredentialsKind.ADDITIONAL_KEY)
    over_stream = settings.transport == TCP_TRANSPORT
    return InitiatorConfig(
        gateway=(request.address, settings.port),
        encapsulation_port=settings.port if over_stream else NAT_PORT,
        over_stream=over_stream,
        gateway_identity=identity,
        own_identity=_own_identity(profile, own),
        ike_offers=ike,
        esp_offers=esp,
        anchors=anchors_of(profile, needed=sign_in.gateway in ("certificate", "eap")),
        credentials=lambda: own,
        second=(lambda: secrets[needs[1]]) if "+" in sign_in.method else None,
        wall_time=request.wall_time,
        local=local,
        remote=remote,
        backoff=Backoff(give_up=request.timeout, dead=settings.peer_seconds),
        need_status=profile.revocation_status == "required",
        revocation_lists=revocation_lists_of(profile),
        method=sign_in.method,
        proof=sign_in.gateway,
        gateway_key=(lambda: shared) if isinstance(shared, PreSharedKey) else None,
        gateway_keys=_gateway_keys(profile),
        additional=mixed if isinstance(mixed, AdditionalKey) and settings.additional_key != "none" else None,
        additional_required=settings.additional_key == "required",
        redirected_from=request.redirected_from,
        wanted=request.wanted,
        child_seconds=settings.child_seconds,
        child_octets=settings.child_octets,
        ike_seconds=settings.ike_seconds,
    )


def _own_identity(profile: Profile, own: Credentials) -> Identity:
    """As the profile says; else the certificate's; else an anonymous one (RFC 7296 §3.5).

    With EAP it goes out before the gateway has proven itself: then a certificate's names stay where they are, and the
    method tells who we are (RFC 9190 §2.1.4).
    """
    settings = settings_of(profile)
    anonymous = settings.outer_identity or f"anonymous@{profile.gateway_identity.value}"
    named = None if profile.sign_in.method in (EAP, EAP_TLS) else identity_of(own)
    return settings.own_identity or named or Identity(IdType.ID_RFC822_ADDR, anonymous)


def _gateway_keys(profile: Profile) -> tuple[bytes, ...]:
    try:
        loaded = [load_pem_public_key(pem.encode()) for pem in profile.gateway_keys]
    except (ValueError, UnsupportedAlgorithm):
        raise ProfileInvalid(
            f"profile {profile.name}: trust.gateway_keys", why="a public key in it cannot be read"
        ) from None
    keys = tuple(one.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo) for one in loaded)
    if not keys and profile.sign_in.gateway == "raw-public-key":
        raise ProfileInvalid(
            f"profile {profile.name} names no raw public key of the gateway",
            why="without one the gateway cannot prove its identity",
            next_step="Add the gateway's public key under trust.gateway_keys and import the profile again.",
        )
    return keys
