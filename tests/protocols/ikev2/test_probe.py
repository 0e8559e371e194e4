"""Asking a gateway what it can do: the whole truth, over any network, from honest and hostile gateways."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import CALLER, GATEWAY, initiator_config, responder_config, seeded
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff
from zesty_burrow.protocols.ikev2.probe import MAX_QUESTIONS, Probe
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway
from zesty_burrow.protocols.ikev2.wire.message import Header, build_clear, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import KeyExchange, Nonce, Notify, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.proposals import build_proposals
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, Flag, NotifyType, Protocol
from zesty_burrow.protocols.session import ProbeDone

OWN = initiator_config().ike_offers


def probe_gateways(gateway, offers=OWN, loss=0.0, seed=1, timeout=15.0, answer=None, is_brief=False):
    """Ask a gateway over a network that loses by a seed; ``answer`` replaces the gateway by a function."""
    enquiry = Probe(GATEWAY, offers, seeded(seed), Backoff(give_up=timeout), is_brief=is_brief)
    dice, now = random.Random(seed), 0.0
    enquiry.start(now)
    for _ in range(5000):
        sent = enquiry.send(now)
        for datagram in sent:
            if dice.random() < loss:
                continue
            if answer is not None:
                replies = answer(datagram.data)
            else:
                gateway.receive(datagram.data, CALLER, now, datagram.destination[1])
                replies = [reply.data for reply in gateway.send(now)]
            for data in replies:
                if dice.random() >= loss:
                    enquiry.receive(data, GATEWAY, now + 0.01)
        if (event := enquiry.next_event()) is not None:
            return enquiry, event
        now += 0.01
        if not sent:
            now = max(now, enquiry.next_timer() or now)
            enquiry.handle_timer(now)
    raise AssertionError("no end")


def gateway_with(*offers, **changes):
    return IkeGateway(replace(responder_config(), ike_offers=offers, **changes), seeded(9), GATEWAY[0])


@pytest.mark.parametrize("takes", [True, False])
def test_a_brief_question(takes):
    """A gateway that takes one of the profile's own offers is asked nothing more; another one is asked all."""
    strange = Offer(((13, 256),), (12,), (5,), (14,))
    enquiry, _ = probe_gateways(gateway_with(*OWN, strange), OWN if takes else (Offer(((20, 128),), (), (7,), (19,)),),
                                is_brief=True)  # fmt: skip
    assert (enquiry.found.questions == 1, bool(enquiry.found.groups)) == (takes, not takes)
    assert enquiry.found.is_known and bool(enquiry.found.chosen) == takes


@pytest.mark.parametrize("loss", [0.0, 0.2])
@pytest.mark.parametrize("seed", range(6))
def test_the_whole_truth(seed, loss):
    """What a gateway is set to take, in its own order, is what is found out; nothing more, nothing less."""
    dice = random.Random(seed)
    combined = tuple(dice.sample([(20, 256), (20, 128), (28, 0), (16, 128), (19, 192)], dice.randint(1, 4)))
    plain = tuple(dice.sample([(12, 256), (12, 128), (13, 256)], dice.randint(1, 3)))
    checks = tuple(dice.sample([12, 13, 14, 2, 8], dice.randint(1, 4)))
    prfs = tuple(dice.sample([5, 6, 7, 2, 8], dice.randint(1, 4)))
    groups = tuple(dice.sample([31, 19, 20, 14, 32], dice.randint(1, 4)))
    gateway = gateway_with(Offer(combined, (), prfs, groups), Offer(plain, checks, prfs, groups))
    enquiry, event = probe_gateways(gateway, loss=loss, seed=seed, timeout=60.0)
    found = enquiry.found
    assert event.silent is False
    assert (found.ciphers, found.prfs) == ([*combined, *plain], list(prfs))
    assert sorted(found.checks) == sorted(checks)
    assert set(found.groups) == set(groups)
    assert found.fragments
    assert found.questions <= MAX_QUESTIONS


def test_what_cannot_be_computed_here_is_found_too():
    """3DES and a group of 1024 bits, which this program has not: the gateway's own choice tells of them."""
    gateway = gateway_with(Offer(((3, 0),), (2,), (2,), (2,)))
    found = probe_gateways(gateway)[0].found
    assert found.groups == [2]
    assert found.chosen is None


def test_what_it_would_choose_of_the_profile():
    gateway = gateway_with(Offer(((20, 128), (20, 256)), (), (7, 5), (14, 31)))
    found = probe_gateways(gateway, (Offer(((20, 256), (20, 128)), (), (5, 7), (31, 14)),))[0].found
    assert found.chosen == Suite(20, 128, 0, 7, 31)
    none = probe_gateways(gateway, (Offer(((28, 0),), (), (5,), (31,)),), seed=2)[0].found
    assert none.chosen is None
    assert none.ciphers == [(20, 128), (20, 256)]


def test_cookies():
    """A gateway that fears a flood is answered with its cookie."""
    gateway = gateway_with(*OWN, cookie_above=0)
    enquiry, event = probe_gateways(gateway)
    assert event.silent is False
    assert enquiry.found.cookies
    assert enquiry.found.chosen is not None


def test_silence():
    enquiry, event = probe_gateways(None, answer=lambda _: [], timeout=2.0)
    assert event == ProbeDone(event.at, silent=True)
    assert enquiry.found.chosen is None
    assert enquiry.found.groups == []


def liar(payloads):
    """A gateway that answers everything in the same way."""

    def answer(data):
        asked = parse_message_untrusted(data).header
        header = Header(asked.initiator_spi, b"liarliar", ExchangeType.IKE_SA_INIT, Flag.RESPONSE, 0)
        return [build_clear(header, payloads)]

    return answer


GRANTED = SecurityAssociation(build_proposals((Offer(((3, 0),), (2,), (2,), (2,)),), Protocol.IKE, b""))


@pytest.mark.parametrize(
    "payloads",
    [
        [],
        [Notify(NotifyType.COOKIE, b"more")],
        [Notify(NotifyType.INVALID_KE_PAYLOAD, b"\0\x1f")],
        [Notify(NotifyType.INVALID_KE_PAYLOAD, b"\0")],
        [Notify(NotifyType.INVALID_KE_PAYLOAD, b"\xff\xff")],
        [Notify(NotifyType.NO_PROPOSAL_CHOSEN)],
        [GRANTED, KeyExchange(31, bytes(32)), Nonce(bytes(32))],
    ],
)
def test_liars_cannot_keep_us(payloads):
    """Whatever it says for ever, there is an end, and nothing is believed that was not asked."""
    enquiry, _ = probe_gateways(None, answer=liar(payloads), timeout=5.0)
    assert enquiry.found.questions <= MAX_QUESTIONS
    assert enquiry.found.ciphers == []
    assert enquiry.found.chosen is None


@given(st.binary(max_size=100))
def test_strangers_octets(data):
    enquiry = Probe(GATEWAY, OWN, seeded(1), Backoff())
    enquiry.start(0.0)
    enquiry.receive(data, GATEWAY, 0.1)
    asked = parse_message_untrusted(enquiry.send(0.1)[0].data).header
    enquiry.receive(asked.initiator_spi + b"x" * 8 + data, GATEWAY, 0.2)
    assert enquiry.next_event() is None
    assert enquiry.found.questions == 1
