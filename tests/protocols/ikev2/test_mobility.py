"""A caller that moves (RFC 4555): the gateway follows and checks, whatever is lost, doubled or forged."""

from __future__ import annotations

import pytest

from support import CALLER, GATEWAY, Wire, initiator_config, responder_config
from zesty_burrow.protocols.ikev2.events import Closed, Moved
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.wire.message import notifications, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.payloads import Notify
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType

ELSEWHERE = ("203.0.113.99", 51000)


def connected(seed=1, **changes):
    wire = Wire(initiator_config(child_seconds=1e9, liveness_seconds=1e9, **changes), responder_config(), seed=seed)
    wire.connect()
    return wire, next(iter(wire.gateway.responders.values()))


def moves(events):
    return [event for event in events if isinstance(event, Moved)]


def test_a_caller_moves():
    """Both say that they can; the gateway's answers go to the new address; it checks that somebody is there."""
    wire, answering = connected()
    assert wire.initiator.mobile
    assert answering.mobile
    assert answering.peer == CALLER
    wire.caller = ELSEWHERE
    wire.initiator.moved(wire.now)
    wire.run(until=wire.now + 5)
    assert answering.peer == ELSEWHERE
    assert [event.peer for event in moves(wire.gateway_events)] == [ELSEWHERE]
    assert len(moves(wire.events)) == 1
    assert wire.initiator.state is State.ESTABLISHED


@pytest.mark.parametrize("seed", range(8))
def test_on_a_bad_network(seed):
    """20 % loss, doubling, reordering, three moves: the gateway ends where the caller is."""
    wire, answering = connected(seed)
    wire.loss, wire.doubling, wire.jitter = 0.2, 0.2, 0.3
    for number in range(3):
        wire.caller = (ELSEWHERE[0], ELSEWHERE[1] + number)
        wire.initiator.moved(wire.now)
        wire.run(until=wire.now + 20)
    assert answering.peer == wire.caller
    assert len(moves(wire.events)) == 3
    assert wire.initiator.state is State.ESTABLISHED


def test_while_another_question_waits():
    """The update waits its turn, and is said as soon as the other one is answered; and after new keys too."""
    wire, answering = connected()
    wire.initiator.rekey(wire.now)
    wire.caller = ELSEWHERE
    wire.initiator.moved(wire.now)
    wire.run(until=wire.now + 5)
    assert len(moves(wire.events)) == 1
    wire.initiator.rekey_ike(wire.now)
    wire.initiator.moved(wire.now)
    answering.rekey_ike(wire.now)
    wire.run(until=wire.now + 30)
    assert len(moves(wire.events)) == 2
    assert wire.initiator.sa.keys == answering.sa.keys


def test_a_gateway_that_does_not_know_of_it():
    """Then an ordinary probe shows it the new address (RFC 7296 §2.23)."""
    wire, answering = connected()
    wire.initiator.associations.mobility.enabled = False
    wire.caller = ELSEWHERE
    wire.initiator.moved(wire.now)
    wire.run(until=wire.now + 5)
    assert answering.peer == ELSEWHERE
    assert moves(wire.events) == []


@pytest.mark.parametrize("who", ["initiator", "gateway"])
def test_a_cookie_that_is_another(who):
    """RFC 4555 §3.7: an answer with another COOKIE2 ends the IKE SA."""
    wire, answering = connected()
    asking, other = (wire.initiator, answering) if who == "initiator" else (answering, wire.initiator)
    other.associations.mobility.answer = lambda payloads: [Notify(NotifyType.COOKIE2, b"another cookie..")]
    wire.caller = ELSEWHERE if who == "gateway" else wire.caller
    wire.initiator.moved(wire.now)
    wire.run(until=wire.now + 5)
    events = wire.events if who == "initiator" else wire.gateway_events
    closed = [event for event in events if isinstance(event, Closed)]
    assert len(closed) == 1
    assert "not the peer" in closed[0].reason
    assert str(asking.state) == "closed"


def test_an_address_that_is_refused():
    """The gateway's words end it, in words."""
    wire, answering = connected()
    honest = answering.associations.mobility.answer
    answering.associations.mobility.answer = lambda payloads: [
        *honest(payloads),
        Notify(NotifyType.UNACCEPTABLE_ADDRESSES),
    ]
    wire.initiator.moved(wire.now)
    wire.run(until=wire.now + 5)
    closed = next(event for event in wire.events if isinstance(event, Closed))
    assert "UNACCEPTABLE_ADDRESSES" in closed.reason


def test_a_caller_answers_with_the_cookie_as_it_is():
    """RFC 4555 §3.7: copied into the response, whatever is in it."""
    wire, answering = connected()
    answering.end.request(ExchangeType.INFORMATIONAL, [Notify(NotifyType.COOKIE2, b"a gateway's own")], wire.now)
    for datagram in answering.send(wire.now):
        wire.initiator.receive(datagram.data, (GATEWAY[0], 4500), wire.now)
    answer = parse_message_untrusted(wire.initiator.send(wire.now)[0].data[4:])
    assert notifications(answering.sa.open(answer))[NotifyType.COOKIE2].data == b"a gateway's own"


def test_before_it_stands_and_after():
    """A change of address while nothing stands is nothing to tell."""
    wire = Wire()
    wire.initiator.moved(0.0)
    wire.connect()
    wire.initiator.close(wire.now)
    wire.initiator.moved(wire.now)
    wire.run(until=wire.now + 5)
    assert wire.closed
    assert moves(wire.events) == []
