"""A second key exchange between IKE_SA_INIT and IKE_AUTH: ML-KEM-768 beside a curve (RFC 9242, RFC 9370)."""

from __future__ import annotations

import hmac
from dataclasses import replace
from pathlib import Path

import cryptography_vectors
import pytest
from cryptography.hazmat.primitives.asymmetric.mlkem import MLKEM768PrivateKey

from support import Wire, initiator_config, responder_config
from zesty_burrow.core.crypto.key_exchange import MlKem768, encapsulate
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import GatewayProtocolError, Malformed, NoAgreement
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Failed, Negotiated
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.machine.ike_sa import FRAGMENT_SIZE, IkeSa
from zesty_burrow.protocols.ikev2.machine.intermediate import Intermediate
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import (
    Header,
    build_clear,
    build_sealed,
    chain,
    open_chunk,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import KeyExchange, Transform
from zesty_burrow.protocols.ikev2.wire.proposals import build_proposals, choose
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, Flag, NotifyType, Protocol

PLAIN = Offer(((20, 256), (20, 128)), (), (5,), (31, 19))
HYBRID = replace(PLAIN, extra=(36,))
VECTORS = Path(cryptography_vectors.__file__).parent / "asymmetric" / "MLKEM" / "kat_MLKEM_768.rsp"


def rows(count=10):
    """The first vectors of the published file."""
    found = []
    for block in VECTORS.read_text().split("\n\n"):
        fields = dict(line.split(" = ", 1) for line in block.splitlines() if " = " in line)
        if "ct" in fields:
            found.append(fields)
    return found[:count]


@pytest.mark.parametrize("row", rows(), ids=lambda row: row["count"])
def test_published_vectors(row):
    """The key from its seed, and what is inside a ciphertext."""
    seed = bytes.fromhex(row["d"] + row["z"])
    own = MlKem768(lambda size: seed[:size])
    assert own.public.hex() == row["pk"].lower()
    assert own.shared(bytes.fromhex(row["ct"])).hex() == row["ss"].lower()


def hybrid(seed=1, ours=(HYBRID,), theirs=(HYBRID, PLAIN), **changes):
    return Wire(initiator_config(ike_offers=ours, **changes), responder_config(ike_offers=theirs), seed=seed)


def both_stand(wire):
    assert wire.error is None, wire.error
    answering = next(iter(wire.gateway.responders.values()))
    assert wire.initiator.keys == answering.keys
    assert wire.told(ChildEstablished).keys == answering.child.keys
    return answering


@pytest.mark.parametrize("seed", range(3))
def test_a_hybrid_negotiation(seed):
    """Five exchanges become six; the suite says so; the keys are not those of the curve alone."""
    wire = hybrid(seed).connect()
    both_stand(wire)
    suite = wire.told(Negotiated).suite
    assert suite.extra == 36
    assert suite_strength(suite) == 192
    kinds = [
        parse_message_untrusted(data[-len(data) + 4 * (port == 4500) :]).header.exchange for _, port, data in wire.seen
    ]
    assert ExchangeType.IKE_INTERMEDIATE in kinds
    plain = hybrid(seed, ours=(PLAIN,)).connect()
    both_stand(plain)
    assert plain.told(Negotiated).suite.extra == 0
    assert suite_strength(plain.told(Negotiated).suite) == 128


def test_additional_exchanges_that_may_be_left_out():
    """RFC 9370 §2.2.1: with NONE beside it an exchange is taken where both can and left out where one cannot."""
    (proposal,) = build_proposals((HYBRID,), Protocol.IKE, b"")
    none = tuple(Transform(kind, 0) for kind in (6, 7, 8))
    optional = replace(proposal, transforms=(*proposal.transforms, *none))
    for ours, extra in ((HYBRID, 36), (PLAIN, 0)):
        answer, suite = choose([optional], [ours], Protocol.IKE)
        assert suite.extra == extra
        kinds = [one for one in answer.transforms if one.type >= 6]
        assert kinds == [Transform(6, extra), Transform(7, 0), Transform(8, 0)]
    # What is insisted on and not known here is refused; and nothing less than was asked for is taken for hybrid.
    strict = replace(proposal, transforms=(*proposal.transforms, Transform(7, 35)))
    assert choose([strict], [HYBRID, PLAIN], Protocol.IKE) is None
    less = replace(optional, transforms=tuple(one for one in optional.transforms if one.number != 36))
    assert choose([less], [HYBRID], Protocol.IKE) is None
    assert choose([less], [HYBRID, PLAIN], Protocol.IKE)[1].extra == 0


def test_each_with_a_gateway_that_cannot():
    """Where both are offered the plain one is taken; where only the hybrid is, nothing is agreed."""
    wire = hybrid(ours=(HYBRID, PLAIN), theirs=(PLAIN,)).connect()
    both_stand(wire)
    wire = hybrid(ours=(HYBRID,), theirs=(PLAIN,)).connect()
    assert isinstance(wire.error, NoAgreement)


@pytest.mark.parametrize("seed", range(8))
def test_on_a_bad_network(seed):
    """20 % loss, doubling and reordering: answers are sent again, though the keys have changed since."""
    wire = hybrid(seed)
    wire.loss, wire.doubling, wire.jitter = 0.2, 0.2, 0.3
    both_stand(wire.connect())


def test_in_parts(monkeypatch):
    """The values are long: in fragments, and what AUTH covers is the same."""
    monkeypatch.setattr(IkeSa, "fragment_size", 400)
    wire = hybrid().connect()
    both_stand(wire)
    assert max(len(data) for _, port, data in wire.seen if port == 4500) <= 404 < FRAGMENT_SIZE


def test_keys_by_hand():
    """RFC 9370 §2.2.2: SKEYSEED(1) = prf(SK_d(0), SK(1) | Ni | Nr)."""
    suite = Suite(20, 256, prf=5, group=31, extra=36)
    before = derive_ike_keys(suite, b"s" * 32, b"a" * 32, b"b" * 32, b"1" * 8, b"2" * 8)
    after = derive_ike_keys(suite, b"k" * 32, b"a" * 32, b"b" * 32, b"1" * 8, b"2" * 8, before)
    seed = hmac.digest(before.sk_d, b"k" * 32 + b"a" * 32 + b"b" * 32, "sha256")
    assert after.sk_d == hmac.digest(seed, b"a" * 32 + b"b" * 32 + b"1" * 8 + b"2" * 8 + b"\x01", "sha256")


def test_what_is_authenticated_by_hand():
    """RFC 9242 §3.3.2, octet by octet: lengths as if nothing were encrypted, whatever the cipher adds."""
    suite = Suite(20, 256, prf=5, group=31, extra=36)
    keys = derive_ike_keys(suite, b"s" * 32, b"a" * 32, b"b" * 32, b"1" * 8, b"2" * 8)
    ours, theirs = IkeSa(bytes, is_initiator=True), IkeSa(bytes, is_initiator=False)
    for sa in (ours, theirs):
        sa.spi_i, sa.spi_r = b"1" * 8, b"2" * 8
        sa.use_keys(keys)
    payloads = [KeyExchange(36, b"value")]
    header = ours.header(ExchangeType.IKE_INTERMEDIATE, 1, response=False)
    message = parse_message_untrusted(ours.seal(ExchangeType.IKE_INTERMEDIATE, 1, payloads, response=False)[0])
    inner = b"\0\0\0\x0d" + b"\0\x24\0\0" + b"value"
    plain = (
        b"1" * 8 + b"2" * 8 + bytes([46, 0x20, 43, Flag.INITIATOR]) + (1).to_bytes(4) + (28 + 4 + len(inner)).to_bytes(4)
        + bytes([34, 0]) + (4 + len(inner)).to_bytes(2) + inner
    )  # fmt: skip
    expected = hmac.digest(keys.sk_pi, plain, "sha256")
    one, other = Intermediate(), Intermediate()
    one.note_own(keys, header, payloads, initiator=True)
    other.note_peer(keys, theirs, message, initiator=True)
    assert one.octets == other.octets == expected + (2).to_bytes(4)
    assert Intermediate().octets == b""


@pytest.mark.parametrize("to_gateway", [True, False])
def test_a_changed_value_is_noticed(to_gateway):
    """Somebody who had broken the curve puts in a value of his own: the AUTH payloads do not fit, nothing stands."""
    wire = hybrid()
    ends = {}

    def tamper(data, forward):
        raw = data[4:] if data[:4] == bytes(4) else data
        message = parse_message_untrusted(raw)
        if message.header.exchange != ExchangeType.IKE_INTERMEDIATE or forward is not to_gateway or message.fragments:
            return data
        answering = next(iter(wire.gateway.responders.values()))
        keys = ends.setdefault("keys", wire.initiator.keys)
        plaintext = open_chunk(message, keys.protection(forward, bytes))
        assert answering is not None
        other = MlKem768(lambda size: b"\7" * size)
        value = other.public if forward else encapsulate(wire.initiator.init.extra.public)[0]
        assert value not in plaintext
        header = Header(message.header.initiator_spi, message.header.responder_spi, 43, message.header.flags, 1)
        sealed = build_sealed(
            header, *chain([KeyExchange(36, value)]), keys.protection(forward, lambda size: b"\1" * size)
        )
        return bytes(4) + sealed

    wire.tamper = tamper
    wire.initiator.sa.fragment_size = 4000
    original, IkeSa.fragment_size = IkeSa.fragment_size, 4000
    try:
        wire.connect()
    finally:
        IkeSa.fragment_size = original
    assert "keys" in ends
    assert wire.told(ChildEstablished) is None


@pytest.mark.parametrize("value", [b"", bytes(1087), bytes(1089)])
def test_values_of_the_wrong_size(value):
    with pytest.raises(Malformed, match="1088"):
        MlKem768(lambda size: bytes(size)).shared(value)


@pytest.mark.parametrize("value", [b"", bytes(1183), b"\xff" * 1184])
def test_keys_that_are_none(value):
    """FIPS 203 §7.2: the length and the range of the numbers in it are checked."""
    with pytest.raises(Malformed, match="no key"):
        encapsulate(value)


def test_ciphertexts_are_of_the_right_size():
    own = MLKEM768PrivateKey.generate()
    ciphertext, secret = encapsulate(own.public_key().public_bytes_raw())
    assert own.decapsulate(ciphertext) == secret
    assert len(ciphertext) == MlKem768.CIPHERTEXT


def test_a_caller_that_leaves_it_out():
    """A gateway that has agreed on a second exchange lets nobody sign in without it."""
    wire = hybrid()
    wire.initiator.init.begin_intermediate = lambda now: State.PROOF_AWAITED
    wire.connect()
    assert wire.told(ChildEstablished) is None
    refused = next(event for event in wire.gateway_events if isinstance(event, Failed))
    assert "left out" in refused.error.why
    assert wire.gateway.responders == {}


def test_a_gateway_without_the_exchange():
    """It chooses ML-KEM and does not say that it knows IKE_INTERMEDIATE: that is told, and nothing goes on."""
    wire = hybrid()

    def tamper(data, to_gateway):
        if to_gateway or data[18] != ExchangeType.IKE_SA_INIT:
            return data
        message = parse_message_untrusted(data)
        missing = NotifyType.INTERMEDIATE_EXCHANGE_SUPPORTED
        return build_clear(
            message.header, [one for one in message.payloads if getattr(one, "notification", 0) != missing]
        )

    wire.tamper = tamper
    wire.connect()
    assert isinstance(wire.error, GatewayProtocolError)
    assert "RFC 9370" in wire.error.why
    assert wire.initiator.state is State.CLOSED
