"""The judgements and the building blocks of a negotiation, apart from its states."""

from __future__ import annotations

import hmac
import ipaddress
from collections.abc import Mapping, Sequence

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.names import name_matches
from zesty_burrow.core.certificates.wrapped import name_of_der_untrusted
from zesty_burrow.core.crypto.key_exchange import METHODS, KeyAgreement
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.dns.encrypted_resolver import EncryptedResolver, domain_name, read_encrypted_resolver
from zesty_burrow.core.eap.peer import EapPeer, Refusal
from zesty_burrow.core.finding import finding
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.net import Address, AddressRange, Endpoint, intersect, is_host, same_families
from zesty_burrow.core.policy.algorithms import TransformType, describe
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import (
    BurrowError,
    GatewayNotProven,
    GatewayProtocolError,
    Malformed,
    NoAgreement,
    ProgramFault,
    SignInRefused,
)
from zesty_burrow.protocols.gateway_proof import MAX_CERTIFICATES, Proof, against, judged, not_proven, proof_words
from zesty_burrow.protocols.ikev2.initiator.config import RAW_KEY, InitiatorConfig
from zesty_burrow.protocols.ikev2.machine.endpoint import nat_detection_hash
from zesty_burrow.protocols.ikev2.wire import signatures
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys, shared_key_auth
from zesty_burrow.protocols.ikev2.wire.message import find, find_all, find_typed
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import (
    Authentication,
    Certificate,
    CertificateRequest,
    Configuration,
    Identification,
    KeyExchange,
    Nonce,
    Notify,
    Payload,
    SecurityAssociation,
    TrafficSelector,
    TrafficSelectors,
)
from zesty_burrow.protocols.ikev2.wire.proposals import accept_answer, build_proposals
from zesty_burrow.protocols.ikev2.wire.redirect import redirected_from
from zesty_burrow.protocols.ikev2.wire.registry import (
    SIGNATURE_HASHES,
    AuthMethod,
    CertEncoding,
    ConfigAttribute,
    ConfigType,
    NotifyType,
    PayloadType,
    Protocol,
    notify_in_words,
)
from zesty_burrow.protocols.session import NetworkSettings
from zesty_burrow.records import dataclass, replace

MAX_ANSWERS = 16


def init_payloads(
    config: InitiatorConfig, agreement: KeyAgreement, nonce: bytes, cookie: bytes, spi_i: bytes, peer: Endpoint
) -> list[Payload]:
    """The IKE_SA_INIT request of a negotiation, with the cookie in front where there is one (RFC 7296 §2.6)."""
    value = KeyExchange(agreement.group, agreement.public)
    mixing = config.additional is not None
    payloads = request_payloads(config.ike_offers, value, nonce, spi_i, peer, mixing=mixing)
    sent = config.redirected_from
    payloads.append(redirected_from(sent) if sent else Notify(NotifyType.REDIRECT_SUPPORTED))
    return [Notify(NotifyType.COOKIE, cookie), *payloads] if cookie else payloads


def request_payloads(
    offers: Sequence[Offer], value: KeyExchange, nonce: bytes, spi_i: bytes, peer: Endpoint, *, mixing: bool
) -> list[Payload]:
    """The IKE_SA_INIT request (RFC 7296 §1.2, §2.23; RFC 7427 §4).

    The source hash is made over an address that nobody has: we carry ESP only inside UDP, so the gateway must
    treat us as behind NAT, as most of its users are.
    """
    hash_numbers = b"".join(number.to_bytes(2) for number in SIGNATURE_HASHES)
    return [
        SecurityAssociation(build_proposals(offers, Protocol.IKE, b"")),
        value,
        Nonce(nonce),
        Notify(NotifyType.NAT_DETECTION_SOURCE_IP, nowhere_hash(spi_i, bytes(8), peer)),
        Notify(NotifyType.NAT_DETECTION_DESTINATION_IP, nat_detection_hash(spi_i, bytes(8), peer)),
        Notify(NotifyType.SIGNATURE_HASH_ALGORITHMS, hash_numbers),
        Notify(NotifyType.IKEV2_FRAGMENTATION_SUPPORTED),
        *([Notify(NotifyType.INTERMEDIATE_EXCHANGE_SUPPORTED)] if any(offer.extra for offer in offers) else []),
        *([Notify(NotifyType.USE_PPK)] if mixing else []),
    ]


def nowhere_hash(spi_i: bytes, spi_r: bytes, peer: Endpoint) -> bytes:
    """The hash of an address that nobody has, of the peer's family."""
    nowhere = ("0.0.0.0" if "." in peer[0] else "::", 0)  # noqa: S104  (hashed, never bound)
    return nat_detection_hash(spi_i, spi_r, nowhere)


