"""The session of L2TP over IPsec: the layers of a caller behind the calls and events that every protocol has."""

from __future__ import annotations

import json
from collections import deque

from zesty_burrow.core.finding import finding
from zesty_burrow.core.net import AddressRange, Datagram, Endpoint
from zesty_burrow.core.policy.algorithms import TransformType, describe
from zesty_burrow.core.policy.policy import parts_of
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, GatewayError, GatewayProtocolError, GatewayUnreachable, SignInRefused
from zesty_burrow.protocols.l2tp_ipsec.channel import L2tpChannel
from zesty_burrow.protocols.l2tp_ipsec.from_profile import remote_of
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import (
    Agreed,
    Authenticated,
    ChildUp,
    Ended,
    Reached,
)
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import Over
from zesty_burrow.protocols.l2tp_ipsec.layers import LayerEvent, Layers, Renewed
from zesty_burrow.protocols.l2tp_ipsec.settings import NAT_PORT, is_weak
from zesty_burrow.protocols.l2tp_ipsec.table import TRANSITIONS, Signal, State
from zesty_burrow.protocols.ppp.link import LinkOver, NetworkUp, SignedIn
from zesty_burrow.protocols.session import (
    ChannelChanged,
    Down,
    Event,
    Framing,
    Moved,
    Negotiated,
    NegotiatedSuite,
    Noticed,
    Rekeyed,
    SessionRequest,
    Step,
    StepDone,
    Transport,
    Up,
)
from zesty_burrow.protocols.states import StateTable

MOVE_DUE = 5.0
"""Seconds for a sign of life after a move: this protocol has no way to say where one is now."""


