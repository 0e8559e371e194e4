"""Both ends of CONNECT-IP in memory, and a wire between them that is cut into pieces."""

from __future__ import annotations

from datetime import UTC, datetime
from ipaddress import IPv4Interface, IPv6Interface

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from support import Reported
from zesty_burrow.core.credentials import ClientKey, NamePassword
from zesty_burrow.core.crypto.tls_engine import TlsOptions, make_context
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.profile import Gateway, Profile, SignIn, Traffic, TunnelSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.lab.authority import issue, make_authority, make_key
from zesty_burrow.protocols.connect_ip.gateway_session import ConnectIpCaller, GatewayConfig
from zesty_burrow.protocols.connect_ip.http.quic_link import quic_configuration
from zesty_burrow.protocols.connect_ip.http.tls_link import H2, HTTP1, TlsLink
from zesty_burrow.protocols.connect_ip.quic_gateway import QuicGateway
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import NetworkSettings, SessionRequest, Transport, Up

HOST, NAME, PASSWORD = "lisbon.quillwort.example", "tidewrack_heron", "kelp-Forest_42"
AUTHORITY = make_authority("Quillwort Relay Authority")
KEY = make_key("ecdsa")
PEM = AUTHORITY.certificate.public_bytes(Encoding.PEM).decode()
EVERYTHING = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
INNER = NetworkSettings((IPv4Interface("10.66.1.10/32"), IPv6Interface("2001:db8:66::10/128")))
HERE, THERE = ("192.0.2.1", 40000), ("198.51.100.18", 443)


def wall_time():
    return datetime.now(UTC)


def certificate(authority=AUTHORITY, name=HOST, start_days=-1.0, end_days=90.0, key=KEY):
    return x509.load_der_x509_certificate(issue(authority, key, name, start_days=start_days, end_days=end_days))


def pem_of(key):
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def client_key(authority=AUTHORITY):
    """A certificate of the authority for this side."""
    key = make_key("ecdsa")
    shown = certificate(authority, "heron.tidewrack.example", key=key)
    return ClientKey(Secret(pem_of(key)), (shown.public_bytes(Encoding.PEM).decode(),))


def a_profile(method="basic", traffic=None, **settings):
    return Profile(
        "lisbon",
        Gateway((HOST,)),
        tunnel=TunnelSettings(protocol="connect-ip"),
        sign_in=SignIn("certificate", method),
        settings=ConnectIpSettings(**settings),
        authorities=(PEM,),
        traffic=traffic or Traffic(),
    )


def a_session(profile, *, own=None, password=PASSWORD, wanted=()):
    secrets = (
        {CredentialsKind.NAME_PASSWORD: NamePassword(NAME, Secret(password))}
        if "basic" in profile.sign_in.method
        else {}
    )
    if own is not None:
        secrets[CredentialsKind.CLIENT_KEY] = own
    request = SessionRequest(THERE[0], secrets, wall_time(), 5.0, wanted=wanted)
    return protocol("connect-ip").session(profile, request, bytes)


def a_config(**changes):
    given = {
        "password_of": lambda name: PASSWORD if name == NAME else None,
        "assign": lambda account, wanted: INNER,
        "remote": EVERYTHING,
        "wall_time": wall_time,
        "anchors": (AUTHORITY.certificate,),
    }
    return GatewayConfig(**{**given, **changes})


class Wire(Reported):
    """A session and a gateway's end. ``pieces``: how many octets of a stream arrive at a time, 0: all.

    ``said``: what each side has sent; ``events``: what the session has reported.
    """

    def __init__(
        self,
        profile=None,
        *,
        config=None,
        chain=None,
        alpn=(H2, HTTP1),
        pieces=0,
        knows_connect=True,
        lose=None,
        **session,
    ):
        self.profile = profile or a_profile()
        self.session = a_session(self.profile, **session)
        self.config = config or a_config()
        self.chain = chain or (certificate(),)
        self.now, self.pieces, self.lose = 100.0, pieces, lose
        self.knows_connect = knows_connect
        self.said, self.answered, self.events, self.gateway_events = [], [], [], []
        self.context = make_context(
            TlsOptions(protocols=alpn), KEY, self.chain, is_client=False, wants_certificate=True
        )
        self.connect()
        self.session.start(self.now)
        self.run()

    def connect(self):
        """A new gateway's end."""
        if self.session.transport is Transport.STREAM:
            link = TlsLink.server(self.context, knows_connect=self.knows_connect)
            self.caller = ConnectIpCaller(self.config, link, HERE, Transport.STREAM)
        else:
            shown = b"".join(one.public_bytes(Encoding.PEM) for one in self.chain)
            made = quic_configuration(1452, pem_of(KEY), shown, is_client=False)
            self.caller = QuicGateway(lambda: self.config, made)
            self.caller.knows_connect = self.knows_connect

    def cut(self, data):
        size = self.pieces or len(data) or 1
        return (
            [data[at : at + size] for at in range(0, len(data), size)]
            if self.session.transport is Transport.STREAM
            else [data]
        )

    def run(self, rounds=200):
        """Until nobody has anything to say at this moment."""
        for _ in range(rounds):
            there, back = self.session.send(self.now), self.caller.send(self.now)
            self.said += [one.data for one in there]
            self.answered += [one.data for one in back]
            for one in there:
                for piece in self.cut(one.data) if not (self.lose and self.lose()) else ():
                    self.caller.receive(piece, HERE, self.now)
            for one in back:
                for piece in self.cut(one.data) if not (self.lose and self.lose()) else ():
                    self.session.receive(piece, THERE, self.now)
            while (event := self.session.next_event()) is not None:
                self.events.append(event)
            while (event := self.caller.next_event()) is not None:
                self.gateway_events.append(event)
            self.now += 0.005
            if not there and not back:
                return

    def wait(self, seconds):
        """Let time pass."""
        end = self.now + seconds
        while True:
            due = [one for one in (self.session.next_timer(), self.caller.next_timer()) if one is not None]
            self.now = max(self.now, min([*due, end]))
            if self.now >= end:
                return
            self.session.handle_timer(self.now)
            self.caller.handle_timer(self.now)
            self.run()

    @property
    def gateway_channel(self):
        events = [getattr(one, "event", one) for one in self.gateway_events]
        return next(one.channel for one in reversed(events) if isinstance(one, Up))


def ip4(payload=b"", source="10.66.1.10", destination="203.0.113.10"):
    """An IPv4 packet with some payload, protocol 253 (RFC 3692)."""
    from scapy.layers.inet import IP

    return bytes(IP(src=source, dst=destination, proto=253) / payload)
