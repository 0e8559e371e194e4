"""Initiator and gateway back to back: every suite, every accident of a network, every state and signal."""

from __future__ import annotations

from dataclasses import replace
from operator import attrgetter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import (
    AUTHORITY,
    CALLER,
    CERTIFICATE,
    ESP_GCM,
    GATEWAY,
    GCM,
    HOST,
    INNER,
    KEY,
    PASSWORD,
    WHOLE,
    Wire,
    initiator_config,
    responder_config,
    seeded,
)
from zesty_burrow.core.credentials import PreSharedKey
from zesty_burrow.core.eap.password import PasswordServer
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import (
    GatewayProtocolError,
    GatewayUnreachable,
    Malformed,
    NoAgreement,
    ProgramFault,
    SignInRefused,
)
from zesty_burrow.lab.authority import issue, make_key
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Closed, Failed, Negotiated, Proven, Reached, SignedIn
from zesty_burrow.protocols.ikev2.initiator import table
from zesty_burrow.protocols.ikev2.initiator.initiator import Initiator
from zesty_burrow.protocols.ikev2.initiator.table import TRANSITIONS, Signal, State
from zesty_burrow.protocols.ikev2.machine.authentication import Callers
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff
from zesty_burrow.protocols.ikev2.responder import responder
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway
from zesty_burrow.protocols.ikev2.wire.message import (
    Header,
    build_clear,
    build_sealed,
    chain,
    open_chunk,
    parse_inner_untrusted,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, Nonce, Notify
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, Flag, NotifyType, notify_in_words
from zesty_burrow.protocols.session import NetworkSettings

CBC = Offer(((12, 256),), (12,), (5,), (14,))
SUITES = [
    (Offer(((cipher, bits),), integrity, (prf,), (group,)), Offer(((cipher, bits),), integrity, esn=(0,)))
    for cipher, integrity in ((20, ()), (12, (12,)))
    for bits in (128, 256)
    for prf, group in ((5, 31), (6, 19), (7, 14))
]


def test_a_negotiation_tells_each_step_in_order():
    """RFC 7296 §1.2, §2.16: reached, negotiated, proven, signed in, child SA."""
    wire = Wire().connect()
    kinds = [type(event) for event in wire.events]
    assert kinds == [Reached, Negotiated, Proven, SignedIn, ChildEstablished]
    child = wire.told(ChildEstablished)
    assert child.inner == INNER
    assert [entry.start for entry in child.local] == [one.ip.packed for one in INNER.addresses]
    assert child.remote == WHOLE
    mirrored = next(event for event in wire.gateway_events if isinstance(event, ChildEstablished))
    assert (child.spi_in, child.spi_out) == (mirrored.spi_out, mirrored.spi_in)
    assert child.keys == mirrored.keys


@pytest.mark.parametrize(("ike", "esp"), SUITES, ids=lambda offer: str(offer.encryption[0]))
def test_every_suite(ike, esp):
    """Each cipher, key length, PRF and group leads to a tunnel whose two ends hold the same keys."""
    wire = Wire(
        initiator_config(ike_offers=(ike,), esp_offers=(esp,)), responder_config(ike_offers=(ike,), esp_offers=(esp,))
    ).connect()
    suite = wire.told(Negotiated).suite
    assert (suite.encryption, suite.key_bits, suite.prf, suite.group) == (*ike.encryption[0], ike.prf[0], ike.groups[0])
    child = wire.told(ChildEstablished).keys
    assert (child.suite.encryption, child.suite.key_bits) == esp.encryption[0]
    assert child.encryption_i != child.encryption_r


@pytest.mark.parametrize("kind", ["rsa", "ecdsa"])
def test_gateway_keys(kind):
    """A gateway proves itself with RSA (RSASSA-PSS) and with ECDSA (RFC 7427)."""
    key = make_key(kind)
    wire = Wire(gateway=responder_config(key=key, certificates=(issue(AUTHORITY, key, HOST),))).connect()
    assert wire.told(ChildEstablished)


def test_cookie():
    """RFC 7296 §2.6: a gateway under load asks for a cookie, and gets it back."""
    wire = Wire(gateway=responder_config(cookie_above=0)).connect()
    assert wire.told(ChildEstablished)
    first, second = (parse_message_untrusted(data) for to_gateway, _, data in wire.seen[:3] if to_gateway)
    cookies = [entry for entry in second.payloads if getattr(entry, "notification", 0) == NotifyType.COOKIE]
    assert not any(getattr(entry, "notification", 0) == NotifyType.COOKIE for entry in first.payloads)
    assert len(cookies[0].data) == 32
    assert second.payloads[0] is cookies[0]


def test_cookie_and_another_group():
    """RFC 7296 §2.6.1: INVALID_KE_PAYLOAD after COOKIE; the cookie is sent again."""
    offer = replace(GCM[0], groups=(31, 19))
    wire = Wire(
        initiator_config(ike_offers=(offer,)),
        responder_config(cookie_above=0, ike_offers=(replace(GCM[0], groups=(19,)),)),
    ).connect()
    assert wire.told(Negotiated).suite.group == 19
    assert wire.told(ChildEstablished)


def test_a_gateway_that_insists_on_a_group_that_was_not_offered():
    """A stranger cannot talk us into a group that the profile does not name."""
    wire = Wire(initiator_config(ike_offers=(replace(GCM[0], groups=(31,)),)))

    def insist(data, to_gateway):
        if to_gateway:
            return data
        header = parse_message_untrusted(data).header
        told = Notify(NotifyType.INVALID_KE_PAYLOAD, (2).to_bytes(2))
        return build_clear(Header(header.initiator_spi, bytes(8), 34, Flag.RESPONSE, 0), [told])

    wire.tamper = insist
    wire.connect()
    assert isinstance(wire.error, NoAgreement)
    assert "1024-bit MODP" in str(wire.error)


def test_no_common_algorithm():
    """NO_PROPOSAL_CHOSEN becomes words about algorithms, after a moment's wait for a better answer."""
    wire = Wire(gateway=responder_config(ike_offers=(Offer(((3, 0),), (2,), (2,), (2,)),))).connect()
    assert isinstance(wire.error, NoAgreement)
    assert "NO_PROPOSAL_CHOSEN" in str(wire.error)
    assert wire.now >= 1.0


def test_a_forged_error_does_not_end_a_good_negotiation():
    """RFC 7296 §2.21.1: an unprotected error is only a hint; the real answer that follows wins."""
    wire = Wire().start()
    header = Header(wire.initiator.sa.spi_i, bytes(8), ExchangeType.IKE_SA_INIT, Flag.RESPONSE, 0)
    forged = build_clear(header, [Notify(NotifyType.NO_PROPOSAL_CHOSEN)])
    wire.initiator.receive(forged, GATEWAY, 0.001)
    wire.run(stop=lambda one: one.initiator.state is State.ESTABLISHED)
    assert wire.told(ChildEstablished)


def test_silence():
    """RFC 7296 §2.4: sent again with growing waits, then given up with a word that names port and time."""
    wire = Wire(loss=1.0).connect()
    sent = [data for to_gateway, _, data in wire.seen if to_gateway]
    assert isinstance(wire.error, GatewayUnreachable)
    assert "UDP port 500" in str(wire.error)
    assert "15 seconds" in str(wire.error)
    assert len(sent) == 5
    assert len(set(sent)) == 1
    assert wire.now == pytest.approx(15.0)


def test_silence_after_the_first_answer():
    """A gateway that falls silent later is told with the state that was reached and port 4500."""
    wire = Wire()
    wire.tamper = lambda data, to_gateway: None if to_gateway and data[:4] == bytes(4) else data
    wire.connect()
    assert isinstance(wire.error, GatewayUnreachable)
    assert "4500" in str(wire.error)
    assert "proof awaited" in str(wire.error)


@pytest.mark.parametrize("seed", range(25))
def test_a_bad_network(seed):
    """20 % loss, doubling, delay and reordering end in a tunnel, or in a clear failure; never in between."""
    wire = Wire(seed=seed, loss=0.2, doubling=0.2, jitter=0.4).connect()
    if wire.told(ChildEstablished):
        assert wire.initiator.state is State.ESTABLISHED
    else:
        assert isinstance(wire.error, GatewayUnreachable)
    assert len(wire.gateway.responders) <= 1


def test_most_bad_networks_end_connected():
    """Of forty seeds with 10 % loss every one connects."""
    assert all(
        Wire(seed=seed, loss=0.1, doubling=0.1, jitter=0.1).connect().told(ChildEstablished) for seed in range(40)
    )


def test_wrong_password():
    """RFC 2759 §6: the gateway's words and code reach the user; the state ends closed on both sides."""
    wire = Wire(gateway=responder_config(password_of=lambda name: "another")).connect()
    assert isinstance(wire.error, SignInRefused)
    assert "error 691" in str(wire.error)
    assert "Name or password is wrong" in str(wire.error)
    assert PASSWORD not in str(wire.error)
    assert wire.gateway.responders == {}


def test_a_gateway_that_does_not_know_the_password():
    """RFC 2759 §5: a gateway that says Success without knowing the password is not believed."""
    wire = Wire()
    real = wire.gateway.config.password_of
    server_side = {"asked": 0}

    def password_of(name):
        server_side["asked"] += 1
        return real(name)

    wire.gateway.config = responder_config(password_of=password_of)
    original = PasswordServer.take

    def pretend(self, data, identifier):
        answer = original(self, data, identifier)
        return answer if isinstance(answer, bool) else answer.replace(b"S=", b"S=0", 1)[: len(answer)]

    PasswordServer.take = pretend
    try:
        wire.connect()
    finally:
        PasswordServer.take = original
    assert isinstance(wire.error, GatewayProtocolError)
    assert "does not know the password" in str(wire.error)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"assign": lambda name, _: None}, "INTERNAL_ADDRESS_FAILURE"),
        ({"esp_offers": (Offer(((12, 256),), (12,), esn=(0,)),)}, "NO_PROPOSAL_CHOSEN"),
        ({"remote": (AddressRange(b"\x0a\0\0\0", b"\x0a\0\0\0"),), "assign": lambda name, _: NetworkSettings((INNER.addresses[1],))}, "TS_UNACCEPTABLE"),
    ],
)  # fmt: skip
def test_the_child_sa_fails_alone(change, words):
    """RFC 7296 §1.2: the IKE SA stands, the child SA does not; the error is told and the IKE SA is ended."""
    wire = Wire(gateway=responder_config(**change)).connect()
    assert isinstance(wire.error, GatewayProtocolError)
    assert words in str(wire.error)
    wire.run(until=wire.now + 10)
    assert wire.initiator.state is State.CLOSED
    assert wire.gateway.responders == {}


