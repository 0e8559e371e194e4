"""A minimal gateway for the built program, on scapy and cryptography alone: how it behaves is told by a line of JSON.

Reads commands from standard input and answers each with a line: ``{"be": {...}}`` forgets everything and behaves anew,
``{"ask": ...}`` asks something of the caller, ``{"report": true}`` tells what has happened.
"""

from __future__ import annotations

import hashlib
import ipaddress
import json
import os
import select
import socket
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from independent import esp
from independent.certificates import sign
from independent.peer import (
    AUTH,
    AUTH_PAYLOAD,
    CERT,
    CHILD,
    COOKIE,
    CP,
    DELETE,
    EAP,
    FRAGMENTS,
    HASHES,
    IDI,
    IDR,
    INFORMATIONAL,
    INIT,
    INTERMEDIATE,
    INTERMEDIATES,
    INVALID_KE,
    KE,
    NAT_DESTINATION,
    NAT_SOURCE,
    NO_PROPOSAL,
    NONCE,
    REDIRECT,
    REKEY,
    SA,
    SKF,
    TSI,
    TSR,
    UNKNOWN,
    WHOLE4,
    X25519,
    Exchange,
    Peer,
    answer_ml_kem,
    notify,
    proposal,
    selector,
    selectors,
    walk,
)

NAME = b"\2\0\0\0independent.example"
CRITICAL = (UNKNOWN, b"what this means is not known", True)
MALFORMED = (41, bytes([0, 0, 0, 3]))
ADDRESSES = "127.0.0.1", "127.0.0.2"


def address_hash(spi_i, spi_r, address, port):
    return hashlib.sha1(spi_i + spi_r + ipaddress.ip_address(address).packed + port.to_bytes(2)).digest()


class Caller:
    """One IKE SA: ``peer`` holds its keys; ``children``: inbound keys by our SPI; ``number``: of our last request."""

    def __init__(self, peer, address, source):
        self.peer, self.address, self.source = peer, address, source
        self.port = 500
        self.number, self.mute = -1, False
        self.children, self.current = {}, b""
        self.first, self.answers, self.waiting = None, {}, None


