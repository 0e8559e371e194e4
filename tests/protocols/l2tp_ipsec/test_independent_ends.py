"""The other end made without this program's code: IKEv1 by hashlib and an AES of its own, L2TP and PPP by scapy; and an
analyser (tshark) that reads what both of ours say."""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import re
import shutil
import struct
import subprocess

import pytest
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from scapy.layers.inet import IP, UDP
from scapy.layers.l2 import Ether
from scapy.layers.l2tp import L2TP
from scapy.layers.ppp import PPP, PPP_IPCP, PPP_LCP_Configure
from scapy.packet import Raw
from scapy.utils import wrpcap

from l2tp_ends import GATEWAY, GROUP_KEY, HERE, INNER, NAME, PASSWORD, Wire, a_profile, gateway_config
from support import seeded
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.secret import Secret
from zesty_burrow.protocols.l2tp_ipsec.gateway_session import L2tpGatewaySession
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import CallOpened, L2tpConnection, Over
from zesty_burrow.protocols.ppp.link import CallerConfig, LinkOver, NetworkUp, PppLink, SignedIn

# IKEv1 by hand (RFC 2409), SHA2-256, AES-CBC 256, P-256, a pre-shared key.


def chain(*payloads):
    """Payloads as kinds and bodies, one behind the other (RFC 2408 §3.2)."""
    kinds = [kind for kind, _ in payloads[1:]] + [0]
    return b"".join(
        struct.pack(">BBH", following, 0, 4 + len(body)) + body
        for following, (_, body) in zip(kinds, payloads, strict=True)
    )


def parts(first, data):
    found = {}
    while first:
        following, _, size = struct.unpack_from(">BBH", data)
        found.setdefault(first, []).append(data[4:size])
        first, data = following, data[size:]
    return found


def attributes(*rows):
    return b"".join(struct.pack(">HH", kind | 0x8000, value) for kind, value in rows)


def offer(protocol, spi, identifier, rows):
    """One proposal with one transform, as RFC 2408 §3.4 to §3.6 draw them."""
    transform = struct.pack(">BBH", 1, identifier, 0) + attributes(*rows)
    transform = struct.pack(">BBH", 0, 0, 4 + len(transform)) + transform
    proposal = struct.pack(">BBBB", 1, protocol, len(spi), 1) + spi + transform
    return struct.pack(">II", 1, 1) + struct.pack(">BBH", 0, 0, 4 + len(proposal)) + proposal


def prf(key, data):
    return hmac.new(key, data, hashlib.sha256).digest()


