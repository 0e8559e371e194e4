"""Both ends of L2TP over IPsec back to back: sign-ins, proofs, algorithms, new keys, loss, silence, ends."""

from __future__ import annotations

import json
from ipaddress import ip_network

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from http_ends import AUTHORITY, certificate, client_key
from l2tp_ends import GATEWAY, GROUP_KEY, HERE, INNER, NAME, PASSWORD, Wire, a_profile, a_session, gateway_config
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.profile import Traffic
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    GatewayNotProven,
    GatewayUnreachable,
    NoAgreement,
    ProfileInvalid,
    SignInRefused,
)
from zesty_burrow.lab.authority import make_authority, make_key
from zesty_burrow.protocols.session import ChannelChanged, Moved, Negotiated, NetworkSettings, Rekeyed, SessionRequest

STEPS = ["reach", "negotiate", "prove", "sign in"]
LISTS = {"encryption": ((12, 128),), "integrity": ((12, 0),), "key_exchange": ((14, 0),)}


def suites_of(wire):
    last = [one for one in wire.events if isinstance(one, Negotiated | Rekeyed)][-1]
    return {one.label: str(one.suite) for one in last.suites}


@pytest.mark.parametrize("method", ["ms-chap-v2", "chap", "pap"])
@pytest.mark.parametrize("numbered", [False, True])
def test_up(method, numbered):
    """In order; both families; name servers; packets both ways; an end that the gateway hears of."""
    wire = Wire(a_profile(method), gateway_config(method, numbered=numbered)).connect()
    assert wire.steps == STEPS
    assert wire.up.network == INNER
    assert suites_of(wire) == {
        "IKE": "ENCR_AES_CBC 256, AUTH_HMAC_SHA2_256_128, PRF_HMAC_SHA2_256, 256-bit random ECP group",
        "ESP": "ENCR_AES_GCM_16 256",
    }
    assert wire.noticed == {"ikev1-used"}
    assert wire.gateway.callers[0].account == NAME
    wire.packets_pass()
    wire.session.close(wire.now)
    wire.run(5)
    assert wire.down.error is None and not wire.down.by_peer
    assert not wire.gateway.callers
    assert wire.session.next_timer() is None and wire.session.send(wire.now) == []


@pytest.mark.parametrize("seed", range(12))
def test_a_lossy_path(seed):
    """A fifth is lost, a tenth comes twice, all of it in any order."""
    wire = Wire(seed=seed, loss=0.2, doubling=0.1, jitter=0.3, timeout=30.0).connect()
    assert wire.steps == STEPS
    assert wire.up.network.addresses[0] == INNER.addresses[0]
    wire.loss = 0.0
    wire.run(3)
    wire.packets_pass()


@pytest.mark.parametrize(
    ("chain", "code"),
    [
        (None, ""),
        ((certificate(name="parked.quillwort.example"),), "certificate-wrong-name"),
        ((certificate(authority=make_authority("Somebody Else")),), "certificate-untrusted"),
        ((certificate(start_days=-92, end_days=-1),), "certificate-expired"),
    ],
    ids=["good", "another name", "another authority", "expired"],
)
def test_by_certificate(chain, code):
    """The same rules as for every protocol; name and password never go to a gateway that did not prove itself."""
    wire = Wire(a_profile(proof="certificate"), gateway_config(shown=chain), own=client_key()).connect()
    if not code:
        assert wire.steps == STEPS
        wire.packets_pass()
        return
    assert isinstance(wire.error, GatewayNotProven)
    assert wire.error.slug == code
    assert wire.steps == STEPS[:2]
    assert not any(port == 4500 and data[:4] != bytes(4) for to_gateway, port, data in wire.seen if to_gateway)


