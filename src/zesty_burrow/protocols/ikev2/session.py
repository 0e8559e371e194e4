"""The session of IKEv2: the initiator and its packet channel behind the calls and events that every protocol has."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.esp.channel import EspChannel
from zesty_burrow.core.finding import finding
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.ikev2 import events as ike
from zesty_burrow.protocols.ikev2.esp import own_addresses, pair_of, set_limits
from zesty_burrow.protocols.ikev2.initiator.candidates import Candidates
from zesty_burrow.protocols.ikev2.initiator.config import InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.initiator import Initiator
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.key_export import keys_document
from zesty_burrow.protocols.ikev2.wire.stream_framing import StreamFraming
from zesty_burrow.protocols.session import (
    ChannelChanged,
    Down,
    Event,
    Moved,
    Negotiated,
    NegotiatedSuite,
    Noticed,
    Redirected,
    Rekeyed,
    SignInDue,
    Step,
    StepDone,
    Transport,
    Up,
)

UNLIMITED = 1 << 62


class IkeSession:
    """``label``: what the credentials are called, for messages. ``channel``: None until the tunnel is up."""

    def __init__(self, config: InitiatorConfig, random: Random, label: str = "") -> None:
        self.transport = Transport.FRAMED if config.over_stream else Transport.DATAGRAMS
        self.framing = StreamFraming()
        self._candidates = Candidates(config, random)
        self.channel: EspChannel | None = None
        self.round_trip, self.last_heard = float("inf"), 0.0
        self._random = random
        self._label = label
        self._reached = False
        self._events: deque[Event] = deque()
        self._suites: dict[str, NegotiatedSuite] = {}

    @property
    def initiator(self) -> Initiator:
        """The one that is nearest to a tunnel."""
        return self._candidates.leading

    @property
    def peer(self) -> Endpoint:
        """Where the gateway is now."""
        return self.initiator.peer

    @property
    def local_port(self) -> int:
        """By which its only socket is known."""
        return self.initiator.config.local_port

    @property
    def is_up(self) -> bool:
        """Whether the IKE SA is established."""
        return self.initiator.state is State.ESTABLISHED

    def start(self, now: float) -> None:
        self.initiator.start(now)

    def close(self, now: float) -> None:
        """End it: with a DELETE where the gateway knows us."""
        self.initiator.close(now)

    def rekey(self, now: float) -> None:
        """New keys for the child SA, now (RFC 7296 §1.3.3)."""
        self.initiator.rekey(now)

    def address_changed(self, now: float) -> None:
        """This machine has another address towards the gateway (RFC 4555)."""
        self.initiator.moved(now)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take a datagram that is not ESP. Only the gateway's address is listened to."""
        if source[0] != self.peer[0]:
            return
        waiting = self.initiator.sa.outstanding
        self._candidates.receive(data, source, now)
        if waiting is not None and self.initiator.sa.outstanding is not waiting:
            # The shortest of all waits is nearest to what the path round trip takes.
            self.round_trip, self.last_heard = min(self.round_trip, now - waiting.asked), now

    def send(self, now: float) -> list[Datagram]:
        return self._candidates.send(now)

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self._candidates.next_timer()

    def handle_timer(self, now: float) -> None:
        """Time has passed: what the channel has carried since the last time counts as a sign of life, and as use."""
        channel = self.channel
        if channel is not None:
            if channel.last_received:
                self.last_heard = max(self.last_heard, channel.last_received)
                self.initiator.traffic_received(channel.last_received)
            if channel.last_sent:
                state = channel.current.outbound.state
                worn = self.initiator.traffic_sent(channel.last_sent, state.octets, state.sequence)
                if worn or channel.wants_rekey:
                    # Once is enough: the limits are set again with the new keys.
                    channel.octet_limit = channel.number_limit = UNLIMITED
            channel.last_sent = channel.last_received = 0.0
        self._candidates.handle_timer(now)

    def next_event(self) -> Event | None:
        """The next event, or None."""
        while not self._events:
            event = self._candidates.next_event()
            if event is None:
                return None
            self._translate(event)
        return self._events.popleft()

    def exported_keys(self) -> str:
        """The keys of the IKE SA and the child SA, for an analyser."""
        return keys_document(self.initiator.export_keys())

    def _translate(self, event: ike.Event) -> None:
        """An event of the initiator as those of a session; some come to none, some to two."""
        if not self._translate_step(event) and not self._translate_change(event):
            self._translate_end(event)

    def _translate_step(self, event: ike.Event) -> bool:
        if isinstance(event, ike.Reached):
            # A second answer to the first message reaches nobody new.
            self._events += [StepDone(event.at, Step.REACH, self.peer[0])] if not self._reached else []
            self._reached = True
        elif isinstance(event, ike.Negotiated):
            behind = "; the gateway is behind NAT" if event.nat_there else ""
            self._events.append(Negotiated(event.at, self._note("IKE", event.suite)))
            self._events.append(StepDone(event.at, Step.NEGOTIATE, f"{event.suite}{behind}"))
        elif isinstance(event, ike.Proven):
            notes = "".join(f"; {entry.code.title}" for entry in event.findings)
            self._events.append(StepDone(event.at, Step.PROVE, event.subject + notes))
            self._events += [Noticed(event.at, entry) for entry in event.findings]
        elif isinstance(event, ike.SignedIn):
            self._events.append(StepDone(event.at, Step.SIGN_IN, f"with the credentials for {self._label}"))
        else:
            return False
        return True

    def _translate_change(self, event: ike.Event) -> bool:
        channel = self.channel
        if isinstance(event, ike.ChildEstablished):
            channel = self.channel = EspChannel(pair_of(event, own_addresses(event), self._random))
            set_limits(channel, self.initiator.config.child_octets)
            self._events.append(Negotiated(event.at, self._note("ESP", event.keys.suite)))
            self._events.append(Up(event.at, event.inner, event.remote, channel))
        elif isinstance(event, ike.ChildRekeyed) and channel is not None:
            channel.add(pair_of(event.child, own_addresses(event.child), self._random), by_peer=event.by_peer)
            set_limits(channel, self.initiator.config.child_octets)
            self._events.append(ChannelChanged(event.at))
            self._events.append(Rekeyed(event.at, self._note("ESP", event.child.keys.suite)))
        elif isinstance(event, ike.ChildGone) and channel is not None:
            channel.remove(event.spi_in)
            self._events.append(ChannelChanged(event.at))
        elif isinstance(event, ike.NotRenewed):
            self._events.append(Noticed(event.at, finding("keys-not-renewed", f"{event.label} SA", event.why)))
        elif isinstance(event, ike.IkeRekeyed):
            self._events.append(Rekeyed(event.at, self._note("IKE", event.suite)))
        else:
            return False
        return True

    def _translate_end(self, event: ike.Event) -> None:
        if isinstance(event, ike.Moved):
            self._events.append(Moved(event.at, event.peer))
        elif isinstance(event, ike.Redirected):
            self._events.append(Redirected(event.at, event.to))
        elif isinstance(event, ike.SignInLimit):
            self._events.append(SignInDue(event.at, event.seconds))
        elif isinstance(event, ike.Failed):
            self._events.append(Down(event.at, True, str(event.error), event.error))
        elif isinstance(event, ike.Closed):
            self._events.append(Down(event.at, event.by_peer, event.reason))

    def _note(self, label: str, suite: Suite) -> tuple[NegotiatedSuite, ...]:
        self._suites[label] = NegotiatedSuite(label, suite)
        return tuple(self._suites.values())
