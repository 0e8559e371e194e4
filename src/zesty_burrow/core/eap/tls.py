"""EAP-TLS with TLS 1.3 (RFC 5216, RFC 9190): both sides by certificate, inside EAP.

TLS itself is the library's, over buffers in memory. Certificates are judged by this program's own rules, as those of
IKE are; the gateway's is judged before this side shows its own.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from cryptography import x509

from zesty_burrow.core.crypto.tls_engine import TlsEngine, TlsKey, TlsOptions, make_context
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.eap.packet import EapType
from zesty_burrow.core.eap.peer import Refusal
from zesty_burrow.errors import BurrowError, Malformed

LENGTH, MORE, START = 0x80, 0x40, 0x20
"""RFC 5216 §3.1: flags."""
FRAGMENT = 1024
MAX_MESSAGE = 1 << 16
"""Octets of one side's flight of TLS messages, before any of them is kept."""
LABEL, CONTEXT, KEY_SIZE = b"EXPORTER_EAP_TLS_Key_Material", b"\x0d", 128
"""RFC 9190 §2.3."""
PROTECTED_SUCCESS = b"\0"
"""RFC 9190 §2.1.1: one octet of application data says that the server has let us in."""

Judge = Callable[[Sequence[x509.Certificate]], str]
"""What speaks against the other side's certificates (its own first), in words; empty where nothing does."""


class _Fragments:
    """RFC 5216 §2.1.5: flights of TLS in pieces, each piece but the last acknowledged by an empty packet."""

    def __init__(self) -> None:
        self._coming = b""
        self._announced = 0
        self._going = b""
        self._fresh = True

    def take(self, data: bytes) -> tuple[bytes | None, bool]:
        """The whole flight, or None where more is to come; and whether it is a start. Raises ``Malformed``."""
        cursor = Cursor(data, "an EAP-TLS packet")
        flags = cursor.u8()
        if flags & LENGTH:
            self._announced = cursor.u32()
            if self._announced > MAX_MESSAGE:
                raise cursor.fail(f"it announces {self._announced} octets; {MAX_MESSAGE} are the most")
        self._coming += cursor.rest()
        if len(self._coming) > (self._announced or MAX_MESSAGE):
            raise cursor.fail("more octets came than were announced")
        if flags & MORE:
            return None, False
        whole, self._coming, self._announced = self._coming, b"", 0
        return whole, bool(flags & START)

    def queue(self, data: bytes) -> None:
        """A flight that is to go out."""
        self._going += data
        self._fresh = True

    @property
    def waiting(self) -> bool:
        """Whether some of a flight is still to go."""
        return bool(self._going)

    def next(self) -> bytes:
        """The next packet's data; an acknowledgement where there is nothing to send."""
        part, rest = self._going[:FRAGMENT], self._going[FRAGMENT:]
        flags = (MORE if rest else 0) | (LENGTH if self._fresh and rest else 0)
        announced = len(self._going).to_bytes(4) if flags & LENGTH else b""
        self._going, self._fresh = rest, False
        return bytes([flags]) + announced + part


class _Engine:
    """TLS as the method needs it: both sides show certificates, and the other's are judged before anything goes out."""

    def __init__(self, key: TlsKey, certificates: Sequence[x509.Certificate], judge: Judge, *, is_client: bool) -> None:
        context = make_context(
            TlsOptions(tickets=False),
            key,
            certificates,
            is_client=is_client,
            wants_certificate=True,
            needs_certificate=True,
        )
        self._judge = judge
        self._tls = TlsEngine(context, is_client=is_client)
        self.against = ""
        self.key = b""

    @property
    def established(self) -> bool:
        """Whether the handshake is complete."""
        return self._tls.established

    def step(self, data: bytes) -> bytes:
        """Feed a flight, go on, and give what has to go out. Raises ``Malformed`` where TLS breaks off."""
        was_established = self.established
        self._tls.feed(data)
        if self.established and not was_established:
            chain = self._tls.chain
            self.against = self._judge(chain) if chain else "it showed no certificate"
            if not self.against:
                self.key = self._tls.export(LABEL, KEY_SIZE, CONTEXT)[:64]
        return self._out()

    def say(self, data: bytes) -> bytes:
        self._tls.send(data)
        return self._out()

    def hear(self) -> bytes:
        """Application data that has come; empty where none has. Raises ``Malformed`` for an alert."""
        return self._tls.receive(1)

    def _out(self) -> bytes:
        out = self._tls.out()
        if len(out) > MAX_MESSAGE:
            raise Malformed("the TLS of the sign-in sends too much")
        return out