def test_keys_that_cannot_sign():
    """IKEv1 knows RSA and ECDSA alone: said before anything is sent."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    key = Ed25519PrivateKey.generate()
    from dataclasses import replace

    from http_ends import pem_of
    from zesty_burrow.core.secret import Secret

    own = replace(client_key(), key=Secret(pem_of(key)))
    with pytest.raises(ProfileInvalid, match="cannot sign"):
        a_session(a_profile(proof="certificate"), own=own)


def test_an_rsa_gateway(monkeypatch):
    """RFC 2409 §5.1: the bare hash in PKCS #1 form; both sides' keys are of the same kind."""
    import http_ends
    import l2tp_ends

    rsa = make_key("rsa")
    monkeypatch.setattr(l2tp_ends, "KEY", rsa)
    shown = certificate(key=rsa)
    mine = make_key("rsa")
    from cryptography.hazmat.primitives.serialization import Encoding

    from zesty_burrow.core.credentials import ClientKey
    from zesty_burrow.core.secret import Secret

    own_certificate = certificate(AUTHORITY, "heron.tidewrack.example", key=mine)
    own = ClientKey(Secret(http_ends.pem_of(mine)), (own_certificate.public_bytes(Encoding.PEM).decode(),))
    wire = Wire(a_profile(proof="certificate"), gateway_config(shown=(shown,)), own=own).connect()
    assert wire.steps == STEPS
    wire.packets_pass()


def test_another_shared_key():
    """The gateway does not answer the proof: said as that, and neither name nor password has gone anywhere."""
    wire = Wire(shared="blue whale, twice").connect()
    assert isinstance(wire.error, SignInRefused)
    assert wire.error.slug == "shared-key-wrong"
    assert wire.steps == STEPS[:2]
    assert all(data[:4] == bytes(4) for to_gateway, port, data in wire.seen if port == 4500)


@pytest.mark.parametrize("method", ["ms-chap-v2", "chap", "pap"])
def test_another_password(method):
    """Refused by the gateway's own words, once it has proven itself."""
    wire = Wire(a_profile(method), gateway_config(method), password="something else").connect()
    assert isinstance(wire.error, SignInRefused)
    assert "Name or password is wrong" in wire.error.why
    assert PASSWORD not in str(wire.error) and "something else" not in str(wire.error)
    assert wire.steps == STEPS[:3]


@pytest.mark.parametrize(("allowed", "wanted"), [("ms-chap-v2", "pap"), ("ms-chap-v2", "chap"), ("chap", "pap")])
def test_a_weaker_sign_in_than_allowed(allowed, wanted):
    """A gateway that wants the password in a weaker way than the profile says does not get it."""
    wire = Wire(a_profile(allowed), gateway_config(wanted)).connect()
    assert isinstance(wire.error, SignInRefused)
    assert f"by {wanted}, which is not allowed here" in wire.error.why
    assert wire.steps == STEPS[:3]


@pytest.mark.parametrize(("allowed", "wanted"), [("pap", "ms-chap-v2"), ("pap", "chap"), ("chap", "ms-chap-v2")])
def test_a_stronger_sign_in_than_asked_for(allowed, wanted):
    """What is stronger is always taken."""
    wire = Wire(a_profile(allowed), gateway_config(wanted)).connect()
    assert wire.steps == STEPS


def test_only_weak_algorithms():
    """Refused by a profile without the explicit word; taken with it, and said as long as it is up."""
    weak = {"encryption": ((3, 0),), "integrity": ((1, 0),), "key_exchange": ((2, 0),)}
    refused = Wire(a_profile(), gateway_config(**weak)).connect()
    assert isinstance(refused.error, NoAgreement)
    assert "NO-PROPOSAL-CHOSEN" in refused.error.why
    wire = Wire(a_profile(weak_algorithms=True), gateway_config(**weak)).connect()
    assert suites_of(wire) == {
        "IKE": "ENCR_3DES, AUTH_HMAC_MD5_96, PRF_HMAC_MD5, 1024-bit MODP Group",
        "ESP": "ENCR_3DES, AUTH_HMAC_MD5_96",
    }
    assert wire.noticed == {"ikev1-used", "weak-agreed"}
    wire.packets_pass()


