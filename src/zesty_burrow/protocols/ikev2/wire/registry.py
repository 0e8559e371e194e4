"""Numbers from IANA's "IKEv2 Parameters" registry, under IANA's names."""

from __future__ import annotations

from enum import IntEnum


class ExchangeType(IntEnum):
    """RFC 7296 §3.1; IKE_INTERMEDIATE from RFC 9242, IKE_FOLLOWUP_KE from RFC 9370."""

    IKE_SA_INIT = 34
    IKE_AUTH = 35
    CREATE_CHILD_SA = 36
    INFORMATIONAL = 37
    IKE_INTERMEDIATE = 43
    IKE_FOLLOWUP_KE = 44


class Flag(IntEnum):
    """RFC 7296 §3.1."""

    INITIATOR = 0x08
    VERSION = 0x10
    RESPONSE = 0x20


class PayloadType(IntEnum):
    """RFC 7296 §3.2."""

    NONE = 0
    SA = 33
    KE = 34
    IDi = 35
    IDr = 36
    CERT = 37
    CERTREQ = 38
    AUTH = 39
    NONCE = 40
    NOTIFY = 41
    DELETE = 42
    VENDOR = 43
    TSi = 44
    TSr = 45
    SK = 46
    SKF = 53
    CP = 47
    EAP = 48


class Protocol(IntEnum):
    """RFC 7296 §3.3.1."""

    NONE = 0
    IKE = 1
    AH = 2
    ESP = 3


class AuthMethod(IntEnum):
    """RFC 7296 §3.8, RFC 7427."""

    RSA_DIGITAL_SIGNATURE = 1
    SHARED_KEY_MIC = 2
    DSS_DIGITAL_SIGNATURE = 3
    ECDSA_SHA256_P256 = 9
    ECDSA_SHA384_P384 = 10
    ECDSA_SHA512_P521 = 11
    DIGITAL_SIGNATURE = 14


class CertEncoding(IntEnum):
    """RFC 7296 §3.6, RFC 7670 §3."""

    X509_SIGNATURE = 4
    RAW_PUBLIC_KEY = 15


class NotifyType(IntEnum):
    """RFC 7296 §3.10.1; errors are below 16384."""

    UNSUPPORTED_CRITICAL_PAYLOAD = 1
    INVALID_IKE_SPI = 4
    INVALID_MAJOR_VERSION = 5
    INVALID_SYNTAX = 7
    INVALID_MESSAGE_ID = 9
    INVALID_SPI = 11
    NO_PROPOSAL_CHOSEN = 14
    INVALID_KE_PAYLOAD = 17
    AUTHENTICATION_FAILED = 24
    SINGLE_PAIR_REQUIRED = 34
    NO_ADDITIONAL_SAS = 35
    INTERNAL_ADDRESS_FAILURE = 36
    FAILED_CP_REQUIRED = 37
    TS_UNACCEPTABLE = 38
    INVALID_SELECTORS = 39
    UNACCEPTABLE_ADDRESSES = 40
    UNEXPECTED_NAT_DETECTED = 41
    USE_ASSIGNED_HoA = 42
    TEMPORARY_FAILURE = 43
    CHILD_SA_NOT_FOUND = 44
    INVALID_GROUP_ID = 45
    AUTHORIZATION_FAILED = 46
    STATE_NOT_FOUND = 47
    INITIAL_CONTACT = 16384
    ADDITIONAL_TS_POSSIBLE = 16386
    NAT_DETECTION_SOURCE_IP = 16388
    NAT_DETECTION_DESTINATION_IP = 16389
    COOKIE = 16390
    MOBIKE_SUPPORTED = 16396
    UPDATE_SA_ADDRESSES = 16400
    COOKIE2 = 16401
    AUTH_LIFETIME = 16403
    MULTIPLE_AUTH_SUPPORTED = 16404
    ANOTHER_AUTH_FOLLOWS = 16405
    REDIRECT_SUPPORTED = 16406
    REDIRECT = 16407
    REDIRECTED_FROM = 16408
    EAP_ONLY_AUTHENTICATION = 16417
    USE_TRANSPORT_MODE = 16391
    REKEY_SA = 16393
    IKEV2_FRAGMENTATION_SUPPORTED = 16430
    SIGNATURE_HASH_ALGORITHMS = 16431
    USE_PPK = 16435
    PPK_IDENTITY = 16436
    NO_PPK_AUTH = 16437
    INTERMEDIATE_EXCHANGE_SUPPORTED = 16438
    ADDITIONAL_KEY_EXCHANGE = 16441


