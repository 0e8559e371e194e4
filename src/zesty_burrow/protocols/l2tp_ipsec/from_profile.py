"""From a profile to the layers of a caller."""

from __future__ import annotations

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.credentials import ClientKey, NamePassword, PreSharedKey
from zesty_burrow.core.crypto.private_key import load_private_key
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.gateway_proof import GatewayTrust, prove_chain
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import SHARED_KEY, Offer
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.end import IkeEnd
from zesty_burrow.protocols.l2tp_ipsec.ikev1.signatures import methods_of
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import L2tpConnection
from zesty_burrow.protocols.l2tp_ipsec.layers import Layers
from zesty_burrow.protocols.l2tp_ipsec.settings import CERTIFICATE, SIGN_IN_METHODS, L2tpSettings, settings_of
from zesty_burrow.protocols.ppp.link import CallerConfig, PppLink
from zesty_burrow.protocols.session import SessionRequest

HOST_NAME = "caller"
"""What L2TP calls this side: nothing that tells who it is."""
MRU = 1400
PROBE_AFTER = 30.0


def families_of(profile: Profile) -> tuple[int, ...]:
    """Versions of IP that go through the tunnel."""
    versions = {network.version for network in profile.traffic.networks}
    if profile.traffic.ipv6 != "tunnel":
        versions.discard(6)
    return tuple(sorted(versions))


def remote_of(profile: Profile) -> tuple[AddressRange, ...]:
    """Where packets may go."""
    families = families_of(profile)
    return tuple(AddressRange.of(network) for network in profile.traffic.networks if network.version in families)


def offer_of(settings: L2tpSettings) -> Offer:
    """The algorithms as IKEv1 offers them."""
    return Offer(
        settings.offered("encryption"),
        tuple(number for number, _ in settings.offered("integrity")),
        tuple(number for number, _ in settings.offered("key_exchange")),
        settings.ike_seconds,
        settings.child_seconds,
    )


def any_address(address: str) -> Identity:
    """What stands for this side's address, which a session does not know and a translation would change anyway."""
    return Identity.of("::" if ":" in address else "0.0.0.0")  # noqa: S104  (nothing is bound to it)


def ike_config(profile: Profile, request: SessionRequest) -> IkeConfig:
    """Raises :class:`ProfileInvalid` where something is missing."""
    settings, secrets = settings_of(profile), request.secrets
    local = Identity.of(request.local_address) if request.local_address else any_address(request.address)
    common = {
        "offer": offer_of(settings),
        "local": local,
        "timeout": request.timeout,
        "probe_after": min(PROBE_AFTER, settings.peer_seconds / 3),
        "dead": float(settings.peer_seconds),
    }
    if profile.sign_in.gateway != CERTIFICATE:
        shared = secrets.get(CredentialsKind.PRE_SHARED_KEY)
        key = shared.key.octets() if isinstance(shared, PreSharedKey) else b""
        return IkeConfig(methods=(SHARED_KEY,), own=settings.own_identity or local, shared_key=key, **common)  # type: ignore[arg-type]
    own = secrets.get(CredentialsKind.CLIENT_KEY)
    if not isinstance(own, ClientKey):
        raise ProfileInvalid(f"profile {profile.name}: a private key with its certificate is needed")
    rules = GatewayTrust.of(profile, request.wall_time, over_tls=False)
    chain = [x509.load_pem_x509_certificate(pem.encode()) for pem in own.certificates]
    private = load_private_key(own.key.octets())
    if not methods_of(private):
        raise ProfileInvalid(
            f"profile {profile.name}: IKEv1 cannot sign with this kind of key",
            why="only RSA and the curves P-256, P-384 and P-521 can (RFC 2409, RFC 4754)",
            next_step="Ask for another certificate, or use a pre-shared key.",
        )
    # RFC 4945 §3.1: the identity is what the certificate says. Both kinds of keys may be the gateway's.
    subject = Identity(IdType.ID_DER_ASN1_DN, chain[0].subject.rfc4514_string())
    return IkeConfig(
        methods=methods_of(private),
        own=settings.own_identity or subject,
        key=private,
        certificates=tuple(one.public_bytes(Encoding.DER) for one in chain),
        judge=lambda shown: prove_chain(rules, shown, request.address),
        **common,  # type: ignore[arg-type]
    )


def caller_layers(profile: Profile, request: SessionRequest, random: Random) -> Layers:
    """Everything of a caller. Raises :class:`ProfileInvalid`."""
    settings, own = settings_of(profile), request.secrets.get(CredentialsKind.NAME_PASSWORD)
    if not isinstance(own, NamePassword):
        raise ProfileInvalid(f"profile {profile.name}: a name and a password are needed")
    weakest = SIGN_IN_METHODS.index(profile.sign_in.method)
    wanted = next((one.packed for one in request.wanted if one.version == 4), bytes(4))
    ppp = CallerConfig(SIGN_IN_METHODS[: weakest + 1], own, families_of(profile), MRU, wanted)
    ike = IkeEnd(ike_config(profile, request), random, (request.address, settings.port))
    return Layers(ike, L2tpConnection(random, HOST_NAME, is_caller=True), PppLink(ppp, random), random)