def test_a_gateway_that_carries_only_ipv4():
    """RFC 7296 §2.9: the gateway narrows; what it did not grant is not in the child SA."""
    wire = Wire(gateway=responder_config(assign=lambda name, _: NetworkSettings(INNER.addresses[:1]))).connect()
    child = wire.told(ChildEstablished)
    assert {entry.version for entry in child.local} == {4}
    assert {entry.version for entry in child.remote} == {4}


def test_delete_from_either_side():
    """RFC 7296 §1.4.1: DELETE is answered, and both sides are closed."""
    wire = Wire().connect()
    wire.initiator.close(wire.now)
    wire.run(until=wire.now + 5)
    assert wire.told(Closed) == Closed(wire.told(Closed).at, by_peer=False)
    assert any(isinstance(event, Closed) and event.by_peer for event in wire.gateway_events)

    wire = Wire().connect()
    wire.gateway.close(wire.now)
    wire.run(until=wire.now + 5)
    assert wire.told(Closed).by_peer
    assert wire.gateway.responders == {}


def test_delete_without_an_answer():
    """Ending a tunnel never waits longer than two seconds for a gateway that has gone."""
    wire = Wire().connect()
    wire.loss = 1.0
    began = wire.now
    wire.initiator.close(began)
    wire.run(until=began + 60)
    assert wire.told(Closed).at - began <= 2.5


