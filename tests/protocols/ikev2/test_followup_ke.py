"""Renewed keys with a second key exchange: CREATE_CHILD_SA, then IKE_FOLLOWUP_KE (RFC 9370 §2.2.4)."""

from __future__ import annotations

import hmac
from dataclasses import replace

import pytest
from scapy.contrib import ikev2 as judge
from test_rekeying import Ends, settle
from test_second_exchange import HYBRID, PLAIN, both_stand, hybrid

from zesty_burrow.core.crypto.key_exchange import MlKem768
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.ikev2.events import ChildRekeyed, Closed, IkeRekeyed
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.responder.table import State as GatewayState
from zesty_burrow.protocols.ikev2.wire.keys import derive_child_keys, derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import Message, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.payloads import KeyExchange, Notify
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType

BOTH = pytest.mark.parametrize("who", ["initiator", "gateway"])


def connected(seed=1, **changes):
    """A hybrid tunnel, and both ends' SAs as a data path would hold them."""
    wire = hybrid(seed, child_seconds=1e9, **changes).connect()
    both_stand(wire)
    ends = Ends(wire)
    ends.look()
    return wire, ends


def machine_of(wire, ends, who):
    return wire.initiator if who == "initiator" else ends.answering


def exchanges(wire):
    """The exchange of each message after the sign-in, requests alone."""
    messages = [
        parse_message_untrusted(data[4:]) for _, port, data in wire.seen if port == 4500 and data[:4] == bytes(4)
    ]
    return [ExchangeType(one.header.exchange) for one in messages if not one.header.is_response and one.fragment < 2]


def watched(monkeypatch, module, name):
    """What a function of a module is called with."""
    import importlib

    found = importlib.import_module(f"zesty_burrow.protocols.ikev2.{module}")
    calls, call = [], getattr(found, name)
    monkeypatch.setattr(found, name, lambda *args: (calls.append(args), call(*args))[1])
    return calls


@BOTH
def test_the_ike_sa_is_renewed(monkeypatch, who):
    """A second secret of its own goes into the keys; both ends have the same, and the packets go on."""
    wire, ends = connected()
    calls = watched(monkeypatch, "machine.ike_rekey", "derive_ike_keys")
    before = wire.initiator.keys
    wire.seen.clear()
    machine_of(wire, ends, who).rekey_ike(wire.now)
    settle(wire, ends)
    assert exchanges(wire)[:2] == [ExchangeType.CREATE_CHILD_SA, ExchangeType.IKE_FOLLOWUP_KE]
    assert wire.initiator.keys == ends.answering.keys != before
    assert wire.told(IkeRekeyed).suite == before.suite and before.suite.extra == 36
    (one, other) = (args[-1] for args in calls)
    assert one == other and len(one) == 32


@BOTH
def test_the_child_sa_is_renewed(monkeypatch, who):
    """With key exchanges like the IKE SA's, although the first child SA had none."""
    wire, ends = connected()
    calls = watched(monkeypatch, "machine.child_sa", "derive_child_keys")
    wire.seen.clear()
    machine_of(wire, ends, who).rekey(wire.now)
    settle(wire, ends)
    ours, theirs = wire.initiator.child, ends.answering.child
    assert ours.keys == theirs.keys and ours.keys.suite.extra == 36
    assert exchanges(wire)[:2] == [ExchangeType.CREATE_CHILD_SA, ExchangeType.IKE_FOLLOWUP_KE]
    (one, other) = (args[-1] for args in calls)
    assert one == other and len(one) == 32
    assert [len(side["in"]) for side in ends.sides] == [1, 1]


def test_keys_by_hand():
    """RFC 9370 §2.2.4: SKEYSEED = prf(SK_d, SK(0) | Ni | Nr | SK(1)); KEYMAT = prf+(SK_d, SK(0) | Ni | Nr | SK(1))."""
    suite = Suite(20, 256, prf=5, group=31, extra=36)
    nonces, spis = b"a" * 32 + b"b" * 32, b"1" * 8 + b"2" * 8
    before = derive_ike_keys(suite, b"s" * 32, b"a" * 32, b"b" * 32, b"1" * 8, b"2" * 8)
    after = derive_ike_keys(suite, b"k" * 32, b"a" * 32, b"b" * 32, b"1" * 8, b"2" * 8, before, b"m" * 32)
    seed = hmac.digest(before.sk_d, b"k" * 32 + nonces + b"m" * 32, "sha256")
    assert after.sk_d == hmac.digest(seed, nonces + spis + b"\x01", "sha256")
    child = derive_child_keys(before, Suite(20, 256), b"a" * 32, b"b" * 32, b"k" * 32, b"m" * 32)
    first = hmac.digest(before.sk_d, b"k" * 32 + nonces + b"m" * 32 + b"\x01", "sha256")
    assert child.encryption_i[:32] == first


