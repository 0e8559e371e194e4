"""A tunnel that stands for days: keys are renewed from either side and at once, probes, a gateway that falls silent."""

from __future__ import annotations

import hmac
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import Wire, initiator_config, responder_config
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.events import (
    ChildEstablished,
    ChildGone,
    ChildRekeyed,
    Closed,
    IkeRekeyed,
    SignInLimit,
)
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.responder.table import State as GatewayState
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import notifications, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, KeyExchange, Nonce, Notify, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.proposals import build_proposals
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol
from zesty_burrow.protocols.pace import BURST, EVERY, Pace

PACKET = b"\x45" + bytes(59)
DAY = 24 * 3600.0


class Ends:
    """Both ends' pairs of SAs as a data path would hold them, fed by the events as they come."""

    def __init__(self, wire):
        self.wire = wire
        self.sides = [{"in": {}, "out": None, "waiting": 0} for _ in range(2)]
        self.read = [0, 0]
        self.keys = set()

    @property
    def answering(self):
        return next(iter(self.wire.gateway.responders.values()))

    def look(self):
        """Take the events that are new."""
        for side, events in enumerate((self.wire.events, self.wire.gateway_events)):
            for event in events[self.read[side] :]:
                self.take(self.sides[side], event)
            self.read[side] = len(events)

    def take(self, side, event):
        child = event.child if isinstance(event, ChildRekeyed) else event
        if isinstance(event, ChildEstablished | ChildRekeyed):
            pair = InboundSa(child.spi_in, child.inbound(bytes)), OutboundSa(child.spi_out, child.outbound(bytes))
            side["in"][child.spi_in] = pair
            if isinstance(event, ChildRekeyed) and event.by_peer:
                side["waiting"] = child.spi_in
            else:
                side["out"] = pair[1]
            self.keys.add(child.keys.encryption_i)
        elif isinstance(event, ChildGone):
            gone = side["in"].pop(event.spi_in)
            side["waiting"] *= side["waiting"] != event.spi_in
            if gone[1] is side["out"] and side["waiting"]:
                side["out"], side["waiting"] = side["in"][side["waiting"]][1], 0

    def carry(self):
        """A packet each way, as the two ends stand at this moment."""
        for sender, taker in ((0, 1), (1, 0)):
            data = self.sides[sender]["out"].seal(PACKET)
            side = self.sides[taker]
            spi = int.from_bytes(data[:4])
            assert spi in side["in"], "a packet came for which there is no SA"
            assert side["in"][spi][0].open(data) == PACKET
            if spi == side["waiting"]:
                side["out"], side["waiting"] = side["in"][spi][1], 0


def connected(seed=1, **changes):
    wire = Wire(initiator_config(**changes), responder_config(), seed=seed).connect()
    ends = Ends(wire)
    ends.look()
    ends.carry()
    return wire, ends


def settle(wire, ends, seconds=30.0):
    """Let everything arrive, carrying packets at each step of the way."""
    until = wire.now + seconds

    def stop(_):
        ends.look()
        ends.carry()
        return False

    wire.run(until=until, stop=stop)
    ends.look()


@pytest.mark.parametrize("who", ["initiator", "gateway"])
def test_keys_are_renewed(who):
    """New SPIs, new keys with a key exchange of their own, the old pair deleted; packets go at every moment."""
    wire, ends = connected(child_seconds=1e9)
    before = wire.initiator.child
    machine = wire.initiator if who == "initiator" else ends.answering
    machine.rekey(wire.now)
    settle(wire, ends)
    ours, theirs = wire.initiator.child, ends.answering.child
    assert ours.spi_in != before.spi_in
    assert (ours.spi_in, ours.spi_out, ours.keys) == (theirs.spi_out, theirs.spi_in, theirs.keys)
    assert ours.keys.suite.group == wire.initiator.keys.suite.group
    assert ours.keys.encryption_i != before.keys.encryption_i
    assert [len(side["in"]) for side in ends.sides] == [1, 1]
    assert ours.as_initiator is (who == "initiator")