def test_liveness_is_answered_even_when_asked_twice():
    """RFC 7296 §2.1, §2.4: a probe gets an empty answer; a repeated probe gets the very same octets."""
    wire = Wire().connect()
    answering = next(iter(wire.gateway.responders.values()))
    answering.probe(wire.now)
    probe = next(data for data in (entry.data for entry in wire.gateway.send(wire.now)))
    answers = []
    for _ in range(2):
        wire.initiator.receive(probe, (GATEWAY[0], 4500), wire.now)
        answers += [entry.data for entry in wire.initiator.send(wire.now)]
    assert len(answers) == 2
    assert answers[0] == answers[1]
    wire.gateway.receive(answers[0], CALLER, wire.now, 4500)
    assert answering.state is responder.State.ESTABLISHED
    assert answering.next_timer() is None


def test_keep_alive():
    """RFC 3948 §2.3: one octet 0xFF after 20 seconds without traffic; none while there is traffic."""
    wire = Wire(initiator_config(liveness_seconds=1000)).connect()
    wire.initiator.handle_timer(wire.now + 19)
    assert wire.initiator.send(wire.now) == []
    wire.initiator.handle_timer(wire.now + 20)
    assert [entry.data for entry in wire.initiator.send(wire.now)] == [b"\xff"]
    wire.initiator.traffic_sent(wire.now + 39)
    wire.initiator.handle_timer(wire.now + 41)
    assert wire.initiator.send(wire.now) == []


