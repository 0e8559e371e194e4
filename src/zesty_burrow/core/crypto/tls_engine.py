"""TLS 1.3 over buffers in memory (RFC 8446): octets of the other side in, octets for it out, no I/O.

The protocol is the library's. Certificates are not judged here: a client's owner looks at ``chain`` once the engine is
``established`` and only then takes what is to be sent, so that nothing of this side's follows before the proof.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from OpenSSL import SSL

from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass, field

TlsKey = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey
RECORD = 1 << 14
"""Octets of plaintext in a record at most (RFC 8446 §5.1)."""
READ = 1 << 18


@dataclass(frozen=True, slots=True)
class TlsOptions:
    """``cipher_suites`` and ``groups``: IANA's names in order of preference, empty for the library's own.

    ``protocols``: ALPN names (RFC 7301). ``tickets``: whether a session may be gone on with later. ``key_log``: is
    called with lines for an analyser.
    """

    cipher_suites: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    protocols: tuple[str, ...] = ()
    tickets: bool = True
    key_log: Callable[[str], None] | None = field(default=None, compare=False)


def make_context(
    options: TlsOptions,
    key: TlsKey | None = None,
    certificates: Sequence[x509.Certificate] = (),
    *,
    is_client: bool,
    wants_certificate: bool = False,
    needs_certificate: bool = False,
) -> SSL.Context:
    """For one client's connections, or for all of a server's. ``wants_certificate``: a server asks for one."""
    context = SSL.Context(SSL.TLS_CLIENT_METHOD if is_client else SSL.TLS_SERVER_METHOD)
    context.set_min_proto_version(SSL.TLS1_3_VERSION)
    if not options.tickets:
        context.set_options(SSL.OP_NO_TICKET)
    if options.cipher_suites:
        context.set_tls13_ciphersuites(":".join(options.cipher_suites).encode())
    if options.groups:
        _set_groups(context, options.groups)
    _set_protocols(context, options.protocols, is_client=is_client)
    if certificates and key is not None:
        context.use_certificate(certificates[0])
        for entry in certificates[1:]:
            context.add_extra_chain_cert(entry)
        context.use_privatekey(key)
    if is_client or wants_certificate:
        required = SSL.VERIFY_FAIL_IF_NO_PEER_CERT if is_client or needs_certificate else 0
        # The library's own word on a path does not count: the judgement follows once the chain is known.
        context.set_verify(SSL.VERIFY_PEER | required, lambda *_: True)
    if not is_client:
        # A session that began with a certificate can only be resumed with a session context.
        context.set_session_id(b"tunnel")
    if options.key_log is not None:
        write = options.key_log
        context.set_keylog_callback(lambda _, line: write(line.decode("ascii")))
    return context


def _set_groups(context: SSL.Context, groups: Sequence[str]) -> None:
    """The library has no public call for it; its binding has the one of OpenSSL."""
    if SSL._lib.SSL_CTX_set1_curves_list(context._context, ":".join(groups).encode()) != 1:  # type: ignore[attr-defined]
        SSL._lib.ERR_clear_error()  # type: ignore[attr-defined]
        raise Malformed("TLS cannot use these key exchanges", why=f"the library lacks one of {', '.join(groups)}")


def _set_protocols(context: SSL.Context, protocols: Sequence[str], *, is_client: bool) -> None:
    names = [protocol.encode() for protocol in protocols]
    if is_client and names:
        context.set_alpn_protos(names)
    elif names:

        def choose(_: SSL.Connection, offered: list[bytes]) -> bytes | object:
            return next((name for name in names if name in offered), SSL.NO_OVERLAPPING_PROTOCOLS)

        context.set_alpn_select_callback(choose)  # type: ignore[arg-type]


class TlsEngine:
    """One connection. ``server_name``: for SNI (RFC 6066 §3); ``session``: an earlier one to go on with.

    ``established``: the handshake is complete; ``closed``: the other side sends nothing more; ``disagrees``: it has
    said that it knows no version, cipher suite or key exchange that this side knows.
    """

    def __init__(
        self, context: SSL.Context, *, is_client: bool, server_name: str = "", session: SSL.Session | None = None
    ) -> None:
        self._connection = SSL.Connection(context, None)
        (self._connection.set_connect_state if is_client else self._connection.set_accept_state)()
        if server_name:
            self._connection.set_tlsext_host_name(server_name.encode())
        if session is not None:
            self._connection.set_session(session)
        self.established = self.closed = self.disagrees = self._broken = False

    def feed(self, data: bytes) -> None:
        """Take what has come, and go on with the handshake. Raises ``Malformed`` where TLS breaks off."""
        if data:
            self._connection.bio_write(data)
        if self.established:
            return
        try:
            self._connection.do_handshake()
        except SSL.WantReadError:
            return
        except SSL.Error as problem:
            self._broken = True
            why = _words(problem)
            if told := next((words for alert, words in NOTHING_IN_COMMON.items() if alert in why), ""):
                self.disagrees = True
                raise Malformed("TLS found nothing in common", why=told) from None
            raise Malformed("TLS broke off", why=why) from None
        self.established = True

    @property
    def chain(self) -> list[x509.Certificate]:
        """The peer's certificates, its own first; for a resumed session, the chain of the original handshake."""
        own = self._connection.get_peer_certificate(as_cryptography=True)
        others = self._connection.get_peer_cert_chain(as_cryptography=True) or []
        # On the server's side the library leaves the peer's own certificate out of its chain.
        return [own, *(entry for entry in others if entry != own)] if own is not None else []

    @property
    def protocol(self) -> str:
        """What was agreed on by ALPN; empty where nothing was."""
        return self._connection.get_alpn_proto_negotiated().decode("ascii", "replace")

    @property
    def cipher_suite(self) -> str:
        """By IANA's name."""
        return self._connection.get_cipher_name() or ""

    @property
    def group(self) -> str:
        """The key exchange, by IANA's name but for the case of its letters."""
        return self._connection.get_group_name() or ""

    @property
    def session(self) -> SSL.Session | None:
        """The session, for another connection to resume."""
        return self._connection.get_session()

    def export(self, label: bytes, size: int, context: bytes | None = None) -> bytes:
        """Keying material (RFC 8446 §7.5)."""
        return self._connection.export_keying_material(label, size, context)

    def send(self, data: bytes | memoryview) -> None:
        """Seal application data; a call of the library takes a record at most. Nothing is sent once TLS has broken."""
        view = memoryview(data)
        try:
            while view and not self._broken:
                view = view[self._connection.send(view) :]
        except SSL.Error:
            self._broken = True

    def receive(self, most: int = 1 << 20) -> bytes:
        """Application data that has come, about ``most`` octets of it. Raises ``Malformed`` for an alert."""
        parts: list[bytes] = []
        size = 0
        while size < most and not self.closed:
            try:
                parts.append(self._connection.recv(RECORD))
            except SSL.WantReadError:
                break
            except SSL.ZeroReturnError:
                self.closed = True
            except SSL.Error as problem:
                self._broken = True
                raise Malformed("the other side ended TLS", why=_words(problem)) from None
            else:
                size += len(parts[-1])
        return b"".join(parts)

    def close(self) -> None:
        """Say that nothing more is sent."""
        try:
            self._connection.shutdown()
        except SSL.Error:
            # In the middle of a handshake there is nothing to end.
            return

    def out(self) -> bytes:
        """What is to be sent."""
        parts: list[bytes] = []
        try:
            while not parts or len(parts[-1]) == READ:
                parts.append(self._connection.bio_read(READ))
        except SSL.WantReadError:
            return b"".join(parts)
        return parts[0] if len(parts) == 1 else b"".join(parts)


NOTHING_IN_COMMON = {
    "alert protocol version": "the other side speaks no TLS 1.3, and this side nothing older (RFC 9325 §3.1.1)",
    "alert handshake failure": "the other side takes none of the cipher suites and key exchanges that are offered",
    "alert insufficient security": "the other side takes nothing as weak as what is offered",
}
"""What the library calls the alerts of RFC 8446 §6.2 that say so."""


def _words(problem: SSL.Error) -> str:
    rows = problem.args[0] if problem.args and isinstance(problem.args[0], list) else []
    return "; ".join(str(row[-1]) for row in rows) or "it ended"
