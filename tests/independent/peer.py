"""One end of an IKE SA, written from RFC 7296 on scapy and cryptography alone: nothing of the package is imported.

What it sends is put together octet by octet; what comes is read by the packet library.
"""

from __future__ import annotations

import hashlib
import hmac
import os
from dataclasses import dataclass, field

from cryptography.hazmat.primitives.asymmetric import ec, mlkem, x25519
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from scapy.contrib import ikev2

INIT, AUTH, CHILD, INFORMATIONAL, INTERMEDIATE = 34, 35, 36, 37, 43
SA, KE, IDI, IDR, CERT, AUTH_PAYLOAD, NONCE, NOTIFY, DELETE, TSI, TSR, CP, EAP, SK, SKF = (
    33, 34, 35, 36, 37, 39, 40, 41, 42, 44, 45, 47, 48, 46, 53,
)  # fmt: skip
X25519, P256, ML_KEM = 31, 19, 36
FIRST, RESPONSE = 0x08, 0x20
UNSUPPORTED_CRITICAL, INVALID_SYNTAX, NO_PROPOSAL, INVALID_KE, AUTH_FAILED, NO_ADDITIONAL = 1, 7, 14, 17, 24, 35
NAT_SOURCE, NAT_DESTINATION, COOKIE, REKEY, REDIRECT = 16388, 16389, 16390, 16393, 16407
FRAGMENTS, HASHES, INTERMEDIATES = 16430, 16431, 16438
PRFS = {5: "sha256", 7: "sha512"}
UNKNOWN = 200


def chain(payloads):
    """Type of the first payload and the octets of all. Each is (type, body) or (type, body, critical)."""
    kinds = [one[0] for one in payloads] + [0]
    octets = b"".join(
        bytes([kinds[at + 1], 0x80 if len(one) > 2 and one[2] else 0]) + (4 + len(one[1])).to_bytes(2) + one[1]
        for at, one in enumerate(payloads)
    )
    return kinds[0], octets


def notify(kind, data=b"", protocol=0, spi=b""):
    return NOTIFY, bytes([protocol, len(spi)]) + kind.to_bytes(2) + spi + data


def proposal(number, protocol, spi, transforms, last=True):
    """RFC 7296 §3.3.1; transforms are (type, number) or (type, number, key length)."""
    rows = b""
    for at, (kind, what, *bits) in enumerate(transforms):
        attribute = b"\x80\x0e" + bits[0].to_bytes(2) if bits else b""
        more = 0 if at == len(transforms) - 1 else 3
        rows += bytes([more, 0]) + (8 + len(attribute)).to_bytes(2) + bytes([kind, 0]) + what.to_bytes(2) + attribute
    head = bytes([number, protocol, len(spi), len(transforms)]) + spi + rows
    return bytes([0 if last else 2, 0]) + (4 + len(head)).to_bytes(2) + head


def selector(start, end, protocol=0, ports=(0, 65535)):
    """RFC 7296 §3.13.1, IPv4 or IPv6 by the length of the addresses."""
    kind = 7 if len(start) == 4 else 8
    size = (8 + 2 * len(start)).to_bytes(2)
    return bytes([kind, protocol]) + size + ports[0].to_bytes(2) + ports[1].to_bytes(2) + start + end


def selectors(kind, *rows):
    return kind, bytes([len(rows), 0, 0, 0]) + b"".join(rows)


WHOLE4 = selector(bytes(4), b"\xff" * 4)


class Exchange:
    """One side of a key exchange by its IANA number."""

    def __init__(self, group):
        self.group = group
        if group == X25519:
            self._key = x25519.X25519PrivateKey.generate()
            self.public = self._key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
        else:
            self._key = ec.generate_private_key(ec.SECP256R1())
            self.public = self._key.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)[1:]

    def shared(self, theirs):
        if self.group == X25519:
            return self._key.exchange(x25519.X25519PublicKey.from_public_bytes(theirs))
        return self._key.exchange(
            ec.ECDH(), ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), b"\4" + theirs)
        )

    @property
    def payload(self):
        return KE, self.group.to_bytes(2) + b"\0\0" + self.public


def answer_ml_kem(public):
    """RFC 9370 §2.2.2 with ML-KEM-768: the shared secret and the ciphertext."""
    secret, ciphertext = mlkem.MLKEM768PublicKey.from_public_bytes(public).encapsulate()
    return secret, ciphertext