@pytest.mark.parametrize("number", [*range(1, 50), 8192])
def test_errors_in_words(number):
    """Every error of the registry has words of its own; one that is not in it keeps its number."""
    words = notify_in_words(number)
    known = number in NotifyType._value2member_map_
    assert (NotifyType(number).name if known else str(number)) in words
    assert ("it reports an error" in words) is not known


def test_a_child_sa_request_is_declined():
    """RFC 7296 §1.3: until rekeying is there, a CREATE_CHILD_SA request is answered with NO_ADDITIONAL_SAS."""
    wire = Wire().connect()
    answering = next(iter(wire.gateway.responders.values()))
    (data,) = answering.sa.seal(ExchangeType.CREATE_CHILD_SA, 0, [Nonce(bytes(32))], response=False)
    wire.initiator.receive(bytes(4) + data, (GATEWAY[0], 4500), wire.now)
    answer = parse_message_untrusted(wire.initiator.send(wire.now)[0].data[4:])
    assert answering.end.open(answer) == (Notify(NotifyType.NO_ADDITIONAL_SAS),)


def in_state(state):
    """An initiator that has come as far as a state, with the wire it hangs on."""
    wire = Wire()
    if state is State.INTERMEDIATE:
        hybrid = (replace(GCM[0], extra=(36,)),)
        wire = Wire(initiator_config(ike_offers=hybrid), responder_config(ike_offers=hybrid))
    if state is State.IDLE:
        return wire
    if state is State.CLOSING:
        wire = in_state(State.ESTABLISHED)
        wire.initiator.close(wire.now)
        return wire
    if state is State.CLOSED:
        wire = in_state(State.ESTABLISHED)
        wire.gateway.close(wire.now)
        return wire.run(until=wire.now + 5)
    wire.start().run(stop=lambda one: one.initiator.state is state)
    assert wire.initiator.state is state
    return wire


def strangers_message(machine, exchange, *, response):
    """An unprotected message that names a machine's SPIs."""
    flags = Flag.RESPONSE if response else 0
    spi_i = machine.sa.spi_i if any(machine.sa.spi_i) else b"strange1"
    return build_clear(Header(spi_i, machine.sa.spi_r, exchange, flags, 0), [Nonce(bytes(16))])