class HandMade:
    """A caller that says by itself what RFC 2409 says that it must."""

    def __init__(self, gateway):
        self.gateway, self.now = gateway, 50.0
        self.cookie, self.other = b"handmade", bytes(8)
        self.vector = b""

    def ask(self, data, port):
        self.gateway.receive(data, HERE, self.now, port)
        return [one.data for one in self.gateway.send(self.now)]

    def message(self, exchange, body, first, number=0, flags=0):
        head = (
            self.cookie
            + self.other
            + bytes((first, 0x10, exchange, flags))
            + struct.pack(">II", number, 28 + len(body))
        )
        return head + body

    def aes(self, vector):
        return Cipher(algorithms.AES(self.key), modes.CBC(vector[:16]))

    def seal(self, data):
        machine = self.aes(self.vector).encryptor()
        sealed = machine.update(data + bytes(-len(data) % 16)) + machine.finalize()
        self.vector = sealed[-16:]
        return sealed

    def open(self, message):
        machine = self.aes(self.vector).decryptor()
        plain = machine.update(message[28:]) + machine.finalize()
        self.vector = message[-16:]
        return plain

    def main_mode(self):
        sa = offer(1, b"", 1, [(1, 7), (14, 256), (2, 4), (4, 19), (3, 1), (11, 1), (12, 28800)])
        vendor = hashlib.md5(b"RFC 3947").digest()
        (answer,) = self.ask(self.message(2, chain((1, sa), (13, vendor)), 1), 500)
        self.other = answer[8:16]
        said = parts(answer[16], answer[28:])
        assert said[1] == [sa]
        assert vendor in said[13]
        key = ec.generate_private_key(ec.SECP256R1())
        public = key.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)[1:]
        nonce = b"n" * 20
        place = [hashlib.sha256(self.cookie + self.other + one).digest() for one in (b"there.", b"here..")]
        (answer,) = self.ask(self.message(2, chain((4, public), (10, nonce), (20, place[0]), (20, place[1])), 4), 500)
        said = parts(answer[16], answer[28:])
        theirs, (their_nonce,) = said[4][0], said[10]
        peer = ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), b"\x04" + theirs)
        shared = key.exchange(ec.ECDH(), peer)
        both = self.cookie + self.other
        assert said[20][0] == hashlib.sha256(both + bytes((192, 0, 2, 1)) + struct.pack(">H", HERE[1])).digest()
        skeyid = prf(GROUP_KEY.encode(), nonce + their_nonce)
        self.derive = prf(skeyid, shared + both + b"\0")
        self.check = prf(skeyid, self.derive + shared + both + b"\1")
        self.key = prf(skeyid, self.check + shared + both + b"\2")
        self.vector = hashlib.sha256(public + theirs).digest()
        identity = struct.pack(">BBH", 1, 0, 0) + bytes((192, 0, 2, 1))
        mine = prf(skeyid, public + theirs + both + sa + identity)
        body = self.seal(chain((5, identity), (8, mine)))
        (answer,) = self.ask(bytes(4) + self.message(2, body, 5, flags=1), 4500)
        said = parts(answer[4 + 16], self.open(answer[4:]))
        their_identity = said[5][0]
        assert their_identity[4:] == bytes((198, 51, 100, 98))
        assert said[8] == [prf(skeyid, theirs + public + self.other + self.cookie + sa + their_identity)]
        self.phase_1 = self.vector

    def quick_mode(self):
        """A pair of SAs with AES-CBC 128 and SHA2-256; what goes out and what comes in."""
        number, spi, nonce = 0x01020304, b"\x0a\x0b\x0c\x0d", b"m" * 16
        mark = struct.pack(">I", number)
        self.vector = hashlib.sha256(self.phase_1 + mark).digest()
        sa = offer(3, spi, 12, [(4, 4), (1, 1), (2, 3600), (6, 128), (5, 5)])
        ids = [(5, struct.pack(">BBH", 1, 17, 1701) + one) for one in (bytes(4), bytes((198, 51, 100, 98)))]
        body = chain((1, sa), (10, nonce), *ids)
        first = chain((8, prf(self.check, mark + body)), (1, sa), (10, nonce), *ids)
        (answer,) = self.ask(bytes(4) + self.message(32, self.seal(first), 8, number, 1), 4500)
        plain = self.open(answer[4:])
        said = parts(8, plain)
        their_nonce = said[10][0]
        size = struct.unpack_from(">H", plain, 2)[0]
        rest = plain[size:]
        # What is padding nobody hashes: the chain's own lengths say where it ends.
        end, following = 0, plain[0]
        while following:
            following, length = rest[end], struct.unpack_from(">H", rest, end + 2)[0]
            end += length
        assert said[8][0] == prf(self.check, mark + nonce + rest[:end])
        their_spi = said[1][0][8 + 8 : 8 + 12]
        third = prf(self.check, b"\0" + mark + nonce + their_nonce)
        self.ask(bytes(4) + self.message(32, self.seal(chain((8, third))), 8, number, 1), 4500)
        self.ways = []
        for one in (their_spi, spi):
            seed = b"\3" + one + nonce + their_nonce
            block = prf(self.derive, seed)
            material = block + prf(self.derive, block + seed)
            self.ways.append((one, material[:16], material[16:48]))
        self.sent = 0

    def esp(self, inner):
        """ESP in transport mode (RFC 4303, RFC 3602, RFC 4868), UDP inside."""
        spi, key, check = self.ways[0]
        self.sent += 1
        pad = -(len(inner) + 2) % 16
        plain = inner + bytes(range(1, pad + 1)) + bytes((pad, 17))
        vector = os.urandom(16)
        machine = Cipher(algorithms.AES(key), modes.CBC(vector)).encryptor()
        packet = spi + struct.pack(">I", self.sent) + vector + machine.update(plain) + machine.finalize()
        return packet + hmac.new(check, packet, hashlib.sha256).digest()[:16]

    def inner(self, data):
        spi, key, check = self.ways[1]
        assert data[:4] == spi
        assert data[-16:] == hmac.new(check, data[:-16], hashlib.sha256).digest()[:16]
        machine = Cipher(algorithms.AES(key), modes.CBC(data[8:24])).decryptor()
        plain = machine.update(data[24:-16]) + machine.finalize()
        assert plain[-1] == 17
        return plain[: -2 - plain[-2]]

    def l2tp(self, message):
        """A message of L2TP to the gateway; those that come back."""
        inner = bytes(UDP(sport=1701, dport=1701, chksum=0) / Raw(message))
        return [self.inner(data)[8:] for data in self.ask(self.esp(inner), 4500) if data[:4] != bytes(4)]


