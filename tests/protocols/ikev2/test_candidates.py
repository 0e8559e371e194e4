"""Several answers to the first message: whoever proves itself is the gateway (RFC 7296 §2.4)."""

from __future__ import annotations

from dataclasses import replace

import pytest

from support import CALLER, GATEWAY, HOST, OTHER, initiator_config, responder_config, seeded
from zesty_burrow.errors import GatewayNotProven, GatewayUnreachable
from zesty_burrow.lab.authority import issue, make_authority
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Failed, Proven
from zesty_burrow.protocols.ikev2.initiator.candidates import MAX_CANDIDATES, Candidates
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway

IMPOSTOR = responder_config(certificates=(issue(make_authority("Somebody"), OTHER, HOST),), key=OTHER)


class Field:
    """A caller and several that answer it, in the order in which their answers arrive."""

    def __init__(self, *gateways, seed=3):
        self.caller = Candidates(initiator_config(), seeded(seed))
        self.gateways = [
            IkeGateway(config, seeded(seed + number + 1), GATEWAY[0]) for number, config in enumerate(gateways)
        ]
        self.mute = set()
        self.events, self.now = [], 0.0

    def run(self, seconds=40.0):
        self.caller.leading.start(self.now)
        until = self.now + seconds
        while self.now < until:
            for datagram in self.caller.send(self.now):
                for gateway in self.gateways:
                    gateway.receive(datagram.data, CALLER, self.now, datagram.destination[1])
            for number, gateway in enumerate(self.gateways):
                for datagram in gateway.send(self.now):
                    first = b"\x22" in datagram.data[18:19] or datagram.local_port == 500
                    if number not in self.mute or first:
                        self.caller.receive(datagram.data, (GATEWAY[0], datagram.local_port), self.now)
            while (event := self.caller.next_event()) is not None:
                self.events.append(event)
            if any(isinstance(event, (ChildEstablished, Failed)) for event in self.events):
                return self
            self.now += 0.05
            self.caller.handle_timer(self.now)
        return self

    def told(self, kind):
        return next((event for event in self.events if isinstance(event, kind)), None)


def test_one_answer():
    assert Field(responder_config()).run().told(ChildEstablished)


@pytest.mark.parametrize("impostors", [1, 2, 3])
@pytest.mark.parametrize("mute", [True, False], ids=["silent afterwards", "going on"])
def test_forged_answers_in_front(impostors, mute):
    """Silent afterwards or with a proof of their own: the tunnel is with the true one, and nobody else is Proven."""
    field = Field(*[IMPOSTOR] * impostors, responder_config())
    field.mute = set(range(impostors)) if mute else set()
    field.run()
    assert field.told(ChildEstablished) and not field.told(Failed)
    assert sum(isinstance(event, Proven) for event in field.events) == 1
    assert field.now < 5 and field.caller.leading.state is State.ESTABLISHED


def test_too_many_forged_answers():
    """A bounded number is gone on with; then the attempt ends as it would have, and blames nobody who did not lie."""
    field = Field(*[IMPOSTOR] * (MAX_CANDIDATES + 2), responder_config()).run()
    assert isinstance(field.told(Failed).error, GatewayNotProven)


def test_nobody_proves_himself():
    """Two impostors: the last one's failure is told, and no credentials were asked for."""
    asked = []
    field = Field(IMPOSTOR, IMPOSTOR)
    field.caller = Candidates(initiator_config(credentials=lambda: asked.append(1)), seeded(9))
    assert isinstance(field.run().told(Failed).error, GatewayNotProven) and asked == []


def test_all_silent_afterwards():
    field = Field(IMPOSTOR, replace(IMPOSTOR))
    field.mute = {0, 1}
    assert isinstance(field.run().told(Failed).error, GatewayUnreachable)