@pytest.mark.parametrize("state", list(State))
@pytest.mark.parametrize("signal", list(Signal))
def test_every_state_crossed_with_every_signal(state, signal):
    """What the table names is handled; a call that it does not name is a fault, a message is dropped."""
    wire = in_state(state)
    machine = wire.initiator
    before = machine.state
    messages = {
        Signal.INIT_RESPONSE: (ExchangeType.IKE_SA_INIT, True),
        Signal.INTERMEDIATE_RESPONSE: (ExchangeType.IKE_INTERMEDIATE, True),
        Signal.AUTH_RESPONSE: (ExchangeType.IKE_AUTH, True),
        Signal.INFORMATIONAL_RESPONSE: (ExchangeType.INFORMATIONAL, True),
        Signal.INFORMATIONAL_REQUEST: (ExchangeType.INFORMATIONAL, False),
        Signal.CHILD_REQUEST: (ExchangeType.CREATE_CHILD_SA, False),
        Signal.CHILD_RESPONSE: (ExchangeType.CREATE_CHILD_SA, True),
        Signal.FOLLOWUP_REQUEST: (ExchangeType.IKE_FOLLOWUP_KE, False),
        Signal.FOLLOWUP_RESPONSE: (ExchangeType.IKE_FOLLOWUP_KE, True),
    }
    if signal in messages:
        # An unprotected stranger's message never moves the machine, wherever it stands.
        exchange, response = messages[signal]
        data = strangers_message(machine, exchange, response=response)
        machine.receive(bytes(4) + data, (GATEWAY[0], 4500), wire.now)
        machine.receive(data, GATEWAY, wire.now)
        assert machine.state is before
        assert len(machine.ignored) >= 2
    elif (state, signal) in TRANSITIONS:
        machine.machine.signal(signal, None, wire.now)
        assert machine.state in TRANSITIONS[state, signal].targets
    else:
        with pytest.raises(ProgramFault):
            machine.machine.signal(signal, None, wire.now)
        assert machine.state is before


def test_the_table_names_only_methods_that_exist():
    """Each handler of both tables is a method; each state but the last has a way out."""
    wire = Wire().connect()
    (answering,) = wire.gateway.responders.values()
    for transition in TRANSITIONS.values():
        assert callable(attrgetter(transition.handler)(wire.initiator))
    for transition in responder.TRANSITIONS.values():
        assert callable(attrgetter(transition.handler)(answering))
    leaving = {state for (state, _), row in TRANSITIONS.items() if row.targets - {state}}
    assert leaving == set(State) - {State.CLOSED}
    assert table.TRANSITIONS is TRANSITIONS


def plain_wire(**changes):
    return Wire(initiator_config(**changes), seed=3)


def hybrid_wire(**changes):
    hybrid = (replace(GCM[0], extra=(36,)),)
    return Wire(initiator_config(ike_offers=hybrid, **changes), responder_config(ike_offers=hybrid), seed=3)


def two_rounds_wire(**changes):
    wire = two_rounds()
    wire.initiator = Initiator(replace(wire.initiator.config, **changes), seeded(3))
    return wire


@pytest.mark.parametrize("make", [plain_wire, hybrid_wire, two_rounds_wire])
@given(cut=st.integers(0, 400), position=st.integers(0, 1400), flip=st.integers(1, 255), which=st.integers(0, 13))
def test_a_changed_message_never_connects_to_something_else(make, cut, position, flip, which):
    """One message cut or changed in one octet: it is dropped, and the negotiation goes on or ends clearly."""
    wire = make(backoff=Backoff(give_up=5))
    count = {"n": -1}

    def tamper(data, to_gateway):
        count["n"] += 1
        if count["n"] != which:
            return data
        octets = bytearray(data)
        octets[position % len(octets)] ^= flip
        return bytes(octets[: len(octets) - cut % 3])

    wire.tamper = tamper
    wire.connect()
    child = wire.told(ChildEstablished)
    if child:
        mirrored = [event for event in wire.gateway_events if isinstance(event, ChildEstablished)][-1]
        assert child.keys == mirrored.keys
    else:
        assert isinstance(wire.told(Failed), Failed)


@given(st.binary(max_size=300), st.sampled_from([500, 4500]))
def test_strangers_octets_do_nothing(data, port):
    """Any datagram at any time leaves both machines able to connect."""
    wire = Wire(seed=5).start()
    for prefix in (b"", bytes(4), wire.initiator.sa.spi_i, bytes(4) + wire.initiator.sa.spi_i):
        wire.initiator.receive(prefix + data, (GATEWAY[0], port), 0.0)
        wire.gateway.receive(prefix + data, CALLER, 0.0, port)
    wire.run(stop=lambda one: one.initiator.state is State.ESTABLISHED)
    assert wire.told(ChildEstablished)