def avp(kind, value):
    return struct.pack(">HHH", 0x8000 | 6 + len(value), 0, kind) + value


def control(tunnel, session, sent, due, *avps):
    """By scapy: the header of a control message (RFC 2661 §3.1)."""
    body = b"".join(avps)
    head = L2TP(hdr=["control", "length", "sequence"], version=2, len=12 + len(body), tunnel_id=tunnel,
                session_id=session, ns=sent, nr=due)  # fmt: skip
    return bytes(head) + body


def test_a_caller_made_by_hand():
    """Main mode, quick mode, ESP and L2TP in octets that none of our code has made; the sign-in by scapy's PPP."""
    gateway = L2tpGatewaySession(gateway_config("chap"), seeded(3))
    caller = HandMade(gateway)
    caller.main_mode()
    caller.quick_mode()
    said = caller.l2tp(control(0, 0, 0, 0, avp(0, b"\0\1"), avp(2, b"\1\0"), avp(3, b"\0\0\0\3"), avp(7, b"hand"),
                               avp(9, b"\x11\x22"), avp(10, b"\0\4")))  # fmt: skip
    answer = L2TP(said[-1])
    assert (answer.tunnel_id, answer.ns, answer.nr) == (0x1122, 0, 1)
    told = said[-1][12:]
    tunnel = struct.unpack(">H", re.search(b"\x80\x08\0\0\0\x09(..)", told, re.DOTALL)[1])[0]
    caller.l2tp(control(tunnel, 0, 1, 1, avp(0, b"\0\3")))
    said = caller.l2tp(control(tunnel, 0, 2, 1, avp(0, b"\0\x0a"), avp(14, b"\x33\x44"), avp(15, b"\0\0\0\1")))
    session = struct.unpack(">H", re.search(b"\x80\x08\0\0\0\x0e(..)", said[-1], re.DOTALL)[1])[0]
    said = caller.l2tp(control(tunnel, session, 3, 2, avp(0, b"\0\x0c"), avp(24, b"\0\0\x10\0"), avp(19, b"\0\0\0\1")))
    frames = [one for one in said if not one[0] & 0x80]
    request = PPP(frames[0][6:])
    assert request.proto == 0xC021 and frames[0][10] == 1

    def frame(packet):
        return caller.l2tp(struct.pack(">HHH", 2, tunnel, session) + bytes(packet))

    lcp = frames[0][10:]
    assert b"\x03\x05\xc2\x23\x05" in lcp
    frame(b"\xff\x03\xc0\x21\x02" + lcp[1:])
    said = frame(b"\xff\x03\xc0\x21" + bytes(PPP_LCP_Configure(code=1, id=9, options=[])))
    challenge = next(one[6:] for one in said if one[8:10] == b"\xc2\x23")
    size = challenge[8]
    value = challenge[9 : 9 + size]
    hashed = hashlib.md5(challenge[5:6] + PASSWORD.encode() + value).digest()
    body = b"\x10" + hashed + NAME.encode()
    said = frame(b"\xff\x03\xc2\x23\x02" + challenge[5:6] + struct.pack(">H", 4 + len(body)) + body)
    codes = {(one[8:10].hex(), one[10]) for one in said if not one[0] & 0x80}
    assert {("c223", 3), ("8021", 1), ("8057", 1)} <= codes
    said = frame(b"\xff\x03\x80\x21" + bytes(PPP_IPCP(code=1, id=1, options=[])))
    told = next(one[6:] for one in said if one[8:10] == b"\x80\x21" and one[10] == 3)
    assert told[8:14] == b"\x03\x06" + INNER.addresses[0].ip.packed
    assert gateway.callers == []