@pytest.mark.parametrize("seed", range(12))
def test_both_at_once(seed):
    """RFC 7296 §2.8.1: of two pairs the one with the lowest nonce goes; one pair is left, the same at both ends."""
    wire, ends = connected(seed=seed, child_seconds=1e9)
    wire.initiator.rekey(wire.now)
    ends.answering.rekey(wire.now)
    settle(wire, ends, 120)
    ours, theirs = wire.initiator.child, ends.answering.child
    assert (ours.spi_in, ours.spi_out) == (theirs.spi_out, theirs.spi_in)
    assert ours.keys == theirs.keys
    assert [len(side["in"]) for side in ends.sides] == [1, 1]


@pytest.mark.parametrize("seed", range(4))
def test_a_day_with_a_bad_network(seed):
    """24 hours, new keys about every hour, some from the gateway: 5 % loss, doubling and reordering lose no packet."""
    wire, ends = connected(seed=seed, child_seconds=3600, liveness_seconds=600)
    wire.loss, wire.doubling, wire.jitter = 0.05, 0.05, 0.3
    dice = random.Random(seed)
    for hour in range(24):
        settle(wire, ends, 3600)
        assert wire.initiator.state is State.ESTABLISHED, wire.events[-1]
        if dice.random() < 0.3:
            ends.answering.rekey(wire.now)
        assert sum(len(side["in"]) for side in ends.sides) <= 6, hour
    renewals = sum(isinstance(event, ChildRekeyed) for event in wire.events)
    assert renewals >= 23
    assert len(ends.keys) >= renewals
    settle(wire, ends, 300)
    assert wire.initiator.child.keys == ends.answering.child.keys
    assert len(wire.initiator.associations.children.replaced) + len(ends.answering.associations.children.replaced) <= 4


@pytest.mark.parametrize(("octets", "sequence"), [(1 << 30, 5), (0, 3 << 30)])
def test_keys_wear_out(octets, sequence):
    """After so many octets, or before 32-bit numbers are used up, there are new keys; once, not for each packet."""
    wire, ends = connected(child_seconds=1e9, child_octets=1 << 30)
    before = wire.initiator.child
    assert not wire.initiator.traffic_sent(wire.now, octets - 1 if octets else 0, sequence - 1 if not octets else 0)
    assert wire.initiator.traffic_sent(wire.now, octets, sequence)
    assert not wire.initiator.traffic_sent(wire.now, octets + 1, sequence + 1)
    settle(wire, ends)
    assert wire.initiator.child is not before
    renewed = sum(isinstance(event, ChildRekeyed) for event in wire.events)
    assert renewed == 1
    assert not wire.initiator.traffic_sent(wire.now, 10, 10)


@pytest.mark.parametrize(("ours", "theirs", "agreed"), [((1, 0), (0, 1), 0), ((1,), (0, 1), 1), ((1, 0), (1,), 1)])
def test_extended_numbers_are_agreed_on(ours, theirs, agreed):
    """RFC 7296 §3.3.2: the gateway's order counts among what both allow; and renewed keys keep it."""
    caller = initiator_config(esp_offers=(Offer(((20, 256),), esn=ours),), child_seconds=1e9)
    wire = Wire(caller, responder_config(esp_offers=(Offer(((20, 256),), esn=theirs),))).connect()
    answering = next(iter(wire.gateway.responders.values()))
    assert wire.initiator.child.extended is answering.child.extended is bool(agreed)
    wire.initiator.rekey(wire.now)
    wire.run(until=wire.now + 5)
    assert wire.initiator.child.keys == answering.child.keys
    assert wire.initiator.child.extended is bool(agreed)
    assert not wire.initiator.traffic_sent(wire.now, 0, 3 << 30) or not agreed


def test_no_key_is_used_twice():
    """Ten renewals, ten different keys and SPIs."""
    wire, ends = connected(child_seconds=1e9)
    spis = {wire.initiator.child.spi_in}
    for _ in range(10):
        wire.initiator.rekey(wire.now)
        settle(wire, ends)
        spis.add(wire.initiator.child.spi_in)
    assert len(spis) == len(ends.keys) == 11


def test_a_gateway_that_declines():
    """Refused with an error: the old pair goes on, and it is tried again later."""
    wire, ends = connected(child_seconds=1e9)
    ends.answering.associations.children.offers = (Offer(((20, 128),), esn=(0,)),)
    before = wire.initiator.child
    wire.initiator.rekey(wire.now)
    settle(wire, ends, 5)
    assert wire.initiator.child is before
    ends.answering.associations.children.offers = wire.initiator.config.esp_offers
    settle(wire, ends, 60)
    assert wire.initiator.child is not before