def test_numbers_as_an_independent_library_has_them():
    """IANA's numbers of the two notifications."""
    assert "ADDITIONAL_KEY_EXCHANGE" in judge.IKEv2NotifyMessageTypes[NotifyType.ADDITIONAL_KEY_EXCHANGE]
    assert "STATE_NOT_FOUND" in judge.IKEv2NotifyMessageTypes[NotifyType.STATE_NOT_FOUND]


@pytest.mark.parametrize("seed", range(12))
def test_both_at_once(seed):
    """RFC 7296 §2.8.1 over two exchanges each: one IKE SA and one pair of child SAs are left, the same at both ends."""
    wire, ends = connected(seed)
    wire.jitter = 0.2 * (seed % 3)
    for act in ("rekey_ike", "rekey"):
        for machine in (wire.initiator, ends.answering):
            getattr(machine, act)(wire.now)
        settle(wire, ends, 120)
        assert wire.initiator.keys == ends.answering.keys
        ours, theirs = wire.initiator.child, ends.answering.child
        assert (ours.spi_in, ours.spi_out, ours.keys) == (theirs.spi_out, theirs.spi_in, theirs.keys)
        assert [len(side["in"]) for side in ends.sides] == [1, 1]
    assert wire.initiator.keys.suite.extra == ours.keys.suite.extra == 36
    assert not wire.closed


@pytest.mark.parametrize("seed", range(4))
def test_a_day_with_a_bad_network(seed):
    """24 hours of renewals of both kinds from both sides, 5 % loss, doubling, reordering: no packet without its SA."""
    wire, ends = connected(seed, ike_seconds=7200, liveness_seconds=600)
    wire.loss, wire.doubling, wire.jitter = 0.05, 0.05, 0.3
    for hour in range(24):
        machine_of(wire, ends, ("initiator", "gateway")[hour % 2]).rekey(wire.now)
        if hour % 5 == 0:
            ends.answering.rekey_ike(wire.now)
        settle(wire, ends, 3600)
        assert wire.initiator.state is State.ESTABLISHED, wire.events[-1]
        assert sum(len(side["in"]) for side in ends.sides) <= 6
        assert not wire.initiator.associations.followup.has_promised(wire.now)
    settle(wire, ends, 300)
    assert wire.initiator.keys == ends.answering.keys
    assert sum(isinstance(event, ChildRekeyed) for event in wire.events) >= 22
    assert sum(isinstance(event, IkeRekeyed) for event in wire.events) >= 10
    assert len(ends.keys) == 1 + sum(isinstance(event, ChildRekeyed) for event in wire.events)


def test_in_the_plain_where_the_profile_has_it_too():
    """A gateway that stands by a plain suite as well renews a plain tunnel plainly: nothing second is asked for."""
    wire = hybrid(ours=(HYBRID, PLAIN), theirs=(PLAIN,)).connect()
    both_stand(wire)
    ends = Ends(wire)
    ends.look()
    wire.seen.clear()
    wire.initiator.rekey_ike(wire.now)
    settle(wire, ends)
    assert ExchangeType.IKE_FOLLOWUP_KE not in exchanges(wire)
    assert wire.initiator.keys.suite.extra == 0


def test_nothing_weaker_than_the_profile():
    """Where the profile knows only hybrid suites, a gateway that renews without the second exchange is refused."""
    wire, ends = connected(theirs=(HYBRID,))
    before = wire.initiator.keys
    answering = ends.answering
    answering.sa.keys = replace(answering.keys, suite=replace(answering.keys.suite, extra=0))
    answering.rekey_ike(wire.now)
    settle(wire, ends)
    assert wire.initiator.keys is before
    assert wire.told(IkeRekeyed) is None


def without(kind, number):
    """Leaves a kind of payload out of what one side seals for an exchange."""

    def change(machine):
        respond = machine.end.respond

        def leave_out(message: Message, payloads):
            if message.header.exchange == number:
                payloads = [one for one in payloads if not kind(one)]
            respond(message, payloads)

        machine.end.respond = leave_out

    return change