class ScapyServer:
    """The other end of L2TP and PPP, made with scapy: takes a call, wants PAP, gives an address."""

    tunnel, session = 0x5566, 0x7788

    def __init__(self):
        self.sent = self.due = 0
        self.peer, self.peer_session = 0, 0
        self.out, self.account = [], None

    def say(self, session, *avps):
        self.out.append(control(self.peer, session, self.sent, self.due, *avps))
        self.sent += 1

    def frame(self, packet):
        self.out.append(struct.pack(">HHH", 2, self.peer, self.peer_session) + bytes(packet))

    def take(self, message):
        head = L2TP(message)
        if not head.hdr.control:
            self.on_frame(PPP(message[6:]).proto, message[10:])
            return
        body = message[12:]
        if not body:
            return
        if head.ns != self.due:
            return
        self.due += 1
        self.out.append(control(self.peer, 0, self.sent, self.due))
        kind = struct.unpack_from(">H", body, 6)[0]
        found = {}
        while body:
            size = struct.unpack_from(">H", body)[0] & 0x3FF
            found[struct.unpack_from(">H", body, 4)[0]] = body[6:size]
            body = body[size:]
        if kind == 1:
            self.peer = struct.unpack(">H", found[9])[0]
            assert found[2] == b"\1\0" and found[7]
            self.say(0, avp(0, b"\0\2"), avp(2, b"\1\0"), avp(3, b"\0\0\0\3"), avp(7, b"scapy"),
                     avp(9, struct.pack(">H", self.tunnel)))  # fmt: skip
        elif kind == 10:
            self.peer_session = struct.unpack(">H", found[14])[0]
            self.say(self.peer_session, avp(0, b"\0\x0b"), avp(14, struct.pack(">H", self.session)))
        elif kind == 12:
            # It begins at once, as any end of PPP may.
            self.frame(b"\xff\x03\xc0\x21\x01\x01\x00\x08\x03\x04\xc0\x23")

    def on_frame(self, number, octets):
        if number == 0xC021 and octets[0] == 1:
            self.frame(b"\xff\x03\xc0\x21\x02" + octets[1:])
        elif number == 0xC023:
            size = octets[4]
            self.account = octets[5 : 5 + size], octets[6 + size :]
            self.frame(b"\xff\x03\xc0\x23\x02" + octets[1:2] + b"\x00\x05\x00")
            self.frame(b"\xff\x03\x80\x21" + bytes(PPP_IPCP(code=1, id=7, options=[])))
        elif number == 0x8021 and octets[0] == 1:
            asked = octets[4:10]
            mine = b"\x03\x06\x0a\x09\x08\x07"
            if octets[4:5] == b"\x03" and asked != mine:
                self.frame(b"\xff\x03\x80\x21\x03" + octets[1:2] + b"\x00\x0a" + mine)
            elif len(octets) > 10:
                rest = octets[10:]
                self.frame(b"\xff\x03\x80\x21\x04" + octets[1:2] + struct.pack(">H", 4 + len(rest)) + rest)
            else:
                self.frame(b"\xff\x03\x80\x21\x02" + octets[1:])
        elif number == 0x8057:
            # It does not know IPv6 at all (RFC 1661 §5.7).
            self.frame(b"\xff\x03\xc0\x21\x08\x05" + struct.pack(">H", 6 + len(octets)) + b"\x80\x57" + octets)


def test_our_caller_at_a_server_by_scapy():
    """A call, PAP with the name as it is, an address; name servers and IPv6 that are refused are done without."""
    connection = L2tpConnection(seeded(4), "here", is_caller=True)
    own = NamePassword(NAME, Secret(PASSWORD))
    link = PppLink(CallerConfig(("ms-chap-v2", "chap", "pap"), own, (4, 6), 1400), seeded(5))
    server, events, now = ScapyServer(), [], 10.0
    connection.start(now)
    for _ in range(40):
        messages = connection.send()
        messages += [connection.frame(one) for one in link.send()]
        for one in messages:
            server.take(one)
        coming, server.out = server.out, []
        for one in coming:
            connection.receive(one, now)
        while connection.frames:
            link.receive(connection.frames.popleft(), now)
        while (event := connection.next_event()) is not None:
            events.append(event)
            if isinstance(event, CallOpened):
                link.start(now)
        while (event := link.next_event()) is not None:
            events.append(event)
        now += 0.05
        for one in (connection, link):
            if (due := one.next_timer()) is not None and due <= now:
                one.handle_timer(now)
    assert [type(one) for one in events] == [CallOpened, SignedIn, NetworkUp]
    assert server.account == (NAME.encode(), PASSWORD.encode())
    up = events[-1].settings
    assert [str(one) for one in up.addresses] == ["10.9.8.7/32"]
    assert up.name_servers == ()
    assert not any(isinstance(one, LinkOver | Over) for one in events)