@pytest.mark.parametrize(
    ("payloads", "answer"),
    [
        ([Nonce(bytes(32))], NotifyType.NO_ADDITIONAL_SAS),
        ([Notify(NotifyType.REKEY_SA, protocol=Protocol.ESP, spi=b"abcd")], NotifyType.CHILD_SA_NOT_FOUND),
        ([Notify(NotifyType.REKEY_SA, protocol=Protocol.IKE)], NotifyType.NO_ADDITIONAL_SAS),
        (None, NotifyType.INVALID_SYNTAX),
    ],
)
def test_requests_that_are_declined(payloads, answer):
    """Another child SA, an unknown one, one of the IKE SA, an incomplete one: each with its notification."""
    wire, ends = connected(child_seconds=1e9)
    spi = wire.initiator.child.spi_out.to_bytes(4)
    payloads = payloads or [Notify(NotifyType.REKEY_SA, protocol=Protocol.ESP, spi=spi)]
    told = []
    wire.initiator.end.respond = lambda message, out: told.extend(out)
    (data,) = ends.answering.sa.seal(ExchangeType.CREATE_CHILD_SA, 0, payloads, response=False)
    wire.initiator.receive(bytes(4) + data, (wire.initiator.peer[0], 4500), wire.now)
    assert [entry.notification for entry in told] == [answer]
    fatal = answer is NotifyType.INVALID_SYNTAX  # RFC 7296 §2.21.3
    assert wire.initiator.state is (State.CLOSED if fatal else State.ESTABLISHED)


@pytest.mark.parametrize("what", ["rekey", "rekey_ike"])
def test_a_storm_of_new_keys(what):
    """A gateway that asks for new keys without a pause gets some, and is asked to wait; packets go all the time."""
    wire, ends = connected(child_seconds=1e9, ike_seconds=1e9)
    wire.delay, told, began = 0.001, ChildRekeyed if what == "rekey" else IkeRekeyed, wire.now
    asked = 0
    while wire.now < began + 10:
        getattr(ends.answering, what)(wire.now)
        asked += 1
        settle(wire, ends, 0.01)
        wire.now = max(wire.now, began + asked * 0.02)
    assert asked == 500
    renewed = sum(isinstance(event, told) for event in wire.events)
    assert BURST <= renewed <= BURST + 10 / EVERY + 1
    assert wire.initiator.state is State.ESTABLISHED
    settle(wire, ends, 120)
    assert [len(side["in"]) for side in ends.sides] == [1, 1]
    assert len(wire.initiator.associations.children.replaced) == 0
    # And it is not held against the gateway for ever.
    wire.now += 60
    getattr(ends.answering, what)(wire.now)
    settle(wire, ends)
    assert sum(isinstance(event, told) for event in wire.events) > renewed


def test_a_storm_of_deletes_and_limits():
    """Deletes of pairs that nobody knows, limits that are told again and again: answered, and nothing piles up."""
    wire, ends = connected(child_seconds=1e9)
    for number in range(500):
        payloads = [Delete(Protocol.ESP, (number.to_bytes(4),)), Notify(NotifyType.AUTH_LIFETIME, (3600).to_bytes(4))]
        ends.answering.end.request(ExchangeType.INFORMATIONAL, payloads, wire.now)
        settle(wire, ends, 0.1)
    assert wire.initiator.state is State.ESTABLISHED
    assert sum(isinstance(event, SignInLimit) for event in wire.events) == 500
    assert len(wire.initiator.associations.children.replaced) == 0
    ends.carry()


@given(st.lists(st.floats(0, 100), min_size=1, max_size=200))
def test_the_pace(waits):
    """In any stretch of time no more than the burst, and what the time gives."""
    pace, now, taken = Pace(burst=3, every=2.0), 0.0, []
    for wait in waits:
        now += wait
        if pace.allows(now):
            taken.append(now)
    for first, since in enumerate(taken):
        for last, until in enumerate(taken[first:]):
            assert last + 1 <= 3 + (until - since) / 2.0 + 1e-6