class L2tpSession:
    """``channel``: None until there are keys for packets."""

    transport = Transport.DATAGRAMS
    local_port = 1

    def __init__(self, layers: Layers, profile: Profile, request: SessionRequest) -> None:
        self.layers = layers
        self._profile, self._timeout = profile, request.timeout
        self._events: deque[Event] = deque()
        self._suites: dict[str, NegotiatedSuite] = {}
        self._states = StateTable(TRANSITIONS, State.IDLE)
        self._setup_due: float | None = None
        self._move_due: float | None = None

    @property
    def framing(self) -> Framing:
        """It travels in UDP alone."""
        raise GatewayProtocolError("L2TP over IPsec does not travel in a byte stream")

    @property
    def channel(self) -> L2tpChannel | None:
        return self.layers.channel

    @property
    def round_trip(self) -> float:
        """Seconds of the quickest answer so far."""
        return self.layers.ike.round_trip

    @property
    def last_heard(self) -> float:
        """When something authentic came last."""
        return self.layers.ike.liveness.last_heard

    @property
    def peer(self) -> Endpoint:
        """Where the gateway is."""
        return self.layers.ike.peer

    @property
    def is_up(self) -> bool:
        """Whether the tunnel is up."""
        return self._states.state is State.UP

    @property
    def _is_over(self) -> bool:
        return self._states.state is State.ENDED

    @property
    def has_received(self) -> bool:
        """Whether messages came in the channel's datagrams."""
        return self.layers.has_received

    def start(self, now: float) -> None:
        self._states.follow(Signal.START)
        self.layers.start(now)

    def close(self, now: float) -> None:
        """End it, from the top."""
        if not self._is_over:
            self.layers.close(now)
            self._down(now, by_peer=False)

    def address_changed(self, now: float) -> None:
        """The gateway follows where what comes is authentic (RFC 3948 §3.3); if it does not, a new tunnel is needed."""
        if self.is_up:
            self._move_due = now + MOVE_DUE
            if self.layers.ike.liveness.is_watching:
                self.layers.ike.probe(now)
            else:
                self.layers.link.echo()

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take a datagram. Only the gateway's address is listened to."""
        if source[0] == self.peer[0] and not self._is_over:
            # What comes from the port of address translation has a marker (RFC 3948 §2.2).
            marked = source[1] == NAT_PORT
            self.layers.receive(data, source, now, marked=marked)
            self._look(now)

    def send(self, now: float) -> list[Datagram]:
        datagrams = [Datagram(data, self.local_port, self.peer) for data in self.layers.send(now)]
        self._look(now)
        return datagrams

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        if self._is_over:
            return None
        found = [self.layers.next_timer(), self._setup_due, self._move_due]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        if self._is_over:
            return
        self.layers.handle_timer(now)
        self._look(now)
        if self._move_due is not None and now >= self._move_due:
            why = "it does not answer this side's new address"
            self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} was lost", why=why), now)
        if self._setup_due is not None and now >= self._setup_due:
            why = f"no answer by L2TP or PPP for {self._timeout:g} s"
            self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} does not set the call up", why=why), now)

    def next_event(self) -> Event | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None

    def _look(self, now: float) -> None:
        if self._move_due is not None and self.last_heard > self._move_due - MOVE_DUE:
            self._move_due = None
            self._events.append(Moved(now, self.peer))
        while not self._is_over and (event := self.layers.next_event()) is not None:
            if not self._on_ike(event) and not self._on_call(event):
                self._on_end(event)

    def _on_ike(self, event: LayerEvent) -> bool:
        if isinstance(event, Reached):
            self._states.follow(Signal.REACHED)
            self._events.append(StepDone(event.at, Step.REACH, self.peer[0]))
        elif isinstance(event, Agreed):
            self._states.follow(Signal.AGREED)
            self._agree("IKE", event.suite, event.at)
            self._events.append(StepDone(event.at, Step.NEGOTIATE, str(event.suite)))
        elif isinstance(event, Authenticated):
            self._states.follow(Signal.RENEWED if event.again else Signal.PROVEN)
            if not event.again:
                notes = "".join(f"; {entry.code.title}" for entry in event.findings)
                self._events.append(StepDone(event.at, Step.PROVE, event.subject + notes))
                self._events += [Noticed(event.at, entry) for entry in event.findings]
                self._notice("ikev1-used", self._profile.name, event.at)
            else:
                self._events.append(Rekeyed(event.at, tuple(self._suites.values())))
        elif isinstance(event, ChildUp):
            self._states.follow(Signal.KEYED)
            self._agree("ESP", event.child.suite, event.at)
            self._setup_due = event.at + self._timeout * 2
        elif isinstance(event, Renewed):
            self._states.follow(Signal.RENEWED)
            self._events.append(ChannelChanged(event.at))
            if event.suite is not None:
                self._suites["ESP"] = NegotiatedSuite("ESP", event.suite)
                self._events.append(Rekeyed(event.at, tuple(self._suites.values())))
        else:
            return False
        return True

    def _agree(self, label: str, suite: Suite, at: float) -> None:
        self._suites[label] = NegotiatedSuite(label, suite)
        self._events.append(Negotiated(at, tuple(self._suites.values())))
        weak = [describe(*part) for part in parts_of(suite) if is_weak(part[0], part[1])]
        if suite.prf:
            # One hash stands for both: it is named once.
            weak = [one for one in weak if not one.startswith(TransformType.PRF.name)]
        if weak:
            self._notice("weak-agreed", f"{label}: {', '.join(weak)}", at)

    def _notice(self, code: str, detail: str, at: float) -> None:
        self._events.append(Noticed(at, finding(code, self._profile.name, detail)))

    def _on_call(self, event: LayerEvent) -> bool:
        if isinstance(event, SignedIn):
            self._states.follow(Signal.SIGNED_IN)
            label = self._profile.credentials_label
            told = f"with the credentials for {label}, {event.method}" if event.method else "nobody asked for a name"
            self._events.append(StepDone(event.at, Step.SIGN_IN, told))
        elif isinstance(event, NetworkUp):
            self._setup_due = None
            self._states.follow(Signal.NETWORK_UP)
            local = tuple(AddressRange(address.ip.packed, address.ip.packed) for address in event.settings.addresses)
            families = {address.version for address in event.settings.addresses}
            remote = tuple(one for one in remote_of(self._profile) if one.version in families)
            self.layers.open_channel(local, remote)
            if self.channel is not None:
                self._events.append(Up(event.at, event.settings, remote, self.channel))
        else:
            return False
        return True

    def _on_end(self, event: LayerEvent) -> None:
        host = self.peer[0]
        if isinstance(event, Ended):
            self._down(event.at, by_peer=event.by_peer, reason=event.reason, error=event.error)
        elif isinstance(event, LinkOver):
            if event.sign_in:
                why = f"the gateway says: {event.reason}"
                self._fail(SignInRefused(f"the gateway {host} refused the sign-in", why=why), event.at)
            else:
                self._ended_by_peer(event.at, event.reason)
        elif isinstance(event, Over):
            self._ended_by_peer(event.at, event.reason)

    def _ended_by_peer(self, at: float, reason: str) -> None:
        if self.is_up:
            self._finish(at)
            self._down(at, by_peer=True, reason=reason)
        else:
            self._fail(GatewayError(f"the gateway {self.peer[0]} set up no call", why=reason), at)

    def _fail(self, problem: BurrowError, now: float) -> None:
        self._finish(now)
        self._down(now, by_peer=True, reason=str(problem), error=problem)

    def _finish(self, now: float) -> None:
        """The lower layers are ended as well."""
        if not self.layers.is_over:
            self.layers.close(now)

    def _down(self, now: float, *, by_peer: bool, reason: str = "", error: Exception | None = None) -> None:
        if not self._is_over:
            was_up = self.is_up
            self._states.follow(Signal.END)
            if error is None and by_peer and not was_up:
                error = GatewayError(f"the gateway {self.peer[0]} ended it before it was up", why=reason)
            self._events.append(Down(now, by_peer, reason, error))

    def exported_keys(self) -> str:
        """The keys of the ISAKMP SA and of ESP, for an analyser, as one JSON document."""
        ike = self.layers.ike
        document: dict[str, object] = {"format": 1}
        if ike.associations:
            last = ike.associations[-1]
            document["ikev1"] = {
                "cookie_i": last.cookies[0].hex(),
                "cookie_r": last.cookies[1].hex(),
                "encryption": describe(TransformType.ENCR, last.keys.suite.encryption, last.keys.suite.key_bits),
                "encryption_key": last.keys.encryption.hex(),
            }
        document["esp"] = [
            {
                "encryption": describe(TransformType.ENCR, keys.suite.encryption, keys.suite.key_bits),
                "integrity": describe(TransformType.INTEG, keys.suite.integrity) if keys.suite.integrity else "",
                "spi": f"{spi:#010x}",
                "encryption_key": keys.encryption.hex(),
                "integrity_key": keys.integrity.hex(),
            }
            for child in ike.children.values()
            for spi, keys in ((child.spi_out, child.outbound), (child.spi_in, child.inbound))
        ]
        return json.dumps(document, indent=2) + "\n"