def test_what_is_stronger_is_taken_first():
    """Weak ones are offered, and not taken where the gateway knows better."""
    wire = Wire(a_profile(weak_algorithms=True)).connect()
    assert suites_of(wire)["ESP"] == "ENCR_AES_GCM_16 256"
    assert wire.noticed == {"ikev1-used"}


@pytest.mark.parametrize("number", [12, 13, 14, 2])
@pytest.mark.parametrize("bits", [128, 256])
def test_every_hash(number, bits):
    """Each hash with AES-CBC, in IKE and in ESP."""
    own = {"encryption": ((12, bits),), "integrity": ((number, 0),), "key_exchange": ((14, 0),)}
    wire = Wire(a_profile(weak_algorithms=True, **own), gateway_config(**own)).connect()
    assert wire.steps == STEPS
    wire.packets_pass()


@pytest.mark.parametrize("group", [2, 5, 14, 15, 16, 19, 20])
def test_every_group(group):
    own = {**LISTS, "key_exchange": ((group, 0),)}
    wire = Wire(a_profile(weak_algorithms=True, **own), gateway_config(**own)).connect()
    assert wire.steps == STEPS


@pytest.mark.parametrize("side", ["session", "gateway"])
def test_new_keys(side):
    """For ESP and for IKE, asked for by either end, under loss: what was sealed under the old keys still comes in."""
    wire = Wire(loss=0.1, jitter=0.1, seed=5, timeout=30.0).connect()
    ends = {"session": wire.session.layers.ike, "gateway": wire.gateway.callers[0].layers.ike}
    before = wire.session.channel.labels
    late = wire.far.seal(late_packet(), wire.now)
    ends[side].rekey(wire.now)
    wire.run(4)
    assert wire.session.channel.labels > before
    assert wire.session.channel.open(late, wire.now) == late_packet()
    wire.packets_pass()
    wire.run(20)
    assert any(isinstance(one, Rekeyed) for one in wire.events)
    assert any(isinstance(one, ChannelChanged) for one in wire.events)
    cookies = ends["session"].associations[-1].cookies
    ends[side].rekey_ike(wire.now)
    wire.run(20)
    for end in ends.values():
        assert len(end.associations) == 1 and end.associations[-1].cookies != cookies
    ends[side].rekey(wire.now)
    wire.run(20)
    wire.packets_pass()
    assert wire.down is None


def late_packet():
    from l2tp_ends import ip4

    return ip4("203.0.113.10", "10.66.6.10", 30)


def test_new_keys_in_time():
    """By the clock: ESP's keys every minute, IKE's every five, and never more pairs than are needed."""
    own = a_profile(child_seconds=60, ike_seconds=300)
    wire = Wire(own, gateway_config(child_seconds=60, ike_seconds=300)).connect()
    cookies = wire.session.layers.ike.associations[-1].cookies
    counts = []
    for _ in range(40):
        wire.run(20)
        wire.packets_pass()
        counts.append(len(wire.session.channel.labels))
    assert max(counts) == 2
    assert wire.session.layers.ike.associations[-1].cookies != cookies
    renewed = sum(isinstance(one, Rekeyed) for one in wire.events)
    assert 14 <= renewed <= 30
    assert wire.down is None


@pytest.mark.parametrize("knows_probes", [True, False])
def test_a_silent_gateway(knows_probes, monkeypatch):
    """Asked by DPD where it knows that (RFC 3706), and by PPP's echo in any case; then it is lost."""
    wire = Wire(a_profile(peer_seconds=30)).connect()
    if not knows_probes:
        wire.session.layers.ike.liveness.is_watching = False
    wire.run(100)
    assert wire.down is None
    wire.is_cut = True
    wire.run(15)
    assert wire.down is None
    wire.run(150)
    assert isinstance(wire.error, GatewayUnreachable) or "echo" in wire.down.reason