def test_probes():
    """RFC 7296 §2.4: a probe after silence, none while packets come in; the answer keeps the tunnel."""
    wire, ends = connected(liveness_seconds=30, child_seconds=1e9)
    sent = len(wire.seen)
    for second in range(0, 100, 10):
        wire.initiator.traffic_sent(wire.now + second)
        wire.initiator.traffic_received(wire.now + second)
        wire.initiator.handle_timer(wire.now + second)
    assert wire.initiator.send(wire.now) == []
    wire.now += 100
    settle(wire, ends, 60)
    assert wire.initiator.state is State.ESTABLISHED
    assert len(wire.seen) > sent + 2


def test_any_authentic_packet_counts():
    """RFC 7296 §2.4: a gateway that answers no probe and whose packets go on coming is alive; once they end, it is not."""
    wire, _ = connected(liveness_seconds=30, child_seconds=1e9)
    wire.tamper = lambda data, to_gateway: None
    began = wire.now
    for second in range(0, 900, 10):
        wire.run(until=began + second)
        wire.now = began + second
        wire.initiator.traffic_received(wire.now)
        wire.initiator.handle_timer(wire.now)
    assert wire.initiator.state is State.ESTABLISHED
    last = wire.now
    wire.run(until=last + 400, stop=lambda wire: wire.closed)
    assert 150 <= wire.told(Closed).at - last <= 30 + 180 + 20


def test_an_end_is_not_waited_for():
    """A gateway that answers no DELETE while its packets go on coming: two seconds, as without them."""
    wire, _ = connected(liveness_seconds=30, child_seconds=1e9)
    wire.tamper = lambda data, to_gateway: None
    wire.initiator.close(wire.now)
    began = wire.now
    while not wire.closed and wire.now < began + 30:
        wire.initiator.traffic_received(wire.now)
        wire.run(until=wire.now + 0.5)
        wire.now += 0.5
        wire.initiator.handle_timer(wire.now)
        wire.collect()
    assert wire.now - began < 5


def test_a_gateway_that_falls_silent():
    """RFC 7296 §2.4: asked a dozen times over minutes; then it is said, and nothing is left waiting."""
    wire, _ = connected(liveness_seconds=30, child_seconds=1e9)
    wire.loss = 1.0
    began, before = wire.now, len(wire.seen)
    wire.run(until=began + 300, stop=lambda wire: wire.closed)
    assert 12 <= len([one for one in wire.seen[before:] if one[0] and len(one[2]) > 1]) <= 20
    closed = wire.told(Closed)
    assert closed.by_peer
    assert "has not answered" in closed.reason
    assert 150 <= closed.at - began <= 30 + 180 + 1
    assert wire.initiator.state is State.CLOSED
    assert wire.initiator.next_timer() is None


def test_a_delete_of_a_strange_child_sa():
    """An SPI that nobody knows is answered with nothing, and nothing ends."""
    wire, ends = connected(child_seconds=1e9)
    ends.answering.end.request(ExchangeType.INFORMATIONAL, [Delete(Protocol.ESP, (b"abcd",))], wire.now)
    settle(wire, ends, 5)
    assert wire.initiator.state is State.ESTABLISHED
    assert ends.answering.state is GatewayState.ESTABLISHED
    assert wire.initiator.child is not None


def test_an_old_pair_turns_strangers_away():
    """After the renewal a packet under the old SPI finds no SA."""
    wire, ends = connected(child_seconds=1e9)
    old = OutboundSa(wire.initiator.child.spi_in, wire.initiator.child.inbound(bytes))
    wire.initiator.rekey(wire.now)
    settle(wire, ends)
    assert old.spi not in ends.sides[0]["in"]
    pair = next(iter(ends.sides[0]["in"].values()))
    with pytest.raises(Malformed):
        pair[0].open(old.seal(PACKET))


# The IKE SA itself (RFC 7296 §1.3.2, §2.18).


def pair_of(wire, ends):
    """Both ends' IKE SA in use."""
    return wire.initiator.sa, ends.answering.sa


def assert_same_sa(wire, ends):
    ours, theirs = pair_of(wire, ends)
    assert (ours.spi_i, ours.spi_r, ours.keys) == (theirs.spi_i, theirs.spi_r, theirs.keys)
    assert ours.is_initiator is not theirs.is_initiator


