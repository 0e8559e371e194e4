"""One end of IKEv1 towards one peer: runs of main and quick mode, notifications, new keys, and whether it is there.

Who asks calls ``start``. Datagrams that are not ESP come by ``receive``; what ``send`` gives goes to the peer, by the
port of address translation once main mode has come so far (RFC 3947 §4).
"""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import (
    BurrowError,
    GatewayNotProven,
    GatewayUnreachable,
    Malformed,
    NoAgreement,
    SignInRefused,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import ESP, ISAKMP, SHARED_KEY
from zesty_burrow.protocols.l2tp_ipsec.ikev1.association import Association
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import (
    NAT_PORT,
    Agreed,
    Authenticated,
    ChildConfirmed,
    ChildGone,
    ChildSa,
    ChildUp,
    Ended,
    IkeConfig,
    IkeEvent,
    Reached,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.identities import (
    ARE_YOU_THERE,
    I_AM_HERE,
    NO_PROPOSAL,
    deletion,
    notification,
    read_deletion,
    read_notification,
    refuse_error,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.liveness import Liveness, Need
from zesty_burrow.protocols.l2tp_ipsec.ikev1.main_mode import MainMode, Result
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import (
    NON_ESP,
    Exchange,
    Header,
    Kind,
    Payload,
    of_kind,
    read_header,
    read_payloads,
    write_message,
    write_payloads,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.quick_mode import QuickMode
from zesty_burrow.protocols.pace import Pace
from zesty_burrow.protocols.repeater import Repeater
from zesty_burrow.records import dataclass

FIRST_WAIT = 0.5
KEPT_ANSWERS = 16
MOST_ASSOCIATIONS = 4
MOST_CHILDREN = 8
OLD_KEPT = 10.0
"""Seconds for which packets under old keys are still taken."""


@dataclass(slots=True)
class _Run:
    """A run of main or quick mode, and this side's last message in it, which is sent until it is answered."""

    mode: MainMode | QuickMode
    repeater: Repeater | None = None
    message: bytes = b""


class IkeEnd:
    """``peer``: where it is. ``is_marked``: messages go by the port of address translation, with its marker.

    ``children``: by inbound SPI.
    """

    def __init__(self, config: IkeConfig, random: Random, peer: Endpoint) -> None:
        self.config, self.peer = config, peer
        self.round_trip = float("inf")
        self.liveness = Liveness(config.probe_after, config.dead)
        self.children: dict[int, ChildSa] = {}
        self.associations: list[Association] = []
        self.is_over = False
        self.is_marked = peer[1] == NAT_PORT
        self._random = random
        self._main: _Run | None = None
        self._quick: dict[int, _Run] = {}
        self._answers: dict[bytes, bytes] = {}
        self._out: deque[bytes] = deque()
        self._events: deque[IkeEvent] = deque()
        self._reached = False
        self._due: dict[int, float] = {}
        self._old: dict[int, float] = {}
        self._probe_number = int.from_bytes(random(4)) >> 1
        self._pace = Pace()

    @property
    def is_authenticated(self) -> bool:
        """Whether there is an ISAKMP SA."""
        return bool(self.associations)

    # What the owner asks for.

    def start(self, now: float) -> None:
        is_first = not self.associations
        mode = MainMode(self.config, self._random, self.peer, is_initiator=True, is_first=is_first)
        self._main = self._begun(mode, mode.start(), now)

    def rekey(self, now: float) -> None:
        if self.associations and not any(run.mode.is_initiator for run in self._quick.values()):
            association = self.associations[-1]
            number = int.from_bytes(self._random(4)) | 1
            mode = QuickMode(self.config, self._random, association, number, self.peer[0], is_initiator=True)
            self._quick[number] = self._begun(mode, mode.start(), now)

    def rekey_ike(self, now: float) -> None:
        if self.associations and self._main is None:
            self.start(now)

    def probe(self, now: float) -> None:
        """Ask whether the peer is there."""
        if self.associations and self.liveness.ask(now):
            self._ask()

    def close(self, now: float) -> None:
        """End it: with deletions where the peer knows us."""
        if self.associations and not self.is_over:
            if self.children:
                self._inform(deletion(ESP, [spi.to_bytes(4) for spi in self.children]))
            self._inform(deletion(ISAKMP, [b"".join(self.associations[-1].cookies)]))
        self._end(now, by_peer=False)

    # The network.

    def receive(self, data: bytes, source: Endpoint, now: float, *, marked: bool) -> None:
        """Take a message. ``marked``: it came to the port of address translation. Never raises for its content."""
        if self.is_over or not data or (marked and data[:4] != NON_ESP):
            return
        message = data[4:] if marked else data
        if answer := self._answers.get(message):
            # The peer has not heard it.
            self._out.append(answer)
            return
        try:
            header, first, body = read_header(message)
            self._take(header, first, body, message, source, now, marked=marked)
        except Malformed:
            return

    def _take(
        self, header: Header, first: int, body: bytes, message: bytes, source: Endpoint, now: float, *, marked: bool
    ) -> None:
        if header.exchange == Exchange.MAIN:
            self._on_main(header, first, body, message, source, now, marked=marked)
            return
        association = next((one for one in self.associations if one.cookies == header.cookies), None)
        if association is None:
            self._on_unprotected(header, first, body, now)
        elif header.encrypted and header.exchange == Exchange.QUICK:
            self._on_quick(association, header, first, body, message, now)
            self._follow(source)
        elif header.encrypted and header.exchange == Exchange.INFORMATIONAL:
            payloads = association.informed(header, first, body)
            self.liveness.heard(now)
            self._follow(source)
            self._on_informed(payloads, now)

    def _on_main(
        self, header: Header, first: int, body: bytes, message: bytes, source: Endpoint, now: float, *, marked: bool
    ) -> None:
        run = self._main_run(header, source, now)
        if run is None or not isinstance(mode := run.mode, MainMode):
            return
        begun = run.repeater.begun if run.repeater is not None else now
        try:
            answer = mode.receive(header, first, body, now)
        except Malformed:
            raise
        except BurrowError as problem:
            self._fail_main(run, problem, now)
            return
        if run.repeater is not None and run.repeater.tries == 1:
            self.round_trip = min(self.round_trip, now - begun)
        if not self.associations:
            self.liveness.heard(now)
        self._tell_progress(mode, now)
        # Behind the keys everything goes to the port of address translation, with the marker (RFC 3947 §4).
        if mode.is_initiator and mode.step == 2 and not self.is_marked:
            self.peer, self.is_marked = (self.peer[0], NAT_PORT), True
        elif not mode.is_initiator:
            self.peer, self.is_marked = source, marked
        self._answer(run, message, answer, now, marked=marked)
        if mode.result is not None:
            self._established(mode, mode.result, now)

    def _main_run(self, header: Header, source: Endpoint, now: float) -> _Run | None:
        """The run of main mode that a message belongs to; a new one for its first message."""
        run = self._main
        if header.cookies[1] == bytes(8) and not header.encrypted:
            if (run is not None and run.mode.is_initiator) or not self._pace.allows(now):
                return None
            # A run that was not finished gives way to a new one.
            self._main = run = _Run(MainMode(self.config, self._random, source, is_initiator=False))
        elif (
            run is None
            or not isinstance(run.mode, MainMode)
            or header.cookies[0] != run.mode.cookies[0]
            or (run.mode.step and header.cookies[1] != run.mode.cookies[1])
        ):
            return None
        return run

    def _tell_progress(self, mode: MainMode, now: float) -> None:
        if not self._reached:
            self._reached = True
            self._events.append(Reached(now))
        if mode.step == 1 and mode.suite is not None and not self.associations:
            self._events.append(Agreed(now, mode.suite))

    def _answer(self, run: _Run, message: bytes, answer: bytes, now: float, *, marked: bool) -> None:
        """Send what follows; who has asked repeats it, who answers repeats it for the same question."""
        run.message, run.repeater = answer, None
        if answer:
            self._put(answer, marked=self.is_marked or marked)
            if run.mode.is_initiator:
                run.repeater = Repeater(now, FIRST_WAIT, self.config.timeout)
            else:
                self._remember(message, answer, marked=marked)

    def _remember(self, message: bytes, answer: bytes, *, marked: bool) -> None:
        if len(self._answers) >= KEPT_ANSWERS:
            del self._answers[next(iter(self._answers))]
        self._answers[message] = (NON_ESP if marked else b"") + answer

    def _begun(self, mode: MainMode | QuickMode, message: bytes, now: float) -> _Run:
        self._put(message, marked=self.is_marked)
        return _Run(mode, Repeater(now, FIRST_WAIT, self.config.timeout), message)

    def _put(self, message: bytes, *, marked: bool) -> None:
        self._out.append((NON_ESP if marked else b"") + message)

    def _established(self, mode: MainMode, result: Result, now: float) -> None:
        again = bool(self.associations)
        self.associations.append(result.association)
        del self.associations[:-MOST_ASSOCIATIONS]
        self.liveness.is_watching, self.liveness.keeps_alive = result.knows_probes, mode.is_initiator
        self.liveness.heard(now)
        self.liveness.sent(now)
        self._main = None
        if again and mode.is_initiator:
            old = self.associations[-2]
            self._out.append(self._marked(old.inform(self._new_id(), deletion(ISAKMP, [b"".join(old.cookies)]))))
            self.associations.remove(old)
        proof = result.proof
        self._events.append(Authenticated(now, proof.subject, proof.findings, again))
        if mode.is_initiator and not again:
            self.rekey(now)

    def _on_quick(
        self, association: Association, header: Header, first: int, body: bytes, message: bytes, now: float
    ) -> None:
        run = self._quick.get(header.message_id)
        if run is None:
            if len(self._quick) >= MOST_CHILDREN or not self._pace.allows(now):
                return
            number, host = header.message_id, self.peer[0]
            run = _Run(QuickMode(self.config, self._random, association, number, host, is_initiator=False))
        mode = run.mode
        if not isinstance(mode, QuickMode):
            return
        try:
            answer = mode.receive(header, first, body)
        except NoAgreement as problem:
            self._inform(notification(NO_PROPOSAL, association.cookies))
            if mode.is_initiator:
                self._fail(problem, now)
            return
        self.liveness.heard(now)
        self._quick[header.message_id] = run
        if answer:
            self._put(answer, marked=self.is_marked)
            self._remember(message, answer, marked=self.is_marked)
        run.message, run.repeater = answer, None
        if mode.child is not None and mode.is_confirmed:
            del self._quick[header.message_id]
            association.forget(header.message_id)
        if mode.child is not None and mode.child.spi_in not in self.children:
            # Who answers takes packets under the new keys before the third message is there: it may be lost.
            self._child_up(mode.child, now)
        if not mode.is_confirmed:
            run.repeater = Repeater(now, 1.0, self.config.timeout)
        elif mode.child is not None and mode.child.by_peer:
            self._events.append(ChildConfirmed(now, mode.child.spi_in))

    def _child_up(self, child: ChildSa, now: float) -> None:
        if not child.by_peer:
            for spi in self.children:
                self._old.setdefault(spi, now + OLD_KEPT)
            self._due = {child.spi_in: now + child.seconds * 0.85}
        self.children[child.spi_in] = child
        self._events.append(ChildUp(now, child))
        while len(self.children) > MOST_CHILDREN:
            self._drop_child(next(iter(self.children)), now, tell=True)

    def _drop_child(self, spi: int, now: float, *, tell: bool) -> None:
        self.children.pop(spi, None)
        self._old.pop(spi, None)
        self._due.pop(spi, None)
        if tell:
            self._inform(deletion(ESP, [spi.to_bytes(4)]))
        self._events.append(ChildGone(now, spi))

    def _on_informed(self, payloads: list[Payload], now: float) -> None:
        for body in of_kind(payloads, Kind.NOTIFICATION):
            kind, data = read_notification(body)
            if kind == ARE_YOU_THERE:
                self._inform(notification(I_AM_HERE, self.associations[-1].cookies, data))
            elif kind == NO_PROPOSAL and not self.children:
                why = "it takes no proposal for ESP"
                self._fail(
                    NoAgreement(f"the gateway {self.peer[0]} and this side have nothing in common", why=why), now
                )
        for body in of_kind(payloads, Kind.DELETE):
            protocol, spis = read_deletion(body)
            if protocol == ESP:
                gone = [one.spi_in for one in self.children.values() if one.spi_out.to_bytes(4) in spis]
                for spi in gone:
                    self._drop_child(spi, now, tell=False)
            elif protocol == ISAKMP:
                self.associations = [
                    association for association in self.associations if b"".join(association.cookies) not in spis
                ]
        if not self.associations or (of_kind(payloads, Kind.DELETE) and not self.children):
            self._end(now, by_peer=True, reason="the other end deleted its SAs")

    def _on_unprotected(self, header: Header, first: int, body: bytes, now: float) -> None:
        """Before there are keys an error can only be told without protection: it counts while nothing is proven."""
        run = self._main
        if run is None or header.exchange != Exchange.INFORMATIONAL or header.encrypted or self.associations:
            return
        mode = run.mode
        if not isinstance(mode, MainMode) or header.cookies[0] != mode.cookies[0] or not mode.is_initiator:
            return
        payloads, _ = read_payloads(first, body)
        for one in of_kind(payloads, Kind.NOTIFICATION):
            if name := refuse_error(read_notification(one)[0]):
                if mode.step < 2:
                    why = f"it answers {name}"
                    what = f"the gateway {self.peer[0]} takes no proposal of this side's for IKEv1"
                    self._fail(NoAgreement(what, why=why), now)
                else:
                    self._fail(self._not_believed(f"it answers {name}"), now)

    def _not_believed(self, said: str) -> BurrowError:
        """The peer has not taken this side's proof, or has not given its own."""
        if SHARED_KEY in self.config.methods:
            return SignInRefused(
                f"the gateway {self.peer[0]} does not go on with this pre-shared key; no name or password was sent",
                why=f"{said}: most likely its pre-shared key is another one",
                next_step="Compare the pre-shared key with the provider's, letter by letter, and change it.",
                slug="shared-key-wrong",
            )
        return GatewayNotProven(
            f"the gateway {self.peer[0]} did not prove its identity; no name or password was sent",
            why=f"{said}: it takes no certificate of this side's, or has none of its own",
        )

    def _follow(self, source: Endpoint) -> None:
        """Who was asked finds who asks wherever authentic messages come from (RFC 3947 §4)."""
        if self.associations and not self.associations[-1].is_initiator:
            self.peer = source

    # Sending.

    def send(self) -> list[bytes]:
        """Datagrams for the peer, with their markers."""
        found = list(self._out)
        self._out.clear()
        return found

    def _marked(self, message: bytes) -> bytes:
        return (NON_ESP if self.is_marked else b"") + message

    def _new_id(self) -> int:
        return int.from_bytes(self._random(4)) | 1

    def _inform(self, payload: Payload) -> None:
        if self.associations:
            self._out.append(self._marked(self.associations[-1].inform(self._new_id(), payload)))

    def _ask(self) -> None:
        self._probe_number += 1
        number = (self._probe_number & 0xFFFF_FFFF).to_bytes(4)
        self._inform(notification(ARE_YOU_THERE, self.associations[-1].cookies, number))

    def refuse(self, kind: int, cookies: tuple[bytes, bytes]) -> None:
        """Tell a caller, without protection, why nothing comes of it."""
        payload = notification(kind, cookies)
        header = Header(cookies, Exchange.INFORMATIONAL, self._new_id())
        self._out.append(self._marked(write_message(header, payload.kind, write_payloads([payload]))))

    # Time.

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        if self.is_over:
            return None
        runs = [*self._quick.values(), *([self._main] if self._main is not None else [])]
        found = [run.repeater.due for run in runs if run.repeater is not None]
        found += [*self._due.values(), *self._old.values()]
        if self.associations:
            found += [self.associations[-1].expires, self.liveness.due()]
        due = min(found, default=float("inf"))
        return due if due < float("inf") else None

    def handle_timer(self, now: float) -> None:
        if self.is_over:
            return
        for number, run in [(0, self._main), *self._quick.items()]:
            if run is not None and run.repeater is not None:
                self._repeat(number, run, run.repeater, now)
        for spi in [spi for spi, due in self._old.items() if now >= due]:
            self._drop_child(spi, now, tell=True)
        if any(now >= due for due in self._due.values()):
            self._due = dict.fromkeys(self._due, now + 10.0)
            self.rekey(now)
        if self.associations and now >= self.associations[-1].expires:
            self.associations[-1].expires = now + 30.0
            if self.associations[-1].is_initiator:
                self.rekey_ike(now)
        self._look_after(now)

    def _look_after(self, now: float) -> None:
        """Keep the way open, and see whether the peer is still there."""
        if not self.associations:
            return
        for need in self.liveness.needs(now):
            if need is Need.KEEP_ALIVE:
                self._out.append(b"\xff")
            elif need is Need.ASK:
                self._ask()
            else:
                silent = f"it has been silent for {now - self.liveness.last_heard:.0f} s"
                self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} was lost", why=silent), now)

    def _repeat(self, number: int, run: _Run, repeater: Repeater, now: float) -> None:
        if not repeater.again(now):
            return
        if not repeater.is_over(now):
            self._put(run.message, marked=self.is_marked)
        elif isinstance(mode := run.mode, MainMode):
            silent = f"no answer within {self.config.timeout:g} s"
            problem: BurrowError = GatewayUnreachable(f"the gateway {self.peer[0]} does not answer", why=silent)
            self._fail_main(run, self._not_believed(silent) if mode.step == 2 else problem, now)
        else:
            del self._quick[number]
            if (child := mode.child) is not None:
                self._drop_child(child.spi_in, now, tell=True)
            if not self.children:
                self._fail(GatewayUnreachable(f"the gateway {self.peer[0]} does not answer quick mode"), now)

    def _fail_main(self, run: _Run, problem: BurrowError, now: float) -> None:
        """Where keys were only to be renewed, the old ones go on."""
        self._main = None
        if not self.associations:
            if not run.mode.is_initiator and isinstance(problem, NoAgreement) and isinstance(run.mode, MainMode):
                self.refuse(NO_PROPOSAL, run.mode.cookies)
            self._fail(problem, now)

    def _fail(self, problem: BurrowError, now: float) -> None:
        self._end(now, by_peer=True, reason=str(problem), error=problem)

    def _end(self, now: float, *, by_peer: bool, reason: str = "", error: BurrowError | None = None) -> None:
        if not self.is_over:
            self.is_over = True
            self._events.append(Ended(now, by_peer, reason, error))

    def next_event(self) -> IkeEvent | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
