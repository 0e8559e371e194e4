"""Gateways that send their callers elsewhere (RFC 5685): followed, never believed from strangers, never for ever."""

from __future__ import annotations

import asyncio

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import GATEWAY, Wire, initiator_config, responder_config
from zesty_burrow.carrier.network.addresses import MAX_REDIRECTS, try_each
from zesty_burrow.errors import GatewayElsewhere, GatewayUnreachable, Malformed
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Redirected
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.wire.message import Header, build_clear, notifications, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.payloads import Notify
from zesty_burrow.protocols.ikev2.wire.redirect import read_redirect_untrusted, sent_elsewhere, write_redirect
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, Flag, NotifyType

OTHER = "198.51.100.34"


@pytest.mark.parametrize("to", [OTHER, "2001:db8:1002::2", "tallinn.quillwort.example"])
def test_in_the_first_exchange(to):
    """The caller learns where to go, and nothing of its own has gone out; the gateway keeps nothing of it."""
    wire = Wire(initiator_config(), responder_config(redirect=to)).connect()
    assert isinstance(wire.error, GatewayElsewhere)
    assert wire.error.to == to
    assert wire.gateway.responders == {}


def test_who_comes_from_elsewhere_says_so():
    """RFC 5685 §3: REDIRECTED_FROM with the first gateway's address; it is served."""
    wire = Wire(initiator_config(redirected_from=OTHER), responder_config(redirect=OTHER)).connect()
    assert wire.told(ChildEstablished)
    first = parse_message_untrusted(next(data for to_gateway, _, data in wire.seen if to_gateway))
    told = notifications(first.payloads)
    assert told[NotifyType.REDIRECTED_FROM].data == b"\x01\x04" + bytes([198, 51, 100, 34])
    assert NotifyType.REDIRECT_SUPPORTED not in told


@pytest.mark.parametrize("nonce", [b"", bytes(32), b"x" * 16])
def test_strangers_send_us_nowhere(nonce):
    """A forged REDIRECT that does not repeat our nonce is dropped; the real answer is taken."""
    wire = Wire().start()
    header = Header(wire.initiator.sa.spi_i, bytes(8), ExchangeType.IKE_SA_INIT, Flag.RESPONSE, 0)
    wire.initiator.receive(build_clear(header, [write_redirect(OTHER, nonce)]), GATEWAY, 0.0)
    assert "nonce" in wire.initiator.ignored[-1]
    wire.run(stop=lambda one: one.initiator.state is State.ESTABLISHED)
    assert wire.told(ChildEstablished)


def test_in_the_middle_of_a_tunnel():
    """RFC 5685 §5: acknowledged, told, and the tunnel stands until its carrier ends it."""
    wire = Wire(initiator_config(child_seconds=1e9)).connect()
    answering = next(iter(wire.gateway.responders.values()))
    answering.redirect(OTHER, wire.now)
    wire.run(until=wire.now + 2)
    assert [event.to for event in wire.events if isinstance(event, Redirected)] == [OTHER]
    assert answering.sa.outstanding is None
    assert wire.initiator.state is State.ESTABLISHED
    wire.initiator.close(wire.now)
    wire.run(until=wire.now + 2)
    assert wire.gateway.responders == {}


def test_in_ike_auth():
    """RFC 5685 §6: the gateway that has proven itself grants no child SA and names another."""
    wire = Wire()
    gateway = wire.gateway
    from zesty_burrow.protocols.ikev2.responder.ike_auth import CallerAuth

    honest = CallerAuth.grant
    CallerAuth.grant = lambda self, now: [write_redirect(OTHER)]
    try:
        wire.connect()
    finally:
        CallerAuth.grant = honest
    assert isinstance(wire.error, GatewayElsewhere)
    assert wire.error.to == OTHER
    wire.run(until=wire.now + 5)
    assert gateway.responders == {}


@given(st.binary(max_size=40), st.booleans())
def test_strangers_octets(data, protected):
    told = {NotifyType.REDIRECT: Notify(NotifyType.REDIRECT, data)}
    try:
        found = read_redirect_untrusted(told, None if protected else b"nonce")
    except Malformed:
        return
    assert found
    assert found.isprintable()
    assert " " not in found


@pytest.mark.parametrize("data", [b"\x01\x05abcde", b"\x03\x00", b"\x03\x05a b.c", b"\x09\x01a", b"\x02\x04abcd", b""])
def test_identities_that_are_none(data):
    with pytest.raises(Malformed):
        read_redirect_untrusted({NotifyType.REDIRECT: Notify(NotifyType.REDIRECT, data)}, None)


def go(attempt, addresses=("192.0.2.1", "192.0.2.2")):
    return asyncio.run(try_each(addresses, attempt))


def test_following():
    """One after the other; silence moves on; a redirect is followed with its origin, but not round in circles."""
    asked = []

    async def attempt(address, origin):
        asked.append((address, origin))
        if address == "192.0.2.1":
            raise GatewayUnreachable("silent")
        if address == "192.0.2.2":
            raise sent_elsewhere(address, "192.0.2.9")
        return address

    assert go(attempt) == "192.0.2.9"
    assert asked == [("192.0.2.1", ""), ("192.0.2.2", ""), ("192.0.2.9", "192.0.2.2")]

    async def circle(address, origin):
        asked.append((address, origin))
        raise sent_elsewhere(address, address)

    asked.clear()
    with pytest.raises(GatewayElsewhere):
        go(circle)
    assert len(asked) == MAX_REDIRECTS + 1

    async def silent(address, origin):
        raise GatewayUnreachable(address)

    with pytest.raises(GatewayUnreachable, match=r"192\.0\.2\.2"):
        go(silent)
    with pytest.raises(GatewayUnreachable, match="no address"):
        go(silent, ())