@pytest.mark.parametrize("who", ["initiator", "gateway"])
def test_the_ike_sa_is_renewed(who):
    """New SPIs and keys, numbers from zero, the old one deleted, the child SAs kept; and all goes on by the new one."""
    wire, ends = connected(child_seconds=1e9)
    before, child = wire.initiator.sa, wire.initiator.child
    (wire.initiator if who == "initiator" else ends.answering).rekey_ike(wire.now)
    settle(wire, ends, 10)
    ours, theirs = pair_of(wire, ends)
    assert_same_sa(wire, ends)
    assert ours is not before
    assert {ours.spi_i, ours.spi_r}.isdisjoint({before.spi_i, before.spi_r})
    assert ours.keys.sk_d != before.keys.sk_d
    assert ours.is_initiator is (who == "initiator")
    assert wire.initiator.child is child
    settle(wire, ends, 120)
    assert wire.initiator.own_spis == {ours.own_spi}
    assert ends.answering.own_spis == {theirs.own_spi}
    for machine in (wire.initiator, ends.answering):
        machine.rekey(wire.now)
        settle(wire, ends)
    assert wire.initiator.child is not child
    assert wire.initiator.child.keys == ends.answering.child.keys
    wire.initiator.close(wire.now)
    wire.run(until=wire.now + 30)
    assert wire.closed
    assert wire.gateway.responders == {}
    assert wire.gateway.known_spis == frozenset()


def test_keys_of_a_renewed_ike_sa():
    """RFC 7296 §2.18, worked out here by hand: SKEYSEED from the old SK_d, the new secret and both nonces."""
    suite = Suite(20, 256, prf=5, group=31)
    old = derive_ike_keys(suite, b"s" * 32, b"a" * 32, b"b" * 32, b"1" * 8, b"2" * 8)
    made = derive_ike_keys(suite, b"t" * 32, b"c" * 32, b"d" * 32, b"3" * 8, b"4" * 8, old)
    seed = hmac.digest(old.sk_d, b"t" * 32 + b"c" * 32 + b"d" * 32, "sha256")
    first = hmac.digest(seed, b"c" * 32 + b"d" * 32 + b"3" * 8 + b"4" * 8 + b"\x01", "sha256")
    assert made.sk_d == first


@pytest.mark.parametrize("loss", [0.0, 0.2])
@pytest.mark.parametrize("seed", range(16))
def test_both_renew_the_ike_sa_at_once(seed, loss):
    """RFC 7296 §2.8.1: whatever is lost, one SA is left, the same at both ends, and it works."""
    wire, ends = connected(seed=seed, child_seconds=1e9, liveness_seconds=1e9)
    wire.loss, wire.jitter = loss, 0.2
    wire.initiator.rekey_ike(wire.now)
    if seed % 2:
        wire.run(until=wire.now + 0.1)
    ends.answering.rekey_ike(wire.now)
    settle(wire, ends, 300)
    assert wire.initiator.state is State.ESTABLISHED, wire.events[-1]
    assert_same_sa(wire, ends)
    assert len(wire.initiator.own_spis) == len(ends.answering.own_spis) == 1
    wire.loss = 0.0
    ends.answering.rekey(wire.now)
    settle(wire, ends)
    assert wire.initiator.child.keys == ends.answering.child.keys


@pytest.mark.parametrize("seed", range(8))
def test_an_ike_sa_and_a_child_sa_at_once(seed):
    """RFC 7296 §2.25.2: whoever comes second is asked to wait, and both are renewed in the end."""
    wire, ends = connected(seed=seed, child_seconds=1e9)
    sa, child = wire.initiator.sa, wire.initiator.child
    first, second = (wire.initiator, ends.answering) if seed % 2 else (ends.answering, wire.initiator)
    first.rekey_ike(wire.now)
    second.rekey(wire.now)
    settle(wire, ends, 120)
    assert_same_sa(wire, ends)
    if first is wire.initiator:
        # The gateway of this test does not try again by itself.
        assert wire.initiator.sa is not sa
    if second is wire.initiator:
        assert wire.initiator.child is not child


