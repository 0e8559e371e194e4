"""A caller written from the RFC texts, without our code, against our gateway: legal and illegal messages."""

from __future__ import annotations

import os
from datetime import UTC, datetime

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import mlkem

from independent import esp
from independent.caller import KEY, WHO, Caller
from independent.certificates import PRINTABLE, UTF8, Issuer, make_key, name, pss, sign
from independent.peer import (
    AUTH,
    AUTH_FAILED,
    AUTH_PAYLOAD,
    CERT,
    CHILD,
    CP,
    DELETE,
    INFORMATIONAL,
    INTERMEDIATE,
    INVALID_KE,
    INVALID_SYNTAX,
    KE,
    ML_KEM,
    NO_PROPOSAL,
    P256,
    SA,
    TSI,
    UNKNOWN,
    UNSUPPORTED_CRITICAL,
    WHOLE4,
    X25519,
    selector,
)
from support import GATEWAY, responder_config, seeded
from zesty_burrow.protocols.ikev2.machine.authentication import Callers
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway
from zesty_burrow.protocols.ikev2.wire.offer import Offer

WIDE = (Offer(((20, 256),), (), (5, 7), (31, 19)),)
CRITICAL = (UNKNOWN, b"what this means is not known here", True)


def gateway(**changes):
    offers = changes.pop("ike_offers", WIDE)
    callers = changes.pop("callers", Callers(shared_key_of=lambda who: KEY if who == WHO else None))
    return IkeGateway(responder_config(ike_offers=offers, callers=callers, **changes), seeded(7), GATEWAY[0])


def connected(prf=5, group=X25519, **changes):
    caller = Caller(gateway(**changes), prf, group)
    caller.connect()
    answer = caller.sign_in()
    assert not answer.errors
    return caller


@pytest.mark.parametrize("prf", [5, 7])
@pytest.mark.parametrize("group", [X25519, P256])
def test_a_tunnel(prf, group):
    """Key schedule, proofs of both sides and the child SA's keys, as the RFC has them."""
    caller = Caller(gateway(), prf, group)
    caller.connect()
    answer = caller.sign_in()
    identity = answer.body(36)
    assert caller.shared_key_auth(KEY, False, identity)[1] == answer.body(AUTH_PAYLOAD)
    assert b"\x0a\x42\x01\x0a" in answer.body(CP)
    (responder,) = caller.gateway.responders.values()
    sends, receives = caller.child[1]
    assert (responder.child.keys.encryption_i, responder.child.keys.encryption_r) == (sends, receives)
    packet = bytes.fromhex("4500001c") + bytes(24)
    assert esp.opens(sends, esp.seal(caller.child[0], sends, 1, packet))


def test_a_wrong_key():
    caller = Caller(gateway())
    caller.connect()
    assert caller.sign_in(key=b"another").errors == [AUTH_FAILED]


# RFC 7296 §2.5: critical payloads.


def test_critical_in_the_first_message():
    answer = Caller(gateway()).init(more=[CRITICAL])
    assert answer.errors == [UNSUPPORTED_CRITICAL]
    assert answer.told(UNSUPPORTED_CRITICAL) == bytes([UNKNOWN])


def test_critical_in_the_sign_in():
    caller = Caller(gateway())
    caller.connect()
    answer = caller.sign_in(more=[CRITICAL])
    assert (answer.errors, answer.told(UNSUPPORTED_CRITICAL)) == ([UNSUPPORTED_CRITICAL], bytes([UNKNOWN]))
    assert answer.body(SA) is None and not caller.gateway.responders


@pytest.mark.parametrize("exchange", [CHILD, INFORMATIONAL])
@pytest.mark.parametrize("where", ["inside", "in front"])
def test_critical_afterwards(exchange, where):
    """It is told, nothing of the message is done, and the tunnel stands: the next request is answered as usual."""
    caller = connected()
    delete = (DELETE, bytes([1, 0, 0, 0]))
    if where == "inside":
        answer = caller.request(exchange, [delete, CRITICAL])
    else:
        answer = caller.request(exchange, [delete], before=[CRITICAL])
    assert (answer.errors, answer.told(UNSUPPORTED_CRITICAL)) == ([UNSUPPORTED_CRITICAL], bytes([UNKNOWN]))
    assert caller.request(INFORMATIONAL, []).payloads[1:] == []
    assert not caller.request(INFORMATIONAL, [(UNKNOWN, b"not critical")]).errors