@dataclass
class Message:
    """A message that was read: ``payloads`` as (type, body) in order, those inside the encrypted one at the end."""

    raw: bytes
    exchange: int
    flags: int
    number: int
    spi_i: bytes
    spi_r: bytes
    payloads: list = field(default_factory=list)
    inner: bytes = b""
    first: int = 0
    sealed_at: int = 0

    def body(self, kind):
        return next((body for one, body in self.payloads if one == kind), None)

    def told(self, kind):
        """The data of a notification; None where there is none."""
        for one, body in self.payloads:
            if one == NOTIFY and int.from_bytes(body[2:4]) == kind:
                return body[4 + body[1] :]
        return None

    @property
    def notifications(self):
        return [int.from_bytes(body[2:4]) for kind, body in self.payloads if kind == NOTIFY]

    @property
    def errors(self):
        return [one for one in self.notifications if one < 16384]

    @property
    def groups(self):
        """Of the SA payload: for each proposal the numbers of its key exchange transforms."""
        return [[number for kind, number, _ in rows if kind == 4] for rows in self.proposals]

    @property
    def proposals(self):
        """Of the SA payload: for each proposal its transforms as (type, number, key bits), read by the packet library."""
        body = self.body(SA)
        layer = ikev2.IKEv2_SA(bytes([0, 0]) + (4 + len(body)).to_bytes(2) + body)
        found, entry = [], layer.prop
        while isinstance(entry, ikev2.IKEv2_Proposal):
            rows, row = [], entry.trans
            while isinstance(row, ikev2.IKEv2_Transform):
                rows.append((row.transform_type, row.transform_id, row.key_length if row.length > 8 else 0))
                row = row.payload
            found.append(rows)
            entry = entry.payload
        return found

    @property
    def proposal_spi(self):
        """The SPI of the first proposal."""
        body = self.body(SA)
        return body[8 : 8 + body[6]]


def walk(first, octets):
    """The chain of payloads as (type, body), up to SK or SKF, whose body is the rest."""
    found, at, kind = [], 0, first
    while kind and at < len(octets):
        size = int.from_bytes(octets[at + 2 : at + 4])
        found.append((kind, octets[at + 4 : at + size]))
        kind, at = octets[at], at + size
        if found[-1][0] in (SK, SKF):
            break
    return found