def fresh_spi(random: Random) -> bytes:
    """An SPI for our end of a child SA; 0 to 255 are reserved (RFC 4303 §2.1)."""
    while int.from_bytes(spi := random(4)) <= 255:
        pass
    return spi


def protocol_error(config: InitiatorConfig, why: str) -> GatewayProtocolError:
    """The negotiation cannot go on; ``why``: what the gateway did."""
    return GatewayProtocolError(f"the gateway {config.gateway[0]} broke the negotiation off", why=why)


def refused_sign_in(host: str, refusal: Refusal | None) -> SignInRefused:
    """The gateway did not take our credentials; its own words where it gave some."""
    why = f"the gateway says: {refusal.words}" if refusal and refusal.words else "the gateway gave no reason"
    if refusal and refusal.code:
        why += f" (error {refusal.code})"
    return SignInRefused(f"the gateway {host} refused the sign-in", why=why)


def announced_hashes(told: Mapping[int, Notify]) -> frozenset[int]:
    """The hash algorithms that the gateway takes in signatures (RFC 7427 §4)."""
    entry = told.get(NotifyType.SIGNATURE_HASH_ALGORITHMS)
    data = entry.data if entry else b""
    return frozenset(int.from_bytes(data[at : at + 2]) for at in range(0, len(data), 2))


def init_error(notification: int, host: str) -> BurrowError:
    """What an error notification in an IKE_SA_INIT response comes to."""
    if notification == NotifyType.NO_PROPOSAL_CHOSEN:
        return NoAgreement(f"the gateway {host} and the profile cannot agree", why=notify_in_words(notification))
    return GatewayProtocolError(f"the gateway {host} turned us away", why=notify_in_words(notification))


def group_error(wanted: int, host: str) -> BurrowError:
    """The gateway insists on a key exchange group that we do not offer."""
    name = describe(TransformType.KE, wanted)
    return NoAgreement(
        f"the gateway {host} and the profile cannot agree",
        why=f"it insists on {name}, which the profile does not offer",
    )


def wanted_group(told: Mapping[int, Notify], offers: Sequence[Offer], tried: frozenset[int]) -> int:
    """The group that INVALID_KE_PAYLOAD asks for (RFC 7296 §1.3); 0 where it was not offered, or has been tried."""
    entry = told.get(NotifyType.INVALID_KE_PAYLOAD)
    group = int.from_bytes(entry.data) if entry is not None and len(entry.data) == 2 else 0
    offered = any(group in offer.groups for offer in offers)
    return group if offered and group in METHODS and group not in tried else 0


def refusal_in_words(told: Mapping[int, Notify]) -> str:
    """Why keys were not renewed, as the answer has it."""
    error = next((entry for entry in told.values() if entry.is_error), None)
    if error is None:
        return "its answer is not what was asked for"
    if error.notification == NotifyType.INVALID_KE_PAYLOAD and len(error.data) == 2:
        return f"it insists on {describe(TransformType.KE, int.from_bytes(error.data))}"
    return notify_in_words(error.notification)


def certificate_request(config: InitiatorConfig) -> list[Payload]:
    """Which authorities we trust (RFC 7296 §3.7), or that a raw public key is needed (RFC 7670 §3)."""
    if config.proof == RAW_KEY:
        return [CertificateRequest(CertEncoding.RAW_PUBLIC_KEY, b"")]
    hashes = b"".join(trust.public_key_hash(entry) for entry in config.anchors)
    return [CertificateRequest(CertEncoding.X509_SIGNATURE, hashes)] if config.anchors else []


def address_request(local: Sequence[AddressRange], wanted: Sequence[Address] = ()) -> Configuration:
    """Ask for an address and name servers of each family that the tunnel is to carry (RFC 7296 §2.19, §3.15).

    ``wanted``: addresses that this side would like to have again (§3.15.1).
    """
    attributes: list[tuple[int, bytes]] = []
    versions = {entry.version for entry in local}
    before = {one.version: one.packed for one in wanted}
    if 4 in versions:
        attributes.append((ConfigAttribute.INTERNAL_IP4_ADDRESS, before.get(4, b"")))
        attributes += [(ConfigAttribute.INTERNAL_IP4_DNS, b""), (ConfigAttribute.INTERNAL_IP4_NBNS, b"")]
    if 6 in versions:
        again = before[6] + bytes([128]) if 6 in before else b""
        attributes += [(ConfigAttribute.INTERNAL_IP6_ADDRESS, again), (ConfigAttribute.INTERNAL_IP6_DNS, b"")]
    attributes.append((ConfigAttribute.INTERNAL_DNS_DOMAIN, b""))
    announced = {4: ConfigAttribute.ENCDNS_IP4, 6: ConfigAttribute.ENCDNS_IP6}
    attributes += [(announced[version], b"") for version in sorted(versions)]
    return Configuration(ConfigType.CFG_REQUEST, tuple(attributes))