class ConfigType(IntEnum):
    """RFC 7296 §3.15."""

    CFG_REQUEST = 1
    CFG_REPLY = 2


class ConfigAttribute(IntEnum):
    """RFC 7296 §3.15.1; INTERNAL_DNS_DOMAIN from RFC 8598 §4.1, ENCDNS_IP4 and ENCDNS_IP6 from RFC 9464 §7."""

    INTERNAL_IP4_ADDRESS = 1
    INTERNAL_IP4_NETMASK = 2
    INTERNAL_IP4_DNS = 3
    INTERNAL_IP4_NBNS = 4
    INTERNAL_IP6_ADDRESS = 8
    INTERNAL_IP6_DNS = 10
    INTERNAL_DNS_DOMAIN = 25
    ENCDNS_IP4 = 27
    ENCDNS_IP6 = 28


class TsType(IntEnum):
    """RFC 7296 §3.13.1."""

    TS_IPV4_ADDR_RANGE = 7
    TS_IPV6_ADDR_RANGE = 8


SIGNATURE_HASHES = {2: "sha256", 3: "sha384", 4: "sha512", 5: "identity"}
"""RFC 7427 §7, RFC 8420 §2: hash algorithms that we accept. SHA-1 (1) is not among them (RFC 8247 §3.2)."""

NOTIFY_IN_WORDS: dict[int, str] = {
    NotifyType.UNSUPPORTED_CRITICAL_PAYLOAD: "it does not know a payload that we marked as critical",
    NotifyType.INVALID_IKE_SPI: "it does not know this negotiation (any more)",
    NotifyType.INVALID_MAJOR_VERSION: "it does not speak IKE version 2",
    NotifyType.INVALID_SYNTAX: "it could not read our message",
    NotifyType.INVALID_MESSAGE_ID: "our message number was not the one it expected",
    NotifyType.NO_PROPOSAL_CHOSEN: "it accepts none of the algorithms that the profile offers",
    NotifyType.INVALID_KE_PAYLOAD: "it wants another key exchange group",
    NotifyType.AUTHENTICATION_FAILED: "it refused the sign-in",
    NotifyType.SINGLE_PAIR_REQUIRED: "it allows only a single pair of addresses",
    NotifyType.NO_ADDITIONAL_SAS: "it allows no further child SA",
    NotifyType.INTERNAL_ADDRESS_FAILURE: "it has no inner address left to hand out",
    NotifyType.FAILED_CP_REQUIRED: "it insists on handing out an address",
    NotifyType.TS_UNACCEPTABLE: "it does not carry the networks that the profile asks for",
    NotifyType.TEMPORARY_FAILURE: "it asks to try again later",
    NotifyType.CHILD_SA_NOT_FOUND: "it does not know the child SA that we named",
    NotifyType.INVALID_SPI: "it got a packet for an SA that it does not know",
    NotifyType.INVALID_SELECTORS: "it got a packet that the agreed networks do not cover",
    NotifyType.UNACCEPTABLE_ADDRESSES: "it does not accept the address that we have now",
    NotifyType.UNEXPECTED_NAT_DETECTED: "it sees an address translator where it allows none",
    NotifyType.USE_ASSIGNED_HoA: "it wants the home address that it handed out to be used",
    NotifyType.INVALID_GROUP_ID: "it does not know the group that we named",
    NotifyType.AUTHORIZATION_FAILED: "it knows us, and does not allow us this",
    NotifyType.STATE_NOT_FOUND: "it has forgotten the key exchange that we went on with",
}


def notify_name(number: int) -> str:
    """IANA's name of a notification, or its number."""
    return NotifyType(number).name if number in NotifyType._value2member_map_ else f"notification {number}"


def notify_in_words(number: int) -> str:
    """What an error notification means to a person, with IANA's name."""
    words = NOTIFY_IN_WORDS.get(number, "it reports an error")
    return f"{words} ({notify_name(number)})"