def test_an_idle_tunnel_is_kept_alive():
    """One octet for the address translation (RFC 3948 §4); nothing is lost by long silence."""
    wire = Wire().connect()
    wire.seen.clear()
    wire.run(600)
    assert wire.down is None
    assert (True, 4500, b"\xff") in wire.seen
    wire.packets_pass()


def test_a_move():
    """Another address: the gateway follows what is authentic; one that does not is given up within seconds."""
    wire = Wire().connect()
    wire.run(3)
    wire.caller = ("192.0.2.77", 1025)
    wire.session.address_changed(wire.now)
    wire.run(3)
    assert any(isinstance(one, Moved) for one in wire.events)
    assert wire.gateway.callers[0].peer == wire.caller
    wire.packets_pass()
    wire.is_cut = True
    wire.session.address_changed(wire.now)
    wire.run(6)
    assert isinstance(wire.error, GatewayUnreachable)


@pytest.mark.parametrize("how", ["close", "forget"])
def test_the_gateway_ends_it(how):
    """With a word, or as after a restart; after a restart the next question is not answered."""
    wire = Wire(a_profile(peer_seconds=30)).connect()
    getattr(wire.gateway, how)(wire.now)
    wire.run(5 if how == "close" else 120)
    assert wire.down.by_peer
    assert wire.session.send(wire.now) == []


def test_only_some_networks_and_families():
    """What is asked for alone goes in; without IPv6 nothing of it is negotiated."""
    office = Traffic(networks=(ip_network("10.20.0.0/16"),), ipv6="block")
    wire = Wire(a_profile(traffic=office)).connect()
    assert [one.version for one in wire.up.network.addresses] == [4]
    assert wire.up.remote == (AddressRange.of(ip_network("10.20.0.0/16")),)
    allowed = wire.session.channel.allows_out
    here = bytes((10, 66, 6, 10))
    assert allowed(here + bytes((10, 20, 1, 1)))
    assert not allowed(here + bytes((10, 21, 1, 1)))
    assert not allowed(bytes((10, 66, 6, 11)) + bytes((10, 20, 1, 1)))
    assert not allowed(bytes(32))


@pytest.mark.parametrize("version", [4, 6])
def test_a_gateway_with_one_family(version):
    """Up with what there is."""
    inner = NetworkSettings(tuple(one for one in INNER.addresses if one.version == version))
    wire = Wire(config=gateway_config(inner=inner)).connect()
    assert wire.up.network.addresses == inner.addresses
    assert {one.version for one in wire.up.remote} == {version}


def test_a_gateway_with_no_address():
    wire = Wire(config=gateway_config(inner=None)).connect()
    assert isinstance(wire.error, GatewayError)


def test_nothing_before_the_proof_tells_who_it_is():
    """Before IPsec stands neither name nor password are on the wire in any form; under it nothing is readable."""
    wire = Wire(a_profile("pap"), gateway_config("pap")).connect()
    assert wire.up
    everything = b"".join(data for _, _, data in wire.seen)
    for secret in (NAME, NAME.rpartition("\\")[2], PASSWORD, GROUP_KEY):
        assert secret.encode() not in everything


@pytest.mark.parametrize("seed", range(6))
def test_octets_changed_on_their_way(seed):
    """Whatever is changed on its way is dropped: it comes up by what is repeated, or says why it does not."""
    wire = Wire(seed=seed, timeout=10.0)
    import random

    chance = random.Random(seed)

    def tamper(data, to_gateway):
        if chance.random() < 0.3 and len(data) > 1:
            at = chance.randrange(len(data))
            return data[:at] + bytes([data[at] ^ 1 << chance.randrange(8)]) + data[at + 1 :]
        return data

    wire.tamper = tamper
    wire.connect()
    assert wire.up or isinstance(wire.error, BurrowError)