class Peer:
    """``is_first``: it is the initiator of the IKE SA. AES-GCM with 256 bits throughout."""

    def __init__(self, is_first, prf=5, group=X25519):
        self.is_first, self.prf, self.group = is_first, prf, group
        self.spi_i, self.spi_r = os.urandom(8) if is_first else bytes(8), bytes(8) if is_first else os.urandom(8)
        self.nonce, self.their_nonce = os.urandom(32), b""
        self.exchange = None
        self.own_init, self.their_init = b"", b""
        self.keys, self.counter, self.between = {}, 0, [b"", b""]
        self.first_auth = 1
        self._parts = {}

    # Octets.

    def mac(self, key, data):
        return hmac.digest(key, data, PRFS[self.prf])

    def stretch(self, key, seed, size):
        """RFC 7296 §2.13."""
        block, output, number = b"", b"", 1
        while len(output) < size:
            block = self.mac(key, block + seed + bytes([number]))
            output, number = output + block, number + 1
        return output[:size]

    @property
    def nonces(self):
        return self.nonce + self.their_nonce if self.is_first else self.their_nonce + self.nonce

    def make_keys(self, shared, before=b""):
        """RFC 7296 §2.14; with ``before`` (SK_d) RFC 9370 §2.2.2."""
        size = hashlib.new(PRFS[self.prf]).digest_size
        seed = self.mac(before, shared + self.nonces) if before else self.mac(self.nonces, shared)
        stream = self.stretch(seed, self.nonces + self.spi_i + self.spi_r, 3 * size + 72)
        names, sizes = ("d", "ei", "er", "pi", "pr"), (size, 36, 36, size, size)
        for name, length in zip(names, sizes, strict=True):
            self.keys[name], stream = stream[:length], stream[length:]

    def header(self, first, exchange, number, size, response):
        flags = (FIRST if self.is_first else 0) | (RESPONSE if response else 0)
        fields = bytes([first, 0x20, exchange, flags]) + number.to_bytes(4) + size.to_bytes(4)
        return self.spi_i + self.spi_r + fields

    def clear(self, payloads, exchange=INIT, number=0, response=None):
        first, octets = chain(payloads)
        response = not self.is_first if response is None else response
        return self.header(first, exchange, number, 28 + len(octets), response) + octets

    def seal(self, exchange, number, payloads, response, before=(), inner=None):
        """RFC 5282; ``before``: payloads in front of the encrypted one; ``inner``: (first, octets) instead of payloads."""
        first, octets = inner if inner is not None else chain(payloads)
        outer_first, outer = chain([*before, (SK, b"")])
        size = 28 + len(outer) + 8 + len(octets) + 1 + 16
        aad = bytearray(self.header(outer_first, exchange, number, size, response) + outer)
        aad[-4] = first
        aad[-2:] = (4 + 8 + len(octets) + 1 + 16).to_bytes(2)
        self.counter += 1
        key, iv = self.keys["ei" if self.is_first else "er"], self.counter.to_bytes(8)
        return bytes(aad) + iv + AESGCM(key[:32]).encrypt(key[32:] + iv, octets + b"\0", bytes(aad))

    def open(self, message):
        """The message with what is in its encrypted payload; None while fragments are missing."""
        kind, body = message.payloads[-1]
        head = 4 if kind == SKF else 0
        at = message.sealed_at = len(message.raw) - len(body) + head
        key, iv, sealed = self.keys["er" if self.is_first else "ei"], body[head : head + 8], body[head + 8 :]
        plain = AESGCM(key[:32]).decrypt(key[32:] + iv, sealed, message.raw[:at])
        plain = plain[: len(plain) - plain[-1] - 1]
        message.first = message.raw[at - head - 4]
        if kind == SKF:
            number, count = int.from_bytes(body[:2]), int.from_bytes(body[2:4])
            parts = self._parts.setdefault((message.number, count), {})
            parts[number] = (plain, message.first, message.raw[: at - 4])
            if len(parts) < count:
                return None
            plain, message.first = b"".join(parts[one][0] for one in sorted(parts)), parts[1][1]
            message.raw = self._as_whole(parts[1][2])
            message.sealed_at = len(message.raw)
        message.inner = plain
        message.payloads = [*message.payloads[:-1], *walk(message.first, plain)]
        return message

    def read(self, data):
        """A message, opened where it is sealed; None while parts of it are missing."""
        layer = ikev2.IKEv2(data)
        message = Message(
            data, layer.exch_type, int(layer.flags), layer.id, bytes(layer.init_SPI), bytes(layer.resp_SPI)
        )
        message.payloads = walk(data[16], data[28:])
        return self.open(message) if message.payloads and message.payloads[-1][0] in (SK, SKF) else message

    @staticmethod
    def _as_whole(head):
        """The first fragment up to its generic header, with SK in the place of SKF (RFC 9242 §3.3.2)."""
        octets, at, kind = bytearray(head), 16, head[16]
        following = 28
        while kind != SKF:
            at, kind = following, octets[following]
            following += int.from_bytes(octets[following + 2 : following + 4])
        octets[at] = SK
        return bytes(octets)

    # What is signed (RFC 7296 §2.15).

    def note_between(self, message_or_payloads, number, *, own, before=()):
        """RFC 9242 §3.3.2: a message of IKE_INTERMEDIATE becomes a part of what AUTH covers."""
        if own:
            first, octets = chain(message_or_payloads)
            outer_first, outer = chain([*before, (SK, b"")])
            head = bytearray(
                self.header(outer_first, INTERMEDIATE, number, 28 + len(outer) + len(octets), not self.is_first)
            )
            head += outer
            head[-4] = first
            head[-2:] = (4 + len(octets)).to_bytes(2)
            text = bytes(head) + octets
        else:
            head = bytearray(message_or_payloads.raw[: message_or_payloads.sealed_at])
            head[-2:] = (4 + len(message_or_payloads.inner)).to_bytes(2)
            head[24:28] = (len(head) + len(message_or_payloads.inner)).to_bytes(4)
            text = bytes(head) + message_or_payloads.inner
        of_first = own == self.is_first
        key = self.keys["pi" if of_first else "pr"]
        self.between[not of_first] = self.mac(key, self.between[not of_first] + text)
        self.first_auth = number + 1

    def signed(self, of_first, identity):
        mine = of_first == self.is_first
        message = self.own_init if mine else self.their_init
        nonce = self.their_nonce if mine else self.nonce
        more = b"".join(self.between) + self.first_auth.to_bytes(4) if any(self.between) else b""
        return message + nonce + self.mac(self.keys["pi" if of_first else "pr"], identity) + more

    def shared_key_auth(self, key, of_first, identity):
        value = self.mac(self.mac(key, b"Key Pad for IKEv2"), self.signed(of_first, identity))
        return AUTH_PAYLOAD, b"\2\0\0\0" + value

    def renewed(self, spi_i, spi_r, nonces, shared):
        """RFC 7296 §2.18: the same end with the keys of a new IKE SA; its message numbers begin again."""
        made = Peer(self.is_first, self.prf, self.group)
        made.spi_i, made.spi_r = spi_i, spi_r
        made.nonce, made.their_nonce = nonces if self.is_first else nonces[::-1]
        made.make_keys(shared, self.keys["d"])
        return made

    def child_keys(self, nonces, shared=b""):
        """RFC 7296 §2.17: what the initiator of the exchange sends with, and what it receives with."""
        stream = self.stretch(self.keys["d"], shared + nonces, 72)
        return stream[:36], stream[36:]
