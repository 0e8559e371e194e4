"""Option negotiation (RFC 1661 §4): the automaton that LCP, IPCP, IPV6CP and CCP have in common, as the RFC's table.

What is one protocol's own are the options: :class:`Options`.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Sequence
from enum import IntEnum

from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp.packet import Code, Option, Packet, read_options, write_options, write_packet

RESTART, MAX_CONFIGURE, MAX_TERMINATE, MAX_FAILURE = 3.0, 10, 2, 5
"""Seconds, and counts (RFC 1661 §4.6)."""
FIRST_RESTART = 1.0
"""The first wait: a tunnel is quicker than the lines that the RFC thinks of."""


class AutomatonState(IntEnum):
    """RFC 1661 §4.2, but for those in which the layer below is down: there is no automaton then."""

    CLOSED = 2
    STOPPED = 3
    CLOSING = 4
    STOPPING = 5
    REQ_SENT = 6
    ACK_RCVD = 7
    ACK_SENT = 8
    OPENED = 9


_TABLE: dict[str, tuple[str, ...]] = {
    #            Closed       Stopped            Closing   Stopping  Req-Sent       Ack-Rcvd       Ack-Sent       Opened
    "Open": ("irc,scr/6", "3", "5", "5", "6", "7", "8", "9"),
    "Close": ("2", "2", "4", "4", "irc,str/4", "irc,str/4", "irc,str/4", "tld,irc,str/4"),
    "TO+": ("", "", "str/4", "str/5", "scr/6", "scr/6", "scr/8", ""),
    "TO-": ("", "", "tlf/2", "tlf/3", "tlf/3", "tlf/3", "tlf/3", ""),
    "RCR+": ("sta/2", "irc,scr,sca/8", "4", "5", "sca/8", "sca,tlu/9", "sca/8", "tld,scr,sca/8"),
    "RCR-": ("sta/2", "irc,scr,scn/6", "4", "5", "scn/6", "scn/7", "scn/6", "tld,scr,scn/6"),
    "RCA": ("sta/2", "sta/3", "4", "5", "irc/7", "scr/6", "irc,tlu/9", "tld,scr/6"),
    "RCN": ("sta/2", "sta/3", "4", "5", "irc,scr/6", "scr/6", "irc,scr/8", "tld,scr/6"),
    "RTR": ("sta/2", "sta/3", "sta/4", "sta/5", "sta/6", "sta/6", "sta/6", "tld,zrc,sta/5"),
    "RTA": ("2", "3", "tlf/2", "tlf/3", "6", "6", "8", "tld,scr/6"),
    "RUC": ("scj/2", "scj/3", "scj/4", "scj/5", "scj/6", "scj/7", "scj/8", "scj/9"),
    "RXJ+": ("2", "3", "4", "5", "6", "6", "8", "9"),
    "RXJ-": ("tlf/2", "tlf/3", "tlf/2", "tlf/3", "tlf/3", "tlf/3", "tlf/3", "tld,irc,str/5"),
    "RXR": ("2", "3", "4", "5", "6", "7", "8", "ser/9"),
}
"""Actions and the next state, as RFC 1661 §4.1 prints them; RXJ+ in Ack-Rcvd as in §4.1: to Req-Sent."""
_TIMED = frozenset(
    {
        AutomatonState.CLOSING,
        AutomatonState.STOPPING,
        AutomatonState.REQ_SENT,
        AutomatonState.ACK_RCVD,
        AutomatonState.ACK_SENT,
    }
)


class Options(ABC):
    """One protocol's options: what this side asks for, and what it lets the other side have."""

    @abstractmethod
    def wanted(self) -> list[Option]:
        """What this side's next request has."""

    @abstractmethod
    def judge(self, option: Option) -> Option | None:
        """The option itself where it is taken, another value where that would be, None where it is not known."""

    @abstractmethod
    def corrected(self, option: Option) -> None:
        """The other side would rather have this value."""

    @abstractmethod
    def refused(self, option: Option) -> None:
        """The other side does not know this option."""

    def missing(self, options: Sequence[Option]) -> list[Option]:
        """What the other side's request ought to have as well."""
        return []

    def agreed(self, options: Sequence[Option]) -> None:  # noqa: B027  (most have nothing to do then)
        """The other side's request was taken as it is."""