@settings(max_examples=150)
@given(
    st.lists(st.tuples(st.binary(max_size=200), st.booleans(), st.sampled_from([500, 4500])), max_size=8),
    st.integers(0, 12),
)
def test_arbitrary_octets(messages, when):
    """At any moment, from the gateway or to it: nothing is raised, and what is under way goes on."""
    wire = Wire(seed=3)
    for _ in range(when):
        wire.run(0.005)
    for data, at_gateway, port in messages:
        if at_gateway:
            wire.gateway.receive(data, HERE, wire.now, port)
        else:
            wire.session.receive(data, (GATEWAY, port), wire.now)
            wire.session.receive(bytes(4) + data, (GATEWAY, 4500), wire.now)
    wire.connect()
    assert wire.up or wire.error


@settings(max_examples=60)
@given(st.integers(0, 40), st.integers(1, 400), st.integers(0, 7), st.booleans())
def test_true_messages_cut_and_changed(place, cut, bit, both):
    """True messages, cut short or with a bit turned, beside the true ones: they change nothing."""
    wire = Wire(seed=4)
    seen = iter(range(10_000))

    def tamper(data, to_gateway):
        if next(seen) == place:
            spoilt = data[:cut] if not both else data[: cut % len(data)] + bytes([data[cut % len(data)] ^ 1 << bit])
            target = wire.gateway.receive if to_gateway else wire.session.receive
            source = HERE if to_gateway else (GATEWAY, 4500)
            target(spoilt, source, wire.now, 4500)
        return data

    wire.tamper = tamper
    wire.connect()
    assert wire.up


def test_many_callers_and_those_who_never_come_up():
    """A gateway keeps its places: who does not finish is forgotten; the bound holds."""
    from zesty_burrow.protocols.l2tp_ipsec import gateway_session

    wire = Wire()
    first = wire.session.send(wire.now)[0].data
    for number in range(gateway_session.MOST_CALLERS + 20):
        wire.gateway.receive(number.to_bytes(8) + first[8:], ("192.0.2.9", 500 + number), wire.now, 500)
    assert len(wire.gateway.send(wire.now)) == gateway_session.MOST_CALLERS
    wire.now += 40
    wire.gateway.handle_timer(wire.now)
    assert wire.gateway.next_timer() is None
    fresh = Wire(seed=9)
    fresh.gateway = wire.gateway
    assert fresh.connect().up


def test_keys_for_an_analyser():
    """Only what there is; in a form that says what is what."""
    wire = Wire().connect()
    document = json.loads(wire.session.exported_keys())
    assert len(document["esp"]) == 2
    assert document["ikev1"]["encryption"] == "ENCR_AES_CBC 256"
    assert len(bytes.fromhex(document["ikev1"]["encryption_key"])) == 32
    fresh = a_session(a_profile())
    assert json.loads(fresh.exported_keys()) == {"format": 1, "esp": []}


def test_another_machine_at_the_gateways_address():
    """What comes from elsewhere is not listened to."""
    wire = Wire()
    answers = []
    wire.collect()
    for data in [entry[2] for entry in wire.flying]:
        wire.gateway.receive(data, HERE, wire.now, 500)
        answers += wire.gateway.send(wire.now)
    wire.session.receive(answers[0].data, ("203.0.113.5", 500), wire.now)
    assert wire.session.send(wire.now) == []
    wire.session.receive(answers[0].data, (GATEWAY, 500), wire.now)
    assert len(wire.session.send(wire.now)) == 1


def test_what_a_profile_lacks():
    """Without a name there is nobody to sign in."""
    from datetime import UTC, datetime

    from zesty_burrow.protocols.registry import protocol

    with pytest.raises(ProfileInvalid, match="name and a password"):
        protocol("l2tp-ipsec").session(a_profile(), SessionRequest(GATEWAY, {}, datetime.now(UTC), 1.0), bytes)