class Gateway:
    def __init__(self, key):
        self.key = key
        self.sockets = {}
        for address in ADDRESSES:
            for port in (500, 4500):
                one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                one.bind((address, port))
                self.sockets[one] = (address, port)
        self.be({})

    def be(self, how):
        self.how, self.callers, self.inits = how, {}, {}
        self.log, self.esp, self.asked = [], {}, None

    # The loop.

    def run(self):
        while True:
            ready, _, _ = select.select([*self.sockets, sys.stdin], [], [])
            for one in ready:
                if one is sys.stdin:
                    line = sys.stdin.readline()
                    if not line:
                        return
                    self.command(json.loads(line))
                else:
                    data, source = one.recvfrom(65535)
                    self.receive(data, *self.sockets[one], source)

    def command(self, what):
        if "be" in what:
            self.be(what["be"])
            print("{}", flush=True)
        elif "ask" in what:
            self.ask(what)
        else:
            last = next(reversed(self.callers.values()), None)
            said = {"log": self.log, "esp": list(self.esp.values()), "callers": len(self.callers)}
            print(json.dumps({**said, "open": bool(last and last.children)}), flush=True)

    def receive(self, data, address, port, source):
        limit = self.how.get("drop_above", 0)
        if limit and len(data) + 28 > limit:
            self.log.append(f"lost {len(data)}")
            return
        if port == 4500:
            if data[:4] != bytes(4):
                self.take_esp(data)
                return
            data = data[4:]
        # After a renewal that this side has asked for, the first of the two SPIs is its own.
        caller = self.callers.get(data[8:16]) or self.callers.get(data[:8])
        if caller is None and data[18] == INIT:
            self.take_init(data, address, port, source)
        elif caller is not None and not caller.mute:
            caller.port, caller.source = port, source
            message = caller.peer.read(data)
            if message is not None:
                self.take(caller, message, walk(data[16], data[28:])[-1][0] == SKF)

    def send(self, caller, data):
        marked = bytes(4) + data if caller.port == 4500 else data
        out = next(one for one, where in self.sockets.items() if where == (caller.address, caller.port))
        out.sendto(marked, caller.source)

    def take_esp(self, data):
        for caller in self.callers.values():
            key = caller.children.get(data[:4])
            if key is not None and esp.opens(key, data):
                self.esp[data[:4]] = self.esp.get(data[:4], 0) + 1

    # IKE_SA_INIT.

    def take_init(self, data, address, port, source):
        reader = Peer(False)
        message = reader.read(data)
        size = self.how.get("cookie")
        if size is not None and message.told(COOKIE) != b"c" * size:
            reader.spi_i, reader.spi_r = message.spi_i, bytes(8)
            self._send_raw(reader.clear([notify(COOKIE, b"c" * size)]), address, port, source)
            return
        if message.spi_i in self.inits and self.inits[message.spi_i] == data:
            return
        self.inits[message.spi_i] = data
        if self.how.get("forged"):
            # Somebody in front of the gateway, who falls silent afterwards.
            self._answer_init(message, data, address, port, source).mute = True
        self._answer_init(message, data, address, port, source)

    def _send_raw(self, data, address, port, source):
        out = next(one for one, where in self.sockets.items() if where == (address, port))
        out.sendto(bytes(4) + data if port == 4500 else data, source)

    def _answer_init(self, message, data, address, port, source):
        rows = message.proposals[0]
        prf = self.how.get("prf") or next(number for kind, number, _ in rows if kind == 2 and number in (5, 7))
        group = int.from_bytes(message.body(KE)[:2])
        peer = Peer(False, prf, group)
        peer.spi_i, peer.their_init, peer.their_nonce = message.spi_i, data, message.body(NONCE)
        peer.nonce, peer.exchange = os.urandom(self.how.get("nonce", 32)), Exchange(group)
        caller = Caller(peer, address, source)
        caller.port = port
        extra = [(kind, number) for kind, number, _ in rows if kind == 6][:1] if "front" in self.how else []
        sources = [os.urandom(20) for _ in range(self.how.get("sources", 0))]
        payloads = [
            (SA, proposal(1, 1, b"", [(1, 20, 256), (2, prf), (4, group), *extra])),
            peer.exchange.payload,
            (NONCE, peer.nonce),
            *[notify(NAT_SOURCE, one) for one in [*sources, address_hash(peer.spi_i, peer.spi_r, address, 500)]],
            notify(NAT_DESTINATION, address_hash(peer.spi_i, peer.spi_r, *source)),
            notify(FRAGMENTS),
            notify(HASHES, bytes([0, 2, 0, 3, 0, 4])),
            *([notify(INTERMEDIATES)] if extra else []),
            *([CRITICAL] if self.how.get("critical") == "init" else []),
        ]
        peer.own_init = peer.clear(payloads)
        peer.make_keys(peer.exchange.shared(message.body(KE)[4:]))
        self.callers[peer.spi_r] = caller
        self.send(caller, peer.own_init)
        return caller

    # Protected messages.

    def take(self, caller, message, in_parts):
        if message.flags & 0x20:
            self.take_answer(caller, message)
            return
        if message.number in caller.answers and not self.how.get("mute"):
            self.send(caller, caller.answers[message.number])
            return
        self.log.append(f"{message.exchange}{' in parts' if in_parts else ''}")
        handler = {AUTH: self.take_auth, CHILD: self.take_child, INTERMEDIATE: self.take_between}.get(message.exchange)
        answer = handler(caller, message) if handler else self.take_informational(caller, message)
        if answer is None or self.how.get("mute"):
            return
        payloads, more = answer
        data = caller.peer.seal(message.exchange, message.number, payloads, True, **more)
        caller.answers[message.number] = data
        self.send(caller, data)
        if caller.waiting is not None:
            caller.peer.make_keys(*caller.waiting)
            caller.waiting = None

    def take_between(self, caller, message):
        secret, ciphertext = answer_ml_kem(message.body(KE)[4:])
        front = [(43, b"in front %d" % number) for number in range(self.how["front"])]
        payloads = [(KE, message.body(KE)[:4] + ciphertext)]
        caller.peer.note_between(message, message.number, own=False)
        caller.peer.note_between(payloads, message.number, own=True, before=front)
        caller.waiting = secret, caller.peer.keys["d"]
        return payloads, {"before": front}

    def take_auth(self, caller, message):
        peer, how = caller.peer, self.how
        if how.get("malformed") == "auth":
            return [], {"inner": MALFORMED}
        if message.body(EAP) is not None:
            return [(EAP, b"\4" + message.body(EAP)[1:2] + b"\0\4")], {}
        identity = bytes.fromhex(how["identity"]) if "identity" in how else NAME
        if how.get("chain"):
            key = load_pem_private_key(how["key"].encode(), None)
            digest = {"sha256": hashes.SHA256, "sha512": hashes.SHA512}[how.get("digest", "sha256")]
            algorithm = bytes.fromhex(how.get("algorithm", ""))
            body = sign(key, peer.signed(False, identity), algorithm, digest, how.get("salt", 32))
            proof = [
                (IDR, identity),
                *[(CERT, b"\4" + bytes.fromhex(der)) for der in how["chain"]],
                (AUTH_PAYLOAD, body),
            ]
        else:
            proof = [(IDR, identity), peer.shared_key_auth(self.key, False, identity)]
        if "redirect" in how and caller.address == ADDRESSES[0]:
            return [*proof, notify(REDIRECT, b"\1\4" + ipaddress.ip_address(how["redirect"]).packed)], {}
        if message.body(AUTH_PAYLOAD) is None:
            return [*proof, (EAP, b"\1\1\0\5\1")], {}
        mine = message.body(AUTH_PAYLOAD)
        if mine[0] == 2 and peer.shared_key_auth(self.key, True, message.body(IDI))[1] != mine:
            return [notify(24)], {}
        return [*proof, *self.grant(caller, message)], {}

    def grant(self, caller, message):
        own = os.urandom(3) + b"\7"
        sends, _ = caller.peer.child_keys(caller.peer.nonces)
        caller.children[own], caller.current = sends, own
        caller.first = message.proposal_spi
        ranges = [
            selector(*(ipaddress.ip_address(one).packed for one in row[:2]), **row[2])
            for row in self.how.get("ranges", [])
        ]
        address = ipaddress.ip_address(self.how.get("address", "10.66.1.10")).packed
        return [
            (CP, b"\2\0\0\0" + b"\0\1\0\4" + address),
            (SA, proposal(1, 3, own, [(1, 20, 256), (5, 0)])),
            selectors(TSI, *(ranges or [WHOLE4])),
            selectors(TSR, WHOLE4),
            *([CRITICAL] if self.how.get("critical") == "auth" else []),
        ]

    def take_child(self, caller, message):
        wish, value = self.how.get("renew", X25519), message.body(KE)
        if wish == "never" or message.told(REKEY) is None:
            return [notify(NO_PROPOSAL)], {}
        if wish == "critical":
            return [notify(NO_PROPOSAL), CRITICAL], {}
        if wish and (value is None or int.from_bytes(value[:2]) != wish):
            self.log.append("another group")
            return [notify(INVALID_KE, wish.to_bytes(2))], {}
        at = next((at for at, groups in enumerate(message.groups) if (wish in groups if wish else not groups)), None)
        if at is None:
            return [notify(NO_PROPOSAL)], {}
        exchange, nonce, own = Exchange(wish) if wish else None, os.urandom(32), os.urandom(3) + b"\x08"
        shared = exchange.shared(value[4:]) if exchange else b""
        sends, _ = caller.peer.child_keys(message.body(NONCE) + nonce, shared)
        caller.children[own], caller.current = sends, own
        caller.first = message.proposal_spi
        self.log.append(f"renewed with {wish}")
        rows = [(1, 20, 256), *([(4, wish)] if wish else []), (5, 0)]
        payloads = [(SA, proposal(at + 1, 3, own, rows)), (NONCE, nonce), *([exchange.payload] if exchange else [])]
        return [*payloads, selectors(TSI, WHOLE4), selectors(TSR, WHOLE4)], {}

    def take_informational(self, caller, message):
        gone = message.body(DELETE)
        if gone is not None and gone[0] == 1:
            caller.children.clear()
            return [], {}
        return [(DELETE, gone)] if gone is not None else [], {}

    # What this side asks.

    def ask(self, what):
        if what["ask"] == "mute":
            self.how["mute"] = True
            print("{}", flush=True)
            return
        caller = next(one for one in reversed(self.callers.values()) if not one.mute)
        caller.number += 1
        peer, self.asked, more = caller.peer, what, {}
        exchange, payloads = INFORMATIONAL, []
        if what["ask"] == "critical":
            payloads = [CRITICAL]
        elif what["ask"] == "malformed":
            more = {"inner": MALFORMED}
        elif what["ask"] == "rekey-ike":
            exchange = CHILD
            self.wish, self.asked_nonce, self.asked_spi = Exchange(what["group"]), os.urandom(32), os.urandom(8)
            rows = [(1, 20, 256), (2, peer.prf), (4, what["group"])]
            payloads = [(SA, proposal(1, 1, self.asked_spi, rows)), (NONCE, self.asked_nonce), self.wish.payload]
        else:
            exchange, group = CHILD, what.get("group", 0)
            self.wish = Exchange(group) if group else None
            self.asked_nonce, self.asked_spi = os.urandom(32), os.urandom(3) + b"\x09"
            rows = [(1, 20, 256), *([(4, group)] if group else []), (5, 0)]
            payloads = [
                notify(REKEY, protocol=3, spi=caller.current),
                (SA, proposal(1, 3, self.asked_spi, rows)),
                (NONCE, self.asked_nonce),
                *([self.wish.payload] if self.wish else []),
                selectors(TSI, WHOLE4),
                selectors(TSR, WHOLE4),
            ]
        self.send(caller, peer.seal(exchange, caller.number, payloads, False, **more))

    def _use_new_sa(self, caller, message):
        """RFC 7296 §2.18: whoever has asked for the new IKE SA is its initiator, and deletes the old one."""
        old, number = caller.peer, caller.number + 1
        new = Peer(True, old.prf, old.group)
        new.spi_i, new.spi_r = self.asked_spi, message.proposal_spi
        new.nonce, new.their_nonce = self.asked_nonce, message.body(NONCE)
        new.make_keys(self.wish.shared(message.body(KE)[4:]), old.keys["d"])
        self.send(caller, old.seal(INFORMATIONAL, number, [(DELETE, bytes([1, 0, 0, 0]))], False))
        successor = Caller(new, caller.address, caller.source)
        successor.port, successor.children, successor.current = caller.port, caller.children, caller.current
        self.callers[new.spi_i] = successor

    def take_answer(self, caller, message):
        asked, self.asked = self.asked, None
        if asked is None:
            return
        if asked["ask"] == "rekey-ike" and message.body(NONCE) is not None:
            self._use_new_sa(caller, message)
        elif message.exchange == CHILD and message.body(NONCE) is not None:
            shared = self.wish.shared(message.body(KE)[4:]) if self.wish else b""
            _, receives = caller.peer.child_keys(self.asked_nonce + message.body(NONCE), shared)
            caller.children[self.asked_spi], caller.current = receives, self.asked_spi
            # RFC 7296 §2.8: who has asked for it deletes the old pair; so the caller knows that the new one is used.
            sends, _ = caller.peer.child_keys(self.asked_nonce + message.body(NONCE), shared)
            caller.port = 4500
            packet = bytes.fromhex("4500001c0000000040110000") + bytes([198, 51, 100, 7, 10, 66, 1, 10]) + bytes(8)
            out = next(one for one, where in self.sockets.items() if where == (caller.address, 4500))
            out.sendto(esp.seal(message.proposal_spi, sends, 1, packet), caller.source)
        print(json.dumps({"errors": message.errors, "payloads": [kind for kind, _ in message.payloads]}), flush=True)


if __name__ == "__main__":
    gateway = Gateway(Path(sys.argv[1]).read_bytes().strip())
    print("ready", flush=True)
    gateway.run()