def test_half_open_floods_are_bounded():
    """RFC 7296 §2.6: a thousand first messages from forged addresses leave no more state than the limit."""
    gateway = IkeGateway(responder_config(cookie_above=10, half_open_limit=20), seeded(9), GATEWAY[0])
    sent = 0
    for number in range(1000):
        caller = Initiator(initiator_config(), seeded(number))
        caller.start(0.0)
        gateway.receive(caller.send(0.0)[0].data, (f"203.0.113.{number % 250}", 1000 + number), 0.0)
        sent += sum(len(entry.data) for entry in gateway.send(0.0))
    assert len(gateway.responders) == 10
    assert sent < 1000 * 400
    gateway.handle_timer(31.0)
    gateway.send(31.0)
    assert gateway.responders == {}


def test_nothing_secret_is_shown():
    """The repr of events, keys and credentials holds no key and no password."""
    wire = Wire().connect()
    config = initiator_config()
    shown = (
        repr(wire.events) + repr(wire.initiator.keys) + repr(config.credentials()) + repr(wire.initiator.export_keys())
    )
    keys = wire.told(ChildEstablished).keys
    assert PASSWORD not in shown
    assert repr(keys.encryption_i)[2:-1] not in shown
    assert repr(wire.initiator.keys.sk_d)[2:-1] not in shown
    assert CERTIFICATE
    assert KEY
    assert ESP_GCM


def two_rounds():
    """By pre-shared key and then by password (RFC 4739)."""
    shared = PreSharedKey(Secret(b"razorbills dive at dusk"))
    caller = initiator_config(
        method="certificate+eap-mschapv2",
        credentials=lambda: shared,
        second=initiator_config().credentials,
        proof="pre-shared-key",
        gateway_key=lambda: shared,
    )
    return Wire(caller, responder_config(callers=Callers(shared_key_of=lambda _: shared.key.octets())))


def answering_in_state(state):
    """A responder that has come as far as a state, with the wire it hangs on."""
    wire = two_rounds() if state is responder.State.SECOND_AWAITED else Wire()
    wire.start().run(stop=lambda one: any(entry.state is state for entry in one.gateway.responders.values()))
    if state is responder.State.CLOSING:
        wire = answering_in_state(responder.State.ESTABLISHED)[0]
        machine = next(iter(wire.gateway.responders.values()))
        machine.close(wire.now)
        return wire, machine
    if state is responder.State.CLOSED:
        wire, machine = answering_in_state(responder.State.CLOSING)
        machine.handle_timer(wire.now + 100)
        return wire, machine
    return wire, next(iter(wire.gateway.responders.values()))


@pytest.mark.parametrize("state", list(responder.State))
@pytest.mark.parametrize("signal", list(responder.Signal))
def test_every_responder_state_crossed_with_every_signal(state, signal):
    """The gateway's side: its own calls are handled or are faults; a caller's messages out of place are dropped."""
    wire, machine = answering_in_state(state)
    assert machine.state is state
    exchanges = {
        responder.Signal.AUTH_REQUEST: (ExchangeType.IKE_AUTH, False),
        responder.Signal.INTERMEDIATE_REQUEST: (ExchangeType.IKE_INTERMEDIATE, False),
        responder.Signal.INFORMATIONAL_REQUEST: (ExchangeType.INFORMATIONAL, False),
        responder.Signal.CHILD_REQUEST: (ExchangeType.CREATE_CHILD_SA, False),
        responder.Signal.INFORMATIONAL_RESPONSE: (ExchangeType.INFORMATIONAL, True),
        responder.Signal.CHILD_RESPONSE: (ExchangeType.CREATE_CHILD_SA, True),
        responder.Signal.FOLLOWUP_REQUEST: (ExchangeType.IKE_FOLLOWUP_KE, False),
        responder.Signal.FOLLOWUP_RESPONSE: (ExchangeType.IKE_FOLLOWUP_KE, True),
    }
    if signal in exchanges:
        exchange, response = exchanges[signal]
        number = (machine.sa.next_request_id if response else machine.sa.peer_request_id) % (1 << 32)
        flags = Flag.INITIATOR | (Flag.RESPONSE if response else 0)
        header = Header(machine.sa.spi_i, machine.sa.spi_r, exchange, flags, number)
        data = build_sealed(header, *chain([Nonce(bytes(16))]), machine.keys.protection(True, seeded(1)))
        message = parse_message_untrusted(data)
        if (state, signal) in responder.TRANSITIONS and not (response and machine.sa.outstanding is None):
            machine.receive(message, CALLER, wire.now)
        else:
            with pytest.raises(Malformed):
                machine.receive(message, CALLER, wire.now)
            assert machine.state is state
    elif (state, signal) in responder.TRANSITIONS:
        machine.machine.signal(signal, None, wire.now)
    else:
        with pytest.raises(ProgramFault):
            machine.machine.signal(signal, None, wire.now)
        assert machine.state is state


