"""The client's end of CONNECT-IP behind the calls and events that every protocol has.

The order is: TLS or QUIC, the judgement of the gateway's certificates, the request with the sign-in, addresses and
routes. Before the judgement nothing follows the first message. A connection that was lost is made again, proven again
and signed in again, with the same inner addresses; then packets go on.
"""

from __future__ import annotations

from collections import deque
from ipaddress import ip_interface

from zesty_burrow.core.net import AddressRange, Datagram, Endpoint, intersect, is_host
from zesty_burrow.core.policy.tls_names import suite_of
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    Malformed,
    NoAgreement,
    ProgramFault,
)
from zesty_burrow.protocols.connect_ip.config import ClientConfig
from zesty_burrow.protocols.connect_ip.http.link import (
    Alive,
    Answered,
    Bursts,
    Content,
    Gone,
    HttpLink,
    LinkEvent,
    Payload,
    Request,
    Secured,
)
from zesty_burrow.protocols.connect_ip.machine.channel import CapsuleHttpChannel, HttpChannel
from zesty_burrow.protocols.connect_ip.machine.tunnel import TunnelEnd, ranges_of
from zesty_burrow.protocols.connect_ip.refusals import protocol_error, refusal, unreachable
from zesty_burrow.protocols.connect_ip.table import TRANSITIONS, Signal, State
from zesty_burrow.protocols.connect_ip.waits import (
    AGAIN,
    ANSWER_DUE,
    LONGEST_WAIT,
    PATIENCE,
    QUIET,
    InnerAddresses,
    SignsOfLife,
    Timers,
)
from zesty_burrow.protocols.connect_ip.wire.capsules import (
    SKIPPED,
    AddressEntry,
    CapsuleType,
    Interface,
    Route,
    no_address,
    read_payload,
    write_addresses,
    write_capsule,
    write_routes,
)
from zesty_burrow.protocols.gateway_proof import prove_chain
from zesty_burrow.protocols.session import (
    ChannelChanged,
    Down,
    Event,
    Framing,
    Moved,
    Negotiated,
    NegotiatedSuite,
    NetworkSettings,
    Noticed,
    Step,
    StepDone,
    Transport,
    Up,
)
from zesty_burrow.protocols.states import StateTable

PORT = 1
OVER = (State.LOST, State.ENDED)