class Automaton:
    """``number``: of the protocol. ``send``: packets to go out, oldest first. ``failed``: why nothing comes of it.

    ``changed`` is set when it has opened or is open no more.
    """

    def __init__(self, number: int, options: Options) -> None:
        self.number, self.options = number, options
        self.state = AutomatonState.CLOSED
        self.out: deque[bytes] = deque()
        self.failed = ""
        self._identifier = 0
        self._terminate = 0
        self._left = 0
        self._due: float | None = None
        self._failures = 0
        self._asked: list[Option] = []
        self._answer = b""
        self._answered = 0
        self._is_replied = True
        self._taken: Packet | None = None
        self._now = 0.0

    @property
    def is_open(self) -> bool:
        """Whether both sides have agreed."""
        return self.state is AutomatonState.OPENED

    def open(self, now: float) -> None:
        self._event("Open", now)

    def close(self, now: float) -> None:
        self._event("Close", now)

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self._due

    def handle_timer(self, now: float) -> None:
        if self._due is None or now < self._due:
            return
        if self._left > 0:
            self._event("TO+", now)
        else:
            self.failed = self.failed or "the other side does not answer"
            self._event("TO-", now)

    def receive(self, packet: Packet, now: float) -> None:
        """Take a control packet. Raises :class:`Malformed`."""
        code = packet.code
        if code == Code.CONFIGURE_REQUEST:
            self._on_request(packet, now)
        elif code in (Code.CONFIGURE_ACK, Code.CONFIGURE_NAK, Code.CONFIGURE_REJECT):
            self._on_answer(packet, now)
        elif code == Code.TERMINATE_REQUEST:
            self.failed = self.failed or "the other side ended it"
            self._answered = packet.identifier
            self._event("RTR", now)
        elif code == Code.TERMINATE_ACK:
            self._event("RTA", now)
        elif code == Code.CODE_REJECT:
            if packet.data[:1] and 1 <= packet.data[0] <= Code.CODE_REJECT:
                self.failed = self.failed or "the other side does not know its packets"
                self._event("RXJ-", now)
            else:
                self._event("RXJ+", now)
        else:
            self._answer = write_packet(packet.code, packet.identifier, packet.data)
            self._event("RUC", now)

    def protocol_refused(self, now: float) -> None:
        """The other side does not know the protocol at all."""
        self.failed = "the other side does not know it"
        self._event("RXJ-", now)

    def _on_request(self, packet: Packet, now: float) -> None:
        if self.state is AutomatonState.OPENED and packet == self._taken:
            # It was repeated, or has been on its way for long: nothing new is asked for.
            self.out.append(write_packet(Code.CONFIGURE_ACK, packet.identifier, packet.data))
            return
        options = read_options(packet.data)
        judged = [(option, self.options.judge(option)) for option in options]
        self._answered = packet.identifier
        unknown = [one for one, said in judged if said is None]
        others = [said for one, said in judged if said is not None and said != one]
        others += self.options.missing(options)
        if unknown or (others and self._failures >= MAX_FAILURE):
            # RFC 1661 §4.6: what cannot be agreed on is refused in the end.
            rows = unknown or [one for one, said in judged if said != one]
            self._answer, good = write_packet(Code.CONFIGURE_REJECT, packet.identifier, write_options(rows)), False
        elif others:
            self._failures += 1
            self._answer, good = write_packet(Code.CONFIGURE_NAK, packet.identifier, write_options(others)), False
        else:
            self._answer, good = write_packet(Code.CONFIGURE_ACK, packet.identifier, packet.data), True
            self._taken = packet
            self.options.agreed(options)
        self._event("RCR+" if good else "RCR-", now)

    def _on_answer(self, packet: Packet, now: float) -> None:
        if packet.identifier != self._identifier:
            return
        options = read_options(packet.data)
        self._is_replied = True
        if packet.code == Code.CONFIGURE_ACK:
            if options != self._asked:
                raise Malformed("a PPP control packet is malformed", why="it acknowledges what was not asked for")
            self._event("RCA", now)
            return
        if self._failures >= 2 * MAX_FAILURE:
            self.failed = "the two sides do not agree on its options"
            self._event("Close", now)
            return
        self._failures += 1
        for option in options:
            if packet.code == Code.CONFIGURE_NAK:
                self.options.corrected(option)
            else:
                self.options.refused(option)
        self._event("RCN", now)

    def _event(self, event: str, now: float) -> None:
        self._now = now
        entry = _TABLE[event][self.state - AutomatonState.CLOSED]
        if not entry:
            return
        actions, _, following = entry.rpartition("/")
        self.state = AutomatonState(int(following))
        for action in filter(None, actions.split(",")):
            _ACTIONS[action](self)
        if self.state not in _TIMED:
            self._due = None

    # Actions (RFC 1661 §4.4).

    def _initialize(self) -> None:
        self._left = MAX_TERMINATE if self.state in (AutomatonState.CLOSING, AutomatonState.STOPPING) else MAX_CONFIGURE

    def _zero(self) -> None:
        self._left, self._due = 0, self._now + RESTART

    def _set_timer(self) -> None:
        first = self._left == MAX_CONFIGURE
        self._left -= 1
        self._due = self._now + (FIRST_RESTART if first else RESTART)

    def _request(self) -> None:
        wanted = self.options.wanted()
        if wanted != self._asked or self._is_replied:
            # RFC 1661 §5.1: what is only repeated keeps its number.
            self._identifier = self._identifier + 1 & 0xFF
        self._asked, self._is_replied = wanted, False
        self.out.append(write_packet(Code.CONFIGURE_REQUEST, self._identifier, write_options(self._asked)))
        self._set_timer()

    def _respond(self) -> None:
        self.out.append(self._answer)

    def _ask_to_end(self) -> None:
        self._terminate = self._terminate + 1 & 0xFF
        self.out.append(write_packet(Code.TERMINATE_REQUEST, self._terminate, b""))
        self._set_timer()

    def _end_acknowledged(self) -> None:
        self.out.append(write_packet(Code.TERMINATE_ACK, self._answered, b""))

    def _reject_code(self) -> None:
        self._identifier = self._identifier + 1 & 0xFF
        self.out.append(write_packet(Code.CODE_REJECT, self._identifier, self._answer))

    def _nothing(self) -> None:
        """This-Layer-Up, -Down, -Finished: the owner looks at the state. Echoes are answered by the owner too."""


_ACTIONS = {
    "irc": Automaton._initialize,
    "zrc": Automaton._zero,
    "scr": Automaton._request,
    "sca": Automaton._respond,
    "scn": Automaton._respond,
    "str": Automaton._ask_to_end,
    "sta": Automaton._end_acknowledged,
    "scj": Automaton._reject_code,
    "tlu": Automaton._nothing,
    "tld": Automaton._nothing,
    "tlf": Automaton._nothing,
    "ser": Automaton._nothing,
}