# RFC 7296 §2.21.3: authentic and malformed.

MALFORMED = {
    "a length beyond the end": (41, bytes([0, 0, 0, 200]) + bytes(4)),
    "a length of three": (41, bytes([0, 0, 0, 3])),
    "a delete that announces more": (42, bytes([0, 0, 0, 8, 3, 4, 0, 9])),
    "something behind the last": (41, bytes([0, 0, 0, 8, 0, 0, 0x40, 0]) + b"more"),
}


@pytest.mark.parametrize("inner", MALFORMED.values(), ids=list(MALFORMED))
@pytest.mark.parametrize("exchange", [INFORMATIONAL, CHILD])
def test_malformed_and_authentic(inner, exchange):
    """Answered with INVALID_SYNTAX, and asked again with the same; then the IKE SA is gone without a DELETE."""
    caller = connected()
    assert caller.request(exchange, [], inner=inner).errors == [INVALID_SYNTAX]
    while caller.gateway.next_event():
        pass
    assert not caller.gateway.responders
    assert caller.request(INFORMATIONAL, []) is None and caller.pending == []


def test_malformed_in_the_sign_in():
    caller = Caller(gateway())
    caller.connect()
    assert caller.request(AUTH, [], inner=MALFORMED["a length of three"]).errors == [INVALID_SYNTAX]
    while caller.gateway.next_event():
        pass
    assert not caller.gateway.responders


def test_malformed_and_not_authentic():
    """A stranger's malformed message is met with silence, and harms nobody."""
    caller = connected()
    data = bytearray(caller.seal(INFORMATIONAL, 2, [], False, inner=MALFORMED["a length of three"]))
    data[-1] ^= 1
    assert caller.ask(bytes(data)) == []
    assert not caller.request(INFORMATIONAL, []).errors


# RFC 7296 §1.3.3: renewing the child SA.


@pytest.mark.parametrize(
    ("groups", "value", "chosen"),
    [
        ((X25519,), X25519, X25519),
        ((P256,), P256, P256),
        ((0,), 0, 0),
        ((X25519, 0), 0, 0),
        ((P256, X25519), P256, P256),
        ((0, P256), P256, P256),
        ((0, P256), 0, 0),
    ],
)
def test_renewals_as_other_callers_ask_for_them(groups, value, chosen):
    """Any group of the gateway's, or no key exchange at all."""
    caller = connected()
    answer = caller.rekey(groups, value)
    assert not answer.errors
    assert answer.groups == [[chosen] if chosen else []]
    assert (answer.body(KE) is not None) == bool(chosen)


def test_a_renewal_with_another_value():
    """The group that is wanted is named, and taken when it comes."""
    caller = connected(ike_offers=(Offer(((20, 256),), (), (5,), (31,)),))
    answer = caller.rekey((X25519,), P256)
    assert answer.told(INVALID_KE) == X25519.to_bytes(2)
    assert not caller.rekey((X25519,), X25519).errors


def test_a_renewal_that_is_not_agreed_on():
    caller = connected(ike_offers=(Offer(((20, 256),), (), (5,), (31,)),))
    assert caller.rekey((P256,), P256).errors == [NO_PROPOSAL]
    assert not caller.rekey((X25519,), X25519).errors


@pytest.mark.parametrize("group", [X25519, P256])
def test_a_renewed_ike_sa(group):
    """RFC 7296 §1.3.2, §2.18: new keys from the old SK_d, messages numbered anew; child SAs are renewed by it."""
    caller = connected()
    assert not caller.rekey_ike(group).errors
    assert caller.request(INFORMATIONAL, []).payloads[1:] == []
    assert not caller.rekey((P256,), P256).errors
    assert not caller.rekey_ike(X25519).errors
    assert caller.request(INFORMATIONAL, [(DELETE, bytes([1, 0, 0, 0]))]).errors == []
    while caller.gateway.next_event():
        pass
    assert not caller.gateway.responders


# RFC 7296 §2.10: nonces.


@pytest.mark.parametrize(
    ("prf", "size", "good"), [(5, 16, True), (7, 16, False), (7, 31, False), (7, 32, True), (7, 256, True)]
)
def test_nonces_against_the_function(prf, size, good):
    answer = Caller(gateway(), prf).init(nonce=os.urandom(size))
    assert answer.errors == ([] if good else [INVALID_SYNTAX])