def test_an_unknown_critical_payload():
    """RFC 7296 §2.5: from a caller it is answered by its type; from a gateway it ends the negotiation with a word."""
    wire, answering = answering_in_state(responder.State.AUTH_AWAITED)
    chained = bytes([0, 0x80]) + (8).to_bytes(2) + b"odd!"
    sealing = answering.keys.protection(True, seeded(1))
    plain = chained + b"\0"
    head = Header(answering.sa.spi_i, answering.sa.spi_r, 35, Flag.INITIATOR, 1).octets(46, 28 + 4 + len(plain) + 24)
    head += bytes([200, 0]) + (4 + len(plain) + 24).to_bytes(2)
    answering.receive(parse_message_untrusted(head + sealing.seal(head, plain)), CALLER, wire.now)
    answer = parse_message_untrusted(answering.send(wire.now)[0].data[4:])
    told = parse_inner_untrusted(answer.sealed_first, open_chunk(answer, answering.keys.protection(False, seeded(1))))
    assert told == (Notify(NotifyType.UNSUPPORTED_CRITICAL_PAYLOAD, bytes([200])),)

    wire = in_state(State.PROOF_AWAITED)
    keys = wire.initiator.keys
    head = Header(wire.initiator.sa.spi_i, wire.initiator.sa.spi_r, 35, Flag.RESPONSE, 1).octets(
        46, 28 + 4 + len(plain) + 24
    )
    head += bytes([200, 0]) + (4 + len(plain) + 24).to_bytes(2)
    wire.initiator.receive(
        bytes(4) + head + keys.protection(False, seeded(1)).seal(head, plain), (GATEWAY[0], 4500), wire.now
    )
    wire.collect()
    assert isinstance(wire.error, GatewayProtocolError)
    assert "unknown type 200" in str(wire.error)


def test_the_gateway_deletes_the_child_sa():
    """RFC 7296 §1.4.1: a DELETE for our child SA is answered with the other half, and the tunnel ends."""
    wire = Wire().connect()
    child = wire.told(ChildEstablished)
    answering = next(iter(wire.gateway.responders.values()))
    answering.end.request(ExchangeType.INFORMATIONAL, [Delete(3, (child.spi_out.to_bytes(4),))], wire.now)
    request = answering.send(wire.now)[0].data
    wire.initiator.receive(request, (GATEWAY[0], 4500), wire.now)
    answer = parse_message_untrusted(wire.initiator.send(wire.now)[0].data[4:])
    told = parse_inner_untrusted(answer.sealed_first, open_chunk(answer, answering.keys.protection(True, seeded(1))))
    assert told == (Delete(3, (child.spi_in.to_bytes(4),)),)
    wire.collect()
    assert wire.told(Closed).by_peer
    assert wire.initiator.state is State.CLOSING


def test_a_caller_whose_address_changes():
    """RFC 7296 §2.23: the gateway answers to where an authentic request comes from; a forged one moves nothing."""
    wire = Wire().connect()
    answering = next(iter(wire.gateway.responders.values()))
    elsewhere = ("192.0.2.99", 1234)
    wire.initiator.close(wire.now)
    request = wire.initiator.send(wire.now)[0].data
    wire.gateway.receive(request[:-1] + bytes([request[-1] ^ 1]), ("203.0.113.66", 1), wire.now, 4500)
    assert answering.peer == CALLER
    wire.gateway.receive(request, elsewhere, wire.now, 4500)
    assert {entry.destination for entry in wire.gateway.send(wire.now)} == {elsewhere}