def selectors(kind: int, ranges: Sequence[AddressRange]) -> TrafficSelectors:
    """Address ranges with all protocols and ports."""
    return TrafficSelectors(kind, tuple(TrafficSelector(entry.start, entry.end) for entry in ranges))


def check_gateway(
    config: InitiatorConfig, payloads: Sequence[Payload], identity: Identification | None, octets: bytes
) -> Proof:
    """The whole proof of the gateway: certificate path, dates, usage, name against IDr, and its signature.

    Raises :class:`GatewayNotProven` with the finding's code as slug.
    """
    host = config.gateway[0]
    carried = [entry for entry in find_all(payloads, Certificate) if entry.encoding == CertEncoding.X509_SIGNATURE]
    auth = find(payloads, Authentication)
    if not carried or auth is None or identity is None:
        raise not_proven(host, [finding("certificate-missing", host)])
    try:
        chain = [trust.load_certificate_untrusted(entry.data) for entry in carried[:MAX_CERTIFICATES]]
    except Malformed as problem:
        raise not_proven(host, [finding("certificate-missing", host, problem.why)]) from None
    expected = config.gateway_identity
    found, many = judged(config, chain), []
    if len(carried) > MAX_CERTIFICATES:
        many = [finding("certificate-many", host, f"{len(carried)} were sent, {MAX_CERTIFICATES} of them read")]
    if not same_identity(identity, expected):
        detail = f"it calls itself {shown_identity(identity)!r} instead of {expected.value}"
        found.append(finding("certificate-identity", host, detail))
    if serious := against(config, found):
        raise not_proven(host, [*serious, *many])
    found += many
    try:
        signatures.verify(chain[0].public_key(), auth, octets)
    except Malformed as problem:
        raise not_proven(host, [finding("certificate-signature", host, str(problem))]) from None
    return Proof(proof_words(chain[0]), tuple(found))


def shown_identity(told: Identification) -> str:
    """An identity for people: a distinguished name as RFC 4514 has it, an address as such, the rest as text."""
    try:
        if told.id_type == IdType.ID_DER_ASN1_DN:
            return name_of_der_untrusted(told.data).rfc4514_string()[:200]
        if told.id_type in (IdType.ID_IPV4_ADDR, IdType.ID_IPV6_ADDR):
            return str(ipaddress.ip_address(told.data))
    except (Malformed, ValueError):
        return told.data[:64].hex()
    return told.data[:128].decode("utf-8", "replace")


def same_identity(told: Identification, expected: Identity) -> bool:
    """Letter case does not matter in domain names (RFC 4343), and is not relied on in mail addresses.

    Distinguished names are compared by what they say, not by how they are encoded (RFC 5280 §7.1).
    """
    if told.id_type == expected.type == IdType.ID_DER_ASN1_DN:
        try:
            return name_matches(name_of_der_untrusted(told.data), expected)
        except Malformed:
            return False
    ours = expected.octets()
    folds = expected.type in (IdType.ID_FQDN, IdType.ID_RFC822_ADDR)
    same = told.data.lower() == ours.lower() if folds else told.data == ours
    return told.id_type == expected.type and same


def check_shared_auth(keys: IkeKeys | None, eap: EapPeer | None, auth: Authentication, octets: bytes) -> None:
    """The gateway's second AUTH, made with the sign-in's session key (RFC 7296 §2.16)."""
    if keys is None or eap is None:
        raise ProgramFault("AUTH before there are keys")
    expected = shared_key_auth(keys.suite.prf, eap.msk, octets)
    if auth.method != AuthMethod.SHARED_KEY_MIC or not hmac.compare_digest(auth.data, expected):
        raise GatewayNotProven(
            "the gateway did not prove that it knows the sign-in's key",
            why="its AUTH payload is wrong (RFC 7296 §2.16)",
            slug="certificate-signature",
        )


@dataclass(frozen=True, slots=True)
class ChildAgreement:
    suite: Suite
    spi_out: int
    inner: NetworkSettings
    local: tuple[AddressRange, ...]
    remote: tuple[AddressRange, ...]


def read_child(config: InitiatorConfig, payloads: Sequence[Payload]) -> ChildAgreement:
    """SA, TSi, TSr and CP of the last IKE_AUTH response; raises :class:`GatewayProtocolError`."""
    host = config.gateway[0]
    answer = find(payloads, SecurityAssociation)
    theirs_i = find_typed(payloads, TrafficSelectors, PayloadType.TSi)
    theirs_r = find_typed(payloads, TrafficSelectors, PayloadType.TSr)
    if answer is None or theirs_i is None or theirs_r is None:
        raise GatewayProtocolError(f"the gateway {host} granted no tunnel", why="SA, TSi or TSr is missing")
    accepted = accept_answer(answer.proposals, config.esp_offers, Protocol.ESP)
    if accepted is None or len(accepted[0].spi) != 4 or int.from_bytes(accepted[0].spi) < 256:
        raise GatewayProtocolError(f"the gateway {host} granted no tunnel", why="it chose what was not offered")
    granted_i, granted_r = ranges_of(theirs_i), ranges_of(theirs_r)
    local, remote = same_families(intersect(granted_i, config.local), intersect(granted_r, config.remote))
    if not local or not remote:
        raise GatewayProtocolError(
            f"the gateway {host} granted no tunnel", why="none of the networks that were asked for is among its own"
        )
    inner = _within_grant(host, read_inner_network(find(payloads, Configuration)), local)
    return ChildAgreement(accepted[1], int.from_bytes(accepted[0].spi), inner, local, remote)