def test_a_short_nonce_in_a_renewal():
    caller = connected(prf=7)
    assert caller.rekey(nonce=os.urandom(20)).errors == [INVALID_SYNTAX]


# RFC 7296 §2.19: traffic selectors.


def test_what_is_granted():
    """The caller gets its own address and no more, whatever it asks for."""
    caller = Caller(gateway())
    caller.connect()
    answer = caller.sign_in(ranges=(WHOLE4, selector(b"\x0a\0\0\0", b"\x0a\xff\xff\xff")))
    assert answer.body(TSI)[4:].count(b"\x0a\x42\x01\x0a\x0a\x42\x01\x0a") == 1
    assert answer.body(TSI)[0] == 1


@pytest.mark.parametrize("only", [{"protocol": 17}, {"ports": (80, 80)}])
def test_selectors_for_some_protocol_or_port(only):
    """They cannot be granted whole, and are not."""
    caller = Caller(gateway())
    caller.connect()
    assert caller.sign_in(ranges=(selector(bytes(4), b"\xff" * 4, **only),)).errors == [38]


# RFC 9242 §3.3.2: the encrypted payload is not the first one.


@pytest.mark.parametrize("before", [(), ((43, b"somebody's gateway"),), ((43, b"one"), (43, b"two" * 40))], ids=len)
def test_payloads_in_front_of_the_encrypted_one(before):
    """IKE_INTERMEDIATE with ML-KEM-768: AUTH covers what is in front as well."""
    hybrid = (Offer(((20, 256),), (), (5,), (31,), extra=(36,)),)
    caller = Caller(gateway(ike_offers=hybrid), extra=[(6, ML_KEM)])
    caller.connect(more=[(41, b"\0\0" + (16438).to_bytes(2))])
    key = mlkem.MLKEM768PrivateKey.generate()
    value = (KE, ML_KEM.to_bytes(2) + b"\0\0" + key.public_key().public_bytes_raw())
    answer = caller.request(INTERMEDIATE, [value], before=before)
    caller.note_between([value], 1, own=True, before=before)
    caller.note_between(answer, 1, own=False)
    caller.make_keys(key.decapsulate(answer.body(KE)[4:]), caller.keys["d"])
    assert not caller.sign_in().errors


# Names and signatures of a caller's certificate.

AUTHORITY = Issuer(name("Survey Authority", "Tidewrack Survey", "NO"))
HERON = {"common": "heron", "organisation": "Tidewrack Survey", "country": "NO"}


@pytest.mark.parametrize(
    ("told", "good"),
    [
        (name(**HERON, kind=PRINTABLE), True),
        (name(**HERON, kind=UTF8), True),
        (name(**HERON, kind=UTF8, fold=str.upper), True),
        (name(**HERON, kind=UTF8, fold=lambda value: "  " + value.replace(" ", "   ")), True),
        (x509.Name(list(name(**HERON))[:2]), False),
        (x509.Name(list(name(**HERON))[::-1]), False),
    ],
    ids=["the same", "UTF8String", "capitals", "white space", "a part", "another order"],
)
@pytest.mark.parametrize("null", [True, False], ids=["NULL", "absent"])
def test_a_callers_name_and_signature(told, good, null):
    """RFC 5280 §7.1 on distinguished names; RFC 4055 §2.1 on the parameters of RSASSA-PSS, here SHA-512 with salt 32."""
    key = make_key("rsa")
    certificate = AUTHORITY.issue(key, name(**HERON, kind=PRINTABLE))
    callers = Callers(anchors=(AUTHORITY.certificate,), wall_time=lambda: datetime.now(UTC))
    caller = Caller(gateway(callers=callers))
    caller.connect()
    identity = b"\x09\0\0\0" + told.public_bytes()
    payloads = caller.auth_payloads(identity=identity)
    algorithm = pss(hashes.SHA512, 32, null=null)
    payloads[1] = (AUTH_PAYLOAD, sign(key, caller.signed(True, identity), algorithm, hashes.SHA512, 32))
    payloads.insert(1, (CERT, b"\x04" + certificate))
    assert caller.request(AUTH, payloads).errors == ([] if good else [AUTH_FAILED])


def test_the_first_message_again():
    """The same IKE_SA_INIT gets the same answer; a changed one for the same SPI gets none."""
    caller = Caller(gateway())
    answer = caller.init()
    assert caller.ask(caller.own_init, 500) == [answer.raw]
    assert caller.ask(caller.own_init[:-1] + b"\7", 500) == []
