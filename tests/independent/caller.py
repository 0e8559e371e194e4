"""An initiator for a gateway that is called directly: IKE_SA_INIT, sign-in by pre-shared key, and what follows."""

from __future__ import annotations

import os

from independent.peer import (
    AUTH,
    CHILD,
    COOKIE,
    CP,
    FRAGMENTS,
    HASHES,
    IDI,
    INIT,
    NONCE,
    SA,
    TSI,
    TSR,
    WHOLE4,
    X25519,
    Exchange,
    Peer,
    notify,
    proposal,
    selectors,
)

KEY = b"a-pre-shared-key-of-the-tests-0123456789"
WHO = b"heron.tidewrack.example"
SOURCE = ("192.0.2.77", 40000)
GCM = (1, 20, 256)


class Caller(Peer):
    """``gateway``: what takes and gives datagrams, with ``receive`` and ``send``."""

    def __init__(self, gateway, prf=5, group=X25519, extra=()):
        super().__init__(True, prf, group)
        self.gateway, self.extra, self.number, self.now = gateway, extra, 0, 0.0
        self.spi_in, self.child, self.pending = b"", None, []

    def ask(self, data, port=4500):
        """Send a datagram; every message that comes back."""
        marked = data if port == 500 else bytes(4) + data
        self.gateway.receive(marked, SOURCE, self.now, port)
        found = []
        for datagram in self.gateway.send(self.now):
            octets = datagram.data if datagram.local_port == 500 else datagram.data[4:]
            found.append(octets)
        return found

    def init(self, nonce=None, more=(), cookie=b"", transforms=None):
        self.exchange = Exchange(self.group)
        self.nonce = nonce or self.nonce
        rows = transforms or [GCM, (2, self.prf), (4, self.group), *self.extra]
        payloads = [
            *([notify(COOKIE, cookie)] if cookie else []),
            (SA, proposal(1, 1, b"", rows)),
            self.exchange.payload,
            (NONCE, self.nonce),
            notify(FRAGMENTS),
            notify(HASHES, bytes([0, 2, 0, 3, 0, 4])),
            *more,
        ]
        self.own_init = self.clear(payloads)
        answers = self.ask(self.own_init, 500)
        return self.read(answers[0]) if answers else None

    def connect(self, **more):
        """As far as keys."""
        answer = self.init(**more)
        self.their_init, self.spi_r, self.their_nonce = answer.raw, answer.spi_r, answer.body(NONCE)
        self.make_keys(self.exchange.shared(answer.body(34)[4:]))
        return answer

    def request(self, exchange, payloads, number=None, **more):
        """A protected request; its answer, or None for silence."""
        self.number += 1
        data = self.seal(exchange, self.number if number is None else number, payloads, False, **more)
        for octets in self.ask(data):
            message = self.read(octets)
            if message is not None and message.flags & 0x20:
                return message
            if message is not None:
                self.pending.append(message)
        return None

    def auth_payloads(self, key=KEY, identity=b"\2\0\0\0" + WHO, address=b"", ranges=(WHOLE4,), more=()):
        self.spi_in = os.urandom(3) + b"\1"
        return [
            (IDI, identity),
            self.shared_key_auth(key, True, identity),
            (CP, b"\1\0\0\0" + b"\0\1" + len(address).to_bytes(2) + address),
            (SA, proposal(1, 3, self.spi_in, [GCM, (5, 0)])),
            selectors(TSI, *ranges),
            selectors(TSR, WHOLE4),
            *more,
        ]

    def sign_in(self, **more):
        """Up to the tunnel."""
        answer = self.request(AUTH, self.auth_payloads(**more))
        if answer.body(SA) is not None:
            self.child = answer.proposal_spi, self.child_keys(self.nonce + self.their_nonce)
        return answer

    def rekey(self, groups=(X25519,), value=X25519, nonce=None, spi=None):
        """Ask for a new pair of child SAs: a proposal with each of ``groups``, 0 for one without; KE of ``value``."""
        own = os.urandom(3) + b"\2"
        rows = [[GCM, (5, 0), *([(4, group)] if group else [])] for group in groups]
        proposals = [proposal(at, 3, own, row, last=at == len(rows)) for at, row in enumerate(rows, start=1)]
        exchange = Exchange(value) if value else None
        payloads = [
            notify(16393, protocol=3, spi=self.spi_in if spi is None else spi),
            (SA, b"".join(proposals)),
            (NONCE, nonce or os.urandom(32)),
            *([exchange.payload] if exchange else []),
            selectors(TSI, WHOLE4),
            selectors(TSR, WHOLE4),
        ]
        return self.request(CHILD, payloads)

    def rekey_ike(self, group=X25519):
        """Ask for a new IKE SA and go on with it; the answer."""
        spi, nonce, exchange = os.urandom(8), os.urandom(32), Exchange(group)
        rows = [GCM, (2, self.prf), (4, group)]
        payloads = [(SA, proposal(1, 1, spi, rows)), (NONCE, nonce), exchange.payload]
        answer = self.request(CHILD, payloads)
        if answer.body(SA) is not None:
            shared = exchange.shared(answer.body(34)[4:])
            new = self.renewed(spi, answer.proposal_spi, (nonce, answer.body(NONCE)), shared)
            self.spi_i, self.spi_r, self.keys, self.number = new.spi_i, new.spi_r, new.keys, -1
            self.nonce, self.their_nonce, self.counter = new.nonce, new.their_nonce, 0
        return answer


__all__ = ["INIT", "KEY", "SOURCE", "WHO", "Caller"]