def _within_grant(host: str, inner: NetworkSettings, local: Sequence[AddressRange]) -> NetworkSettings:
    """The inner network, whose addresses must be among what TSi grants (RFC 7296 §2.19, RFC 4301 §5).

    An address of a family that the tunnel does not carry is left out.
    """
    families = {entry.version for entry in local}
    own = tuple(entry for entry in inner.addresses if entry.version in families)
    outside = [str(entry.ip) for entry in own if not any(entry.ip.packed in one for one in local)]
    if outside or not own:
        why = (
            f"it handed out {outside[0]}, which the tunnel does not carry"
            if outside
            else "it handed out no inner address"
        )
        if not own and inner.refused:
            why += f" that can be used ({', '.join(inner.refused)})"
        raise GatewayProtocolError(f"the gateway {host} granted no tunnel", why=why)
    return replace(inner, addresses=own)


def ranges_of(payload: TrafficSelectors) -> list[AddressRange]:
    """The ranges of selectors that cover every protocol and port; others cannot be granted whole and are left out."""
    return [AddressRange(selector.start, selector.end) for selector in payload.selectors if selector.covers_all]


def _inner_addresses(reply: Configuration) -> list[ipaddress.IPv4Interface | ipaddress.IPv6Interface]:
    """One of each family at most."""
    addresses: list[ipaddress.IPv4Interface | ipaddress.IPv6Interface] = []
    for value in reply.values(ConfigAttribute.INTERNAL_IP4_ADDRESS)[:1]:
        if len(value) == 4:
            addresses.append(ipaddress.IPv4Interface((value, 32)))
    for value in reply.values(ConfigAttribute.INTERNAL_IP6_ADDRESS)[:1]:
        if len(value) == 17 and value[16] <= 128:
            addresses.append(ipaddress.IPv6Interface((value[:16], value[16])))
    return addresses


def _addresses(reply: Configuration, attribute: ConfigAttribute, size: int) -> list[Address]:
    """An attribute's values that have so many octets, as addresses."""
    return [ipaddress.ip_address(value) for value in reply.values(attribute) if len(value) == size]


def read_inner_network(reply: Configuration | None) -> NetworkSettings:
    """Addresses, name servers and suffixes from a CFG_REPLY; what is malformed is left out (RFC 7296 §3.15)."""
    if reply is None or reply.config_type != ConfigType.CFG_REPLY:
        return NetworkSettings()
    addresses = _inner_addresses(reply)
    servers = [
        *_addresses(reply, ConfigAttribute.INTERNAL_IP4_DNS, 4),
        *_addresses(reply, ConfigAttribute.INTERNAL_IP6_DNS, 16),
    ]
    netbios = _addresses(reply, ConfigAttribute.INTERNAL_IP4_NBNS, 4)[:MAX_ANSWERS]
    suffixes = [domain_name(value) for value in reply.values(ConfigAttribute.INTERNAL_DNS_DOMAIN)[:MAX_ANSWERS]]
    usable = [entry for entry in servers if is_host(entry)]
    refused = [str(entry.ip) for entry in addresses if not is_host(entry.ip)]
    return NetworkSettings(
        tuple(entry for entry in addresses if is_host(entry.ip)),
        tuple(usable[:MAX_ANSWERS]),
        tuple(entry for entry in suffixes if entry),
        tuple(entry for entry in netbios if isinstance(entry, ipaddress.IPv4Address) and is_host(entry)),
        encrypted_resolvers(reply),
        tuple(refused),
    )


def encrypted_resolvers(reply: Configuration) -> tuple[EncryptedResolver, ...]:
    """Those that are announced and may be used, the first to try before the others (RFC 9464 §3.1)."""
    kinds = ((ConfigAttribute.ENCDNS_IP4, 4), (ConfigAttribute.ENCDNS_IP6, 6))
    values = [(value, version) for kind, version in kinds for value in reply.values(kind)[:MAX_ANSWERS]]
    usable = (read_encrypted_resolver(value, version) for value, version in values)
    return tuple(sorted((one for one in usable if one), key=lambda one: one.priority))