class TlsPeer:
    """This side. ``secret`` gives key and chain; ``judge`` raises what is wrong with the gateway's certificates."""

    type: int = EapType.TLS

    def __init__(
        self,
        identity: bytes,
        secret: Callable[[], tuple[TlsKey, Sequence[x509.Certificate]]],
        judge: Callable[[Sequence[x509.Certificate]], None],
    ) -> None:
        self._identity = identity
        self._secret = secret
        self._judge_gateway = judge
        self._fragments = _Fragments()
        self._engine: _Engine | None = None
        self._problem: BurrowError | None = None
        self.confirmed = False
        self.refusal: Refusal | None = None

    @property
    def key(self) -> bytes:
        """The MSK, once the gateway has let us in."""
        return self._engine.key if self._engine and self.confirmed else b""

    def identity(self) -> bytes:
        """RFC 9190 §2.1.4: an anonymous one; the certificate says who we are, under TLS."""
        return self._identity

    def _judge(self, chain: Sequence[x509.Certificate]) -> str:
        try:
            self._judge_gateway(chain)
        except BurrowError as problem:
            self._problem = problem
            return str(problem)
        return ""

    def take(self, data: bytes) -> bytes:
        """Go on with TLS. Raises ``Malformed``, and whatever ``judge`` raises, before anything more is sent."""
        if self._fragments.waiting:
            # RFC 5216 §2.1.5: what comes between our own pieces acknowledges them.
            return self._fragments.next()
        flight, starts = self._fragments.take(data)
        if flight is None:
            return b"\0"
        if self._engine is None:
            if not starts:
                raise Malformed("an EAP-TLS packet is out of place", why="it should be a start")
            key, certificates = self._secret()
            self._engine = _Engine(key, certificates, self._judge, is_client=True)
        elif starts:
            raise Malformed("an EAP-TLS packet is out of place", why="it starts a method that has already begun")
        return self._go_on(self._engine, flight)

    def _go_on(self, engine: _Engine, flight: bytes) -> bytes:
        was_established = engine.established
        out = engine.step(flight)
        if self._problem is not None:
            raise self._problem
        if was_established or engine.established:
            try:
                self.confirmed |= engine.hear() == PROTECTED_SUCCESS
            except Malformed as problem:
                self.refusal = Refusal(0, problem.why)
        self._fragments.queue(out)
        return self._fragments.next()


class TlsServer:
    """The gateway's side. ``judge`` gives the account for a caller's certificates, or raises ``Malformed``."""

    type: int = EapType.TLS

    def __init__(
        self,
        key: TlsKey,
        certificates: Sequence[x509.Certificate],
        judge: Callable[[Sequence[x509.Certificate]], str],
    ) -> None:
        self._judge_caller = judge
        self._fragments = _Fragments()
        self._engine = _Engine(key, certificates, self._judge, is_client=False)
        self._said = False
        self.name = ""

    @property
    def key(self) -> bytes:
        """The MSK of a caller that was let in."""
        return self._engine.key

    def _judge(self, chain: Sequence[x509.Certificate]) -> str:
        try:
            self.name = self._judge_caller(chain)
        except Malformed as problem:
            return str(problem)
        return ""

    def start(self, identifier: int) -> bytes:
        """RFC 5216 §2.1.1."""
        return bytes([START])

    def take(self, data: bytes, identifier: int) -> bytes | bool:
        """Go on with TLS; success once the caller has acknowledged the protected success indication."""
        if self._fragments.waiting:
            return self._fragments.next()
        flight, _ = self._fragments.take(data)
        if flight is None:
            return b"\0"
        if self._said:
            return not flight
        try:
            out = self._engine.step(flight)
        except Malformed:
            return False
        if self._engine.established:
            if self._engine.against:
                return False
            out += self._engine.say(PROTECTED_SUCCESS)
            self._said = True
        self._fragments.queue(out)
        return self._fragments.next()