# An analyser.


def capture(wire, path):
    packets = []
    for to_gateway, port, data in wire.seen:
        own, other = (HERE[0], GATEWAY) if to_gateway else (GATEWAY, HERE[0])
        # The caller's port is not the standard's: by the gateway's one the analyser knows what it is.
        packets.append(
            Ether(src="02:00:00:00:00:01", dst="02:00:00:00:00:02") / IP(src=own, dst=other)
            / UDP(sport=port, dport=port) / Raw(data)
        )  # fmt: skip
    wrpcap(str(path), packets)


@pytest.mark.parametrize("encryption", [(12, 128), (3, 0)], ids=["AES", "3DES"])
def test_an_analyser_reads_all_of_it(tmp_path, encryption):
    """With the exported keys: main mode, quick mode, then ESP, L2TP and PPP, field by field and nothing malformed."""
    assert shutil.which("tshark"), "the tests need tshark as a judge: apt-get install tshark"
    own = {"encryption": (encryption,), "integrity": ((12, 0),), "key_exchange": ((14, 0),)}
    wire = Wire(a_profile(weak_algorithms=True, **own), gateway_config(**own)).connect()
    wire.run(2)
    wire.seen.append(
        (
            True,
            4500,
            wire.session.channel.seal(
                bytes(IP(src="10.66.6.10", dst="203.0.113.1") / UDP(sport=5, dport=6) / Raw(b"x" * 40)), wire.now
            ),
        )
    )
    capture(wire, tmp_path / "all.pcap")
    keys = json.loads(wire.session.exported_keys())
    command = ["tshark", "-n", "-r", str(tmp_path / "all.pcap"), "-V"]
    command += ["-o", f"uat:ikev1_decryption_table:{keys['ikev1']['cookie_i']},{keys['ikev1']['encryption_key']}"]
    cipher = "TripleDES-CBC [RFC2451]" if encryption[0] == 3 else "AES-CBC [RFC3602]"
    for one in keys["esp"]:
        row = f'"IPv4","*","*","{one["spi"]}","{cipher}","0x{one["encryption_key"]}","HMAC-SHA-256-128 [RFC4868]","0x{one["integrity_key"]}"'
        command += ["-o", f"uat:esp_sa:{row}"]
    command += ["-o", "esp.enable_encryption_decode:TRUE", "-o", "esp.enable_authentication_check:TRUE"]
    ended = subprocess.run(command, capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    shown = ended.stdout
    assert "Malformed" not in shown
    for words in (
        "Exchange type: Identity Protection (Main Mode) (2)",
        "Exchange type: Quick Mode (32)",
        "RFC 3947 Negotiation of NAT-Traversal in the IKE",
        "Encapsulation Mode: UDP-Encapsulated-Transport (4)",
        "Authentication Method: Pre-shared key (1)",
        "Payload: NAT-D (RFC 3947) (20)",
        "Payload: NAT-OA (RFC 3947) (21)",
        "Notify Message Type: INITIAL-CONTACT (24578)",
        "Layer 2 Tunneling Protocol",
        "Message Type: Start_Control_Request (1)",
        "Message Type: Incoming_Call_Connected (12)",
        "PPP Link Control Protocol",
        "PPP Challenge Handshake Authentication Protocol",
        "PPP IP Control Protocol",
        "PPP IPv6 Control Protocol",
        "Type: Router Advertisement (134)",
    ):
        assert words in shown, words
    assert NAME in shown
    sealed = [data for _, port, data in wire.seen if port == 4500 and data[:4] != bytes(4)]
    assert len(re.findall(r"ESP ICV: .*\[correct\]", shown)) == len(sealed) >= 20
    assert "incorrect" not in shown