LINK = without(lambda one: isinstance(one, Notify), ExchangeType.CREATE_CHILD_SA)
VALUE = without(lambda one: isinstance(one, KeyExchange), ExchangeType.IKE_FOLLOWUP_KE)


@pytest.mark.parametrize("change", [LINK, VALUE], ids=["no link", "no value"])
def test_a_gateway_that_does_not_go_on(change):
    """It agrees on a second exchange and has none: the tunnel stands under its old keys, and it is tried again."""
    wire, ends = connected()
    before, child = wire.initiator.keys, wire.initiator.child
    change(ends.answering)
    wire.initiator.rekey(wire.now)
    settle(wire, ends, 5)
    assert wire.initiator.child is child and wire.initiator.associations.children.rekey_due > wire.now
    del ends.answering.end.respond
    if change is LINK:
        # Where it has answered the second one the gateway holds a new SA that this side knows nothing of.
        change(ends.answering)
        wire.initiator.rekey_ike(wire.now)
        settle(wire, ends, 5)
        assert wire.initiator.keys is before and wire.initiator.state is State.ESTABLISHED
        assert wire.initiator.associations.ike.due > wire.now
        del ends.answering.end.respond
        settle(wire, ends, 60)
        assert wire.initiator.keys == ends.answering.keys != before
        assert wire.initiator.child is not child


@pytest.mark.parametrize("how", ["another link", "too late", "another method", "a bad value", "twice"])
def test_what_was_not_promised(how):
    """Another link, too late: the state is not found. Another method, a bad value: refused. Nothing is made by it."""
    wire, ends = connected()
    answering, child = ends.answering, ends.answering.child
    told = []
    take = wire.initiator.associations.followup.take_response

    def listen(message, now):
        told.extend(wire.initiator.end.open(message))
        take(message, now)

    wire.initiator.associations.followup.take_response = listen
    request = wire.initiator.end.request

    def change(exchange, payloads, now, *rest, **more):
        if exchange == ExchangeType.IKE_FOLLOWUP_KE:
            value, link = payloads
            if how == "another link":
                link = replace(link, data=bytes(16))
            elif how == "too late":
                answering.associations.followup.promise.until = now
            elif how == "another method":
                value = replace(value, group=31)
            elif how == "a bad value":
                value = replace(value, data=b"\xff" * len(value.data))
            payloads = [value, link]
        request(exchange, payloads, now, *rest, **more)

    wire.initiator.end.request = change
    wire.initiator.rekey(wire.now)
    settle(wire, ends, 5)
    kinds = [one.notification for one in told if isinstance(one, Notify)]
    if how == "twice":
        # The promise is used up: the same once more is not found.
        extra = MlKem768(bytes)
        wire.initiator.associations.followup.follow_up(
            [Notify(NotifyType.ADDITIONAL_KEY_EXCHANGE, b"l" * 16)], wire.now, lambda more, now: None
        )
        assert extra.group == 36
        settle(wire, ends, 5)
        assert [one.notification for one in told if isinstance(one, Notify)] == [NotifyType.STATE_NOT_FOUND]
        assert wire.initiator.child.keys == ends.answering.child.keys
        return
    assert answering.child is child and wire.initiator.child.keys == child.keys
    if how in ("another method", "a bad value"):
        # RFC 7296 §2.21.3: INVALID_SYNTAX, and both sides let the IKE SA go.
        assert kinds == [] and "INVALID_SYNTAX" in wire.told(Closed).reason
        assert answering.state is GatewayState.CLOSED
        return
    assert kinds == [NotifyType.STATE_NOT_FOUND]
    del wire.initiator.end.request
    settle(wire, ends, 60)
    assert wire.initiator.child.keys == answering.child.keys != child.keys


def test_a_tunnel_that_is_renewed_otherwise_meanwhile():
    """A new IKE SA ends what was promised by the old one."""
    wire, ends = connected()
    answering = ends.answering
    made = []
    answering.associations.followup.promise_more(36, wire.now, lambda more, now: bool(made.append(more)))
    assert not answering.associations.begin_child_rekey(wire.now)
    assert not answering.associations.begin_ike_rekey(wire.now)
    wire.initiator.rekey_ike(wire.now)
    settle(wire, ends)
    assert answering.associations.followup.promise is None and made == []