@pytest.mark.parametrize("seed", range(4))
def test_a_day_with_renewals_of_both_kinds(seed):
    """24 hours of both, from both sides, with 5 % loss, doubling and reordering: nothing is lost, nothing piles up."""
    wire, ends = connected(seed=seed, child_seconds=3600, ike_seconds=5400, liveness_seconds=600)
    wire.loss, wire.doubling, wire.jitter = 0.05, 0.05, 0.3
    dice = random.Random(seed)
    seen = set()
    for hour in range(24):
        settle(wire, ends, 3600)
        assert wire.initiator.state is State.ESTABLISHED, wire.events[-1]
        seen.add(wire.initiator.sa.keys.sk_d)
        if dice.random() < 0.4:
            ends.answering.rekey(wire.now)
        elif dice.random() < 0.4:
            ends.answering.rekey_ike(wire.now)
            if dice.random() < 0.5:
                wire.initiator.rekey_ike(wire.now)
        assert len(wire.initiator.own_spis) <= 4, hour
        assert len(wire.gateway.known_spis) <= 4, hour
    assert len(seen) >= 15
    settle(wire, ends, 300)
    assert_same_sa(wire, ends)
    assert wire.initiator.child.keys == ends.answering.child.keys
    renewed = [event for event in wire.events if isinstance(event, IkeRekeyed)]
    assert len(renewed) >= 15


@pytest.mark.parametrize(
    ("payloads", "answer"),
    [
        ([], NotifyType.INVALID_SYNTAX),
        ([Nonce(bytes(32))], NotifyType.INVALID_SYNTAX),
        ([Nonce(bytes(32)), KeyExchange(31, bytes(31))], NotifyType.INVALID_SYNTAX),
        ([Nonce(bytes(32)), KeyExchange(31, bytes(32))], NotifyType.INVALID_SYNTAX),
        ([Nonce(bytes(32)), KeyExchange(14, bytes(256))], NotifyType.INVALID_KE_PAYLOAD),
    ],
)
def test_ike_sas_that_are_not_granted(payloads, answer):
    """A gateway that asks for an IKE SA in a wrong way is told so; what is badly formatted ends the tunnel (§2.21.3)."""
    wire, ends = connected(child_seconds=1e9)
    asking, sa = ends.answering, wire.initiator.sa
    offer = build_proposals((wire.initiator.config.ike_offers[0],), Protocol.IKE, b"12345678")
    asking.end.request(ExchangeType.CREATE_CHILD_SA, [SecurityAssociation(offer), *payloads], wire.now)
    number = asking.sa.outstanding.message_id
    wire.run(until=wire.now + 0.5)
    response = next(
        parsed
        for to_gateway, _, data in reversed(wire.seen)
        if to_gateway and (parsed := parse_message_untrusted(data[4:])).header.message_id == number
        if parsed.header.exchange == ExchangeType.CREATE_CHILD_SA
    )
    assert answer in notifications(asking.sa.open(response))
    assert wire.initiator.sa is sa
    fatal = answer is NotifyType.INVALID_SYNTAX
    assert wire.initiator.state is (State.CLOSED if fatal else State.ESTABLISHED)


def test_a_gateway_that_refuses_a_new_ike_sa():
    """It is asked again later, not at once, and the tunnel stands meanwhile."""
    wire, ends = connected(child_seconds=1e9)
    sa = wire.initiator.sa
    ends.answering.rekey(wire.now)
    wire.initiator.rekey_ike(wire.now)
    settle(wire, ends, 5)
    assert wire.initiator.sa is sa
    settle(wire, ends, 20)
    assert wire.initiator.sa is not sa
    assert_same_sa(wire, ends)


def test_the_old_ike_sa_serves_no_more():
    """By an SA that is about to go nothing is granted: the gateway is asked to come again."""
    wire, ends = connected(child_seconds=1e9)
    old, child = ends.answering.sa, wire.initiator.child
    wire.initiator.rekey_ike(wire.now)
    wire.run(until=wire.now + 0.025)
    assert wire.initiator.sa.own_spi != old.spi_i
    number = old.next_request_id = old.next_request_id + 1
    wire.initiator.receive(
        bytes(4) + old.seal(ExchangeType.CREATE_CHILD_SA, number, [Nonce(bytes(32))], response=False)[0],
        (wire.initiator.peer[0], 4500),
        wire.now,
    )
    answers = [parse_message_untrusted(one.data[4:]) for one in wire.initiator.send(wire.now)]
    assert [list(notifications(old.open(one))) for one in answers if one.header.message_id == number] == [
        [NotifyType.TEMPORARY_FAILURE]
    ]
    wire.run(until=wire.now + 60)
    assert old not in (ends.answering.sa, *ends.answering.end.others)
    assert wire.initiator.child is child
