"""The session of PPTP: control connection, PPP and MPPE behind the calls and events that every protocol has."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.finding import finding
from zesty_burrow.core.net import AddressRange, Datagram, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    GatewayUnreachable,
    Malformed,
    ProfileInvalid,
    ProgramFault,
    SignInRefused,
)
from zesty_burrow.protocols.ppp.link import CallerConfig, LinkEvent, NetworkUp, PppLink, SignedIn
from zesty_burrow.protocols.pptp.channel import PptpChannel
from zesty_burrow.protocols.pptp.control import PORT, CallOpened, Over, PptpControl
from zesty_burrow.protocols.pptp.gre import GreFlow
from zesty_burrow.protocols.pptp.settings import SIGN_IN_METHODS
from zesty_burrow.protocols.pptp.table import TRANSITIONS, Signal, State
from zesty_burrow.protocols.session import (
    GRE_PORT,
    Down,
    Event,
    Framing,
    Negotiated,
    NegotiatedSuite,
    Noticed,
    SessionRequest,
    Step,
    StepDone,
    Transport,
    Up,
)
from zesty_burrow.protocols.states import StateTable

MRU = 1400
SUITE = Suite(0, 128, name="MPPE with RC4 and 128-bit keys, no integrity")
STREAM_PORT = 1


class PptpSession:
    """``channel``: None before the call stands."""

    transport = Transport.STREAM_AND_GRE
    local_port = STREAM_PORT

    def __init__(self, profile: Profile, request: SessionRequest, random: Random) -> None:
        own = request.secrets.get(CredentialsKind.NAME_PASSWORD)
        if not isinstance(own, NamePassword):
            raise ProfileInvalid(f"profile {profile.name}: a name and a password are needed")
        self._profile, self._timeout = profile, request.timeout
        self._peer: Endpoint = (request.address, PORT)
        versions = {network.version for network in profile.traffic.networks}
        if profile.traffic.ipv6 != "tunnel":
            versions.discard(6)
        self._families = tuple(sorted(versions))
        wanted = next((one.packed for one in request.wanted if one.version == 4), bytes(4))
        config = CallerConfig(SIGN_IN_METHODS, own, self._families, MRU, wanted, encrypted=True)
        self._control = PptpControl(random, is_caller=True, timeout=request.timeout)
        self._link = PppLink(config, random)
        self.channel: PptpChannel | None = None
        self.round_trip = float("inf")
        self._began = 0.0
        self._setup_due: float | None = None
        self._states = StateTable(TRANSITIONS, State.IDLE)
        self._last_words: list[Datagram] = []
        self._events: deque[Event] = deque()

    @property
    def framing(self) -> Framing:
        raise ProgramFault("PPTP has no datagrams to frame")

    @property
    def last_heard(self) -> float:
        return max(self._control.last_heard, self._link.last_heard)

    @property
    def peer(self) -> Endpoint:
        """Where the gateway is."""
        return self._peer

    @property
    def is_up(self) -> bool:
        """Whether the tunnel is up."""
        return self._states.state is State.UP

    @property
    def _is_over(self) -> bool:
        return self._states.state is State.ENDED

    @property
    def has_received(self) -> bool:
        """Whether frames for this session came among the packets."""
        return self.channel is not None and bool(self.channel.frames)

    def start(self, now: float) -> None:
        self._states.follow(Signal.START)
        self._began, self._setup_due = now, now + self._timeout
        self._control.start(now)

    def close(self, now: float) -> None:
        """End it, from the top."""
        self._finish(now)
        self._down(now, by_peer=False)

    def address_changed(self, now: float) -> None:
        """From another address nothing of it goes on."""
        if not self._is_over:
            why = "this machine has another address, with which PPTP cannot go on"
            self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} was lost", why=why), now)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take octets of the connection, or a packet of GRE."""
        if self._is_over or source[0] != self.peer[0]:
            return
        if local_port != GRE_PORT:
            self._control.receive(data, now)
        elif self.channel is not None:
            try:
                if frame := self.channel.unwrap(data, now):
                    self.channel.frames.append(frame)
            except Malformed:
                return
        self._look(now)

    def _look(self, now: float) -> None:
        if self._control.is_reached and self._states.state is State.CONNECTING:
            self._states.follow(Signal.REACHED)
            self.round_trip = now - self._began
            self._events.append(StepDone(now, Step.REACH, self.peer[0]))
        while (event := self._control.next_event()) is not None and not self._is_over:
            self._on_control(event)
        while self.channel is not None and self.channel.frames:
            self._link.receive(self.channel.frames.popleft(), now)
        while (news := self._link.next_event()) is not None and not self._is_over:
            self._on_link(news)

    def _on_control(self, event: CallOpened | Over) -> None:
        if isinstance(event, Over):
            self._on_ended(event.at, event.reason)
        elif self._states.allows(Signal.OPENED):
            self._on_opened(event)
        else:
            self._on_ended(event.at, "the gateway opened a second call")

    def _on_link(self, news: LinkEvent) -> None:
        if isinstance(news, NetworkUp):
            self._on_up(news)
        elif isinstance(news, SignedIn) and self._states.allows(Signal.SIGNED_IN):
            self._on_signed_in(news)
        elif isinstance(news, SignedIn):
            self._on_ended(news.at, "the gateway began the sign-in again")
        elif news.sign_in:
            why = f"the gateway says: {news.reason}"
            self._fail(SignInRefused(f"the gateway {self.peer[0]} refused the sign-in", why=why), news.at)
        else:
            self._on_ended(news.at, news.reason)

    def _on_opened(self, event: CallOpened) -> None:
        self._states.follow(Signal.OPENED)
        self._events.append(StepDone(event.at, Step.NEGOTIATE, "a call"))
        self.channel = PptpChannel(GreFlow(event.own, event.peer))
        self._link.start(event.at)

    def _on_signed_in(self, event: SignedIn) -> None:
        """MS-CHAPv2 has shown that the gateway knows the password: that is all the proof there is."""
        self._states.follow(Signal.SIGNED_IN)
        if self.channel is not None:
            # The first half is what the gateway receives with (RFC 2548 §2.4.2).
            key = self._link.key
            self.channel.encrypt(key[:16], key[16:32])
        self._events.append(StepDone(event.at, Step.PROVE, "it knows the password"))
        label = self._profile.credentials_label
        self._events.append(StepDone(event.at, Step.SIGN_IN, f"with the credentials for {label}, {event.method}"))
        self._events.append(Negotiated(event.at, (NegotiatedSuite("MPPE", SUITE),)))
        self._events.append(Noticed(event.at, finding("pptp-unprotected", self._profile.name, self.peer[0])))

    def _on_up(self, event: NetworkUp) -> None:
        self._setup_due = None
        self._states.follow(Signal.NETWORK_UP)
        local = tuple(AddressRange(address.ip.packed, address.ip.packed) for address in event.settings.addresses)
        families = {address.version for address in event.settings.addresses}
        remote = tuple(
            AddressRange.of(network) for network in self._profile.traffic.networks if network.version in families
        )
        if self.channel is not None:
            self.channel.open_for(local, remote)
            self._events.append(Up(event.at, event.settings, remote, self.channel))

    def _on_ended(self, at: float, reason: str) -> None:
        if self.is_up:
            self._finish(at)
            self._down(at, by_peer=True, reason=reason)
        elif self._states.state is State.CONNECTING:
            self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} does not answer", why=reason), at)
        else:
            self._fail(GatewayError(f"the gateway {self.peer[0]} set up no call", why=reason), at)

    def send(self, now: float) -> list[Datagram]:
        """What to send now, by the connection and by GRE."""
        self._look(now)
        found, self._last_words = self._last_words, []
        return found + self._collect()

    def _collect(self) -> list[Datagram]:
        octets = self._control.send()
        datagrams = [Datagram(octets, STREAM_PORT, self.peer)] if octets else []
        frames = self._link.send()
        if self.channel is not None:
            datagrams += [Datagram(self.channel.wrap(frame), GRE_PORT, self.peer) for frame in frames]
        return datagrams

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        if self._is_over:
            return None
        found = [self._control.next_timer(), self._link.next_timer(), self._setup_due]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        if self._is_over:
            return
        if self.channel is not None and self.channel.last_received:
            self._link.heard(self.channel.last_received)
        self._control.handle_timer(now)
        self._link.handle_timer(now)
        self._look(now)
        if self._setup_due is not None and now >= self._setup_due and not self._is_over:
            what = "no answer" if self._states.state is State.CONNECTING else "no call"
            why = f"{what} within {self._timeout:g} s"
            why += ": GRE (protocol 47) may be blocked on the way" if self.channel is not None else ""
            self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} is not reached by PPTP", why=why), now)

    def next_event(self) -> Event | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None

    def exported_keys(self) -> str:
        """None: they can be computed from the password."""
        return ""

    def _fail(self, problem: BurrowError, now: float) -> None:
        self._finish(now)
        self._down(now, by_peer=True, reason=str(problem), error=problem)

    def _finish(self, now: float) -> None:
        if not self._is_over:
            self._link.close(now)
            self._last_words += self._collect()
            self._control.close(now)

    def _down(self, now: float, *, by_peer: bool, reason: str = "", error: Exception | None = None) -> None:
        if not self._is_over:
            self._states.follow(Signal.END)
            self._events.append(Down(now, by_peer, reason, error))