class ConnectIpSession:
    """``label``: what the credentials are called, for messages. ``channel``: None until the tunnel is up."""

    local_port = PORT

    def __init__(self, config: ClientConfig, label: str = "") -> None:
        self.config, self.transport = config, config.transport
        self._states = StateTable(TRANSITIONS, State.IDLE)
        self.channel: HttpChannel | None = None
        self._label = label
        self._link: HttpLink | None = None
        self._ticket: object | None = None
        self._tunnel = TunnelEnd()
        self._events: deque[Event] = deque()
        self._reached = False
        self._inner = InnerAddresses()
        self._timers = Timers()
        self._signs = SignsOfLife()

    @property
    def state(self) -> State:
        """Where it is now."""
        return self._states.state

    @property
    def round_trip(self) -> float:
        """Seconds of the quickest answer so far."""
        return self._signs.round_trip

    @property
    def last_heard(self) -> float:
        return self._signs.last_heard

    @property
    def framing(self) -> Framing:
        """A session over HTTP frames its packets itself."""
        raise ProgramFault("a session over HTTP has no datagrams to frame")

    @property
    def peer(self) -> Endpoint:
        """Where the gateway is."""
        return self.config.gateway

    @property
    def is_up(self) -> bool:
        """Whether the gateway has granted the tunnel, and neither side has ended it."""
        return self.channel is not None and self.state is not State.ENDED

    @property
    def wants_connection(self) -> bool:
        """Whether a connection that was lost is to be made again."""
        return self._states.state is State.LOST

    @property
    def is_blocked(self) -> bool:
        """Whether packets would only wait: for the other side's flow control, or for a connection."""
        return self._link is None or self._link.waiting > 0

    def start(self, now: float) -> None:
        self._states.follow(Signal.START)
        self._timers.due = now + self.config.timeout
        self._signs.asked_at = now
        self._link = self.config.make_link(self._ticket)
        self._link.start(now)

    def close(self, now: float) -> None:
        """End it; over a byte stream nobody waits for an answer."""
        if self._link is not None and self.state in (State.ADDRESSES, State.UP):
            self._link.close()
        self._end(Down(now, by_peer=False))

    def address_changed(self, now: float) -> None:
        """This machine has another address, or another connection, towards the gateway than before."""
        if self.channel is None or self.state is State.ENDED:
            return
        if self.state is State.UP and self._link is not None and self._link.migrate(now):
            self._signs.pinged_at, self._timers.due, self._signs.is_moving = now, now + ANSWER_DUE, True
            return
        if self.state is not State.LOST:
            self._lose(now)
        self._begin_again(now)

    def _begin_again(self, now: float) -> None:
        give_up = self._timers.give_up_at
        self.start(now)
        self._timers.give_up_at = give_up

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take octets of the connection; empty data is its end."""
        link = self._link
        if link is None or self._states.state in OVER:
            return
        if data:
            self._signs.last_heard = now
            if not self._reached:
                self._reached = True
                self._events.append(StepDone(now, Step.REACH, self.peer[0]))
        self._take(link.receive(data, now), now)

    def receive_burst(self, octets: bytes, size: int, source: Endpoint, now: float) -> None:
        """Take many datagrams at once, or a piece of a byte stream."""
        link = self._link
        if len(octets) <= size:
            self.receive(octets, source, now)
        elif not isinstance(link, Bursts) or not self._reached:
            for at in range(0, len(octets), size):
                self.receive(octets[at : at + size], source, now)
        elif self.state not in OVER:
            self._signs.last_heard = now
            self._take(link.receive_burst(octets, size, now), now)

    def send(self, now: float) -> list[Datagram]:
        link, channel = self._link, self.channel
        if channel is not None and channel.going:
            going, channel.going = channel.going, []
            if link is not None and self._states.state is State.UP:
                if isinstance(channel, CapsuleHttpChannel):
                    link.content(b"".join(going))
                else:
                    link.packets(going)
                if now - self._signs.last_heard > QUIET and self._signs.pinged_at is None and link.ping():
                    self._signs.pinged_at, self._timers.due = now, now + ANSWER_DUE
        if link is None:
            return []
        peer = self.config.gateway
        return [Datagram(data, PORT, peer) for data, _ in link.out(now)]

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        due, give_up = self._timers.due, self._timers.give_up_at
        if due is None or (give_up is not None and give_up < due):
            due = give_up
        own = self._link.next_timer() if self._link is not None else None
        return due if own is None or (due is not None and due < own) else own

    def handle_timer(self, now: float) -> None:
        if self._link is not None:
            self._take(self._link.handle_timer(now), now)
        if self._timers.give_up_at is not None and now >= self._timers.give_up_at:
            why = f"the connection was lost and not made again within {self.config.give_up:g} seconds"
            self._fail(unreachable(self.peer, self.transport, why), now)
        elif self._timers.due is not None and now >= self._timers.due:
            self._timers.due = None
            self._on_due(now)

    def next_event(self) -> Event | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None

    def exported_keys(self) -> str:
        """The secrets of TLS, a line each (RFC 9850)."""
        return "".join(f"{line}\n" for line in self.config.key_log)

    # What the connection reports.

    def _take(self, events: list[LinkEvent], now: float) -> None:
        try:
            for event in events:
                if self._states.state in OVER:
                    return
                if isinstance(event, Content):
                    self._on_content(event.data, now)
                else:
                    self._on(event, now)
        except Malformed as problem:
            self._fail(protocol_error(self.peer[0], self.state, f"{problem.what}: {problem.why}"), now)
        except BurrowError as problem:
            self._fail(problem, now)

    def _on(self, event: LinkEvent, now: float) -> None:
        if isinstance(event, Payload):
            if self.channel is not None:
                self.channel.received(read_payload(event.data), now)
        elif isinstance(event, Secured):
            self._on_secured(event, now)
        elif isinstance(event, Answered):
            self._on_answer(event, now)
        elif isinstance(event, Alive):
            if self._signs.pinged_at is not None:
                self._signs.measured(now - self._signs.pinged_at)
            self._signs.pinged_at = None
            if self._signs.is_moving:
                self._signs.is_moving = False
                self._events.append(Moved(now, self.peer))
            self._stay_alive(now)
        elif isinstance(event, Gone):
            self._on_gone(event, now)

    def _on_secured(self, event: Secured, now: float) -> None:
        self._signs.answered(now)
        suite = suite_of(event.cipher_suite, event.group, event.group_words)
        self._events.append(Negotiated(now, (NegotiatedSuite("TLS", suite),)))
        self._events.append(StepDone(now, Step.NEGOTIATE, f"{event.version}, {suite}"))
        proof = prove_chain(self.config.trust, event.chain, self.peer[0])
        notes = "".join(f"; {entry.code.title}" for entry in proof.findings)
        self._events.append(StepDone(now, Step.PROVE, proof.subject + notes))
        self._events += [Noticed(now, entry) for entry in proof.findings]
        headers = {"authorization": self.config.authorization()} if self.config.authorization is not None else {}
        if self._link is not None:
            self._link.request(Request(self.config.authority, self.config.path, headers))
        self._states.follow(Signal.SECURED)
        self._timers.due, self._signs.asked_at = now + self.config.timeout, now

    def _on_answer(self, event: Answered, now: float) -> None:
        if self.state is not State.SIGN_IN:
            raise protocol_error(self.peer[0], self.state, "it answers what was not asked")
        self._signs.answered(now)
        if not event.is_tunnel:
            raise refusal(self.peer[0], self.config.path, event)
        self._events.append(StepDone(now, Step.SIGN_IN, f"with the credentials for {self._label}"))
        self._states.follow(Signal.ANSWERED)
        self._timers.due = now + self.config.timeout
        self._tunnel = TunnelEnd()
        self._ask_for_addresses(now)

    def _ask_for_addresses(self, now: float) -> None:
        """RFC 9484 §4.7.2: one of each family, those that this side had before if it had any."""
        had = [ip_interface(str(address.network)) for address in self._inner.addresses] or [
            *map(ip_interface, self.config.wanted)
        ]
        entries = []
        for version in self.config.families:
            self._inner.requests += 1
            before = next((one for one in had if one.version == version), no_address(version))
            entries.append(AddressEntry(self._inner.requests, before))
        self._inner.waited = frozenset(entry.request for entry in entries)
        if self._link is not None and entries:
            told = write_routes([Route(one) for one in self.config.behind]) if self.config.behind else b""
            self._link.content(told + write_addresses(CapsuleType.ADDRESS_REQUEST, entries))
        self._timers.patience = now + PATIENCE

    def _on_content(self, data: bytes, now: float) -> None:
        if (
            isinstance(self.channel, CapsuleHttpChannel)
            and self.channel.diverted is not None
            and self.state is State.UP
        ):
            data = self.channel.diverted(data)
            if not data:
                return
        changed = self._tunnel.feed(data)
        channel = self.channel
        if (packets := self._tunnel.take_packets()) and channel is not None and self._states.state is State.UP:
            channel.received_all(packets, now)
        if not changed or self._link is None:
            return
        if self._tunnel.asked:
            # This side gives out no addresses: each request is refused (RFC 9484 §4.7.2).
            refused = [AddressEntry(one.request, no_address(one.address.version)) for one in self._tunnel.asked]
            self._tunnel.asked = []
            self._link.content(write_addresses(CapsuleType.ADDRESS_ASSIGN, refused))
        if self.state is State.ADDRESSES:
            self._settle(now)
        elif self.state is State.UP:
            self._renew(now)

    def _settle(self, now: float) -> None:
        """Up, once there are addresses and routes, and what was asked for is answered."""
        tunnel = self._tunnel
        if not tunnel.assigned or tunnel.routes is None or not self._inner.waited <= tunnel.answered:
            if tunnel.assigned and tunnel.routes is not None:
                self._timers.due = min(self._timers.due or self._timers.patience, self._timers.patience)
            elif tunnel.assigned is not None and not tunnel.assigned and self._inner.waited <= tunnel.answered:
                raise GatewayError(f"the gateway {self.peer[0]} has no address for this machine")
            return
        self._come_up(now)

    def _come_up(self, now: float) -> None:
        assigned, remote = self._tunnel.assigned or (), self._remote()
        room = self._link.room if self._link is not None else 0
        self._states.follow(Signal.GRANTED)
        self._timers.due, self._timers.give_up_at, self._timers.wait = None, None, AGAIN
        network = self._network(assigned)
        if not network.addresses:
            raise GatewayError(f"the gateway {self.peer[0]} has no address for this machine")
        if self.channel is not None:
            if not set(network.addresses) & set(self._inner.addresses):
                raise GatewayError(f"the gateway {self.peer[0]} has given other addresses than before")
            self.channel.change(self._local(network.addresses), remote)
            self._events += [ChannelChanged(now), Moved(now, self.peer)]
        else:
            self._inner.addresses = network.addresses
            kind = CapsuleHttpChannel if self.transport is Transport.STREAM else HttpChannel
            self.channel = kind(self._local(network.addresses), remote, room)
            self._events.append(Up(now, network, remote, self.channel))
        if isinstance(self.channel, CapsuleHttpChannel):
            self.channel.begin_stream(self._tunnel.reader)
        self._stay_alive(now)

    def _network(self, assigned: tuple[Interface, ...]) -> NetworkSettings:
        usable = [_first(one) for one in assigned if one.version in self.config.families]
        good = tuple(one for one in usable if is_host(one.ip))
        refused = tuple(f"the address {one}" for one in usable if not is_host(one.ip))
        return NetworkSettings(good, refused=refused)

    def _local(self, addresses: tuple[Interface, ...]) -> tuple[AddressRange, ...]:
        return (*ranges_of(addresses), *self.config.behind)

    def _remote(self) -> tuple[AddressRange, ...]:
        return intersect(self.config.remote, self._tunnel.routes or ())

    def _renew(self, now: float) -> None:
        """The gateway has changed addresses or routes (RFC 9484 §4.7: they replace what was before)."""
        network = self._network(self._tunnel.assigned or ())
        if not set(self._inner.addresses) <= set(network.addresses):
            raise GatewayError(f"the gateway {self.peer[0]} has taken this machine's address away")
        if self.channel is not None:
            self.channel.change(self._local(self._inner.addresses), self._remote())
            self._events.append(ChannelChanged(now))

    # Signs of life, and their end.

    def _stay_alive(self, now: float) -> None:
        if self.state is State.UP:
            self._timers.due = now + self.config.keep_alive

    def _on_due(self, now: float) -> None:
        if self.state is State.ADDRESSES and self._tunnel.assigned and self._tunnel.routes is not None:
            self._come_up(now)
        elif self.state is State.UP:
            self._ask_whether_alive(now)
        elif self.state is State.LOST:
            self._begin_again(now)
        elif self.state in (State.HANDSHAKE, State.SIGN_IN, State.ADDRESSES):
            where = "any more" if self._reached else "to the first message"
            self._on_gone(Gone(f"no answer {where} for {self.config.timeout:g} seconds"), now)

    def _ask_whether_alive(self, now: float) -> None:
        if self._link is None:
            return
        if self._signs.pinged_at is not None and self.last_heard < self._signs.pinged_at:
            self._on_gone(Gone(f"no answer for {now - self.last_heard:.0f} seconds"), now)
            return
        self._signs.pinged_at = None
        if now - self.last_heard < self.config.keep_alive:
            self._timers.due = self.last_heard + self.config.keep_alive
        elif self._link.ping():
            self._signs.pinged_at, self._timers.due = now, now + ANSWER_DUE
        else:
            # HTTP/1.1 has no question; TCP notices when nobody acknowledges this.
            self._link.content(write_capsule(SKIPPED, b""))
            self._timers.due = now + self.config.keep_alive

    def _on_gone(self, event: Gone, now: float) -> None:
        if self.channel is not None and not event.by_peer:
            self._lose(now)
        elif self.channel is not None:
            self._end(Down(now, True, event.why))
        elif event.disagrees:
            what = f"the gateway {self.peer[0]} and the profile cannot agree"
            self._fail(NoAgreement(what, why=event.why), now)
        elif self._reached:
            self._fail(protocol_error(self.peer[0], self.state, event.why), now)
        else:
            self._fail(unreachable(self.peer, self.transport, event.why), now)

    def _lose(self, now: float) -> None:
        if self._link is not None:
            self._ticket = self._link.ticket or self._ticket
        self._states.follow(Signal.LOSE)
        self._link, self._timers.due, self._signs.pinged_at = None, None, None
        self._timers.give_up_at = self._timers.give_up_at or now + self.config.give_up
        if self.transport is Transport.DATAGRAMS:
            # Nothing tells that a socket could be used again: it is tried.
            self._timers.due, self._timers.wait = now + self._timers.wait, min(self._timers.wait * 2, LONGEST_WAIT)
        if self.channel is not None:
            self.channel.going.clear()

    def _fail(self, problem: BurrowError, now: float) -> None:
        self._end(Down(now, True, str(problem), problem))

    def _end(self, event: Down) -> None:
        if self.state is not State.ENDED:
            self._events.append(event)
        if event.error is not None:
            # Nothing more goes out to whom did not prove himself, or breaks the protocol.
            self._link = None
        self._states.follow(Signal.END)
        self._timers.due, self._timers.give_up_at = None, None


def _first(assigned: Interface) -> Interface:
    """This machine's address of a prefix that it was assigned: the first that a host can have."""
    network = assigned.network
    return assigned if network.num_addresses == 1 else ip_interface(f"{network[1]}/{network.prefixlen}")
