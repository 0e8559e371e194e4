"""One more key exchange after CREATE_CHILD_SA has been answered: IKE_FOLLOWUP_KE (RFC 9370 §2.2.4).

What is asked for is made only once that is answered too. What the two messages share is a link: octets that the one who
answers has chosen.
"""

from __future__ import annotations

import hmac
from collections.abc import Callable, Sequence

from zesty_burrow.core.crypto.key_exchange import MlKem768, encapsulate
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.wire.message import Message, Unusable, find, notifications
from zesty_burrow.protocols.ikev2.wire.payloads import KeyExchange, Notify, Payload
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType
from zesty_burrow.records import dataclass, field

LINK_SIZE = 16

GoOn = Callable[[bytes | None, float], None]
"""Takes the secret of the second exchange and the time; None where the peer has refused it."""


@dataclass(slots=True)
class Following:
    """The second exchange that this side has asked for."""

    extra: MlKem768
    go_on: GoOn


@dataclass(slots=True)
class PromisedExchange:
    """What this side has answered with, and makes once the peer goes on with the second exchange in time.

    ``make``: False where it has come to nothing meanwhile.
    """

    link: bytes
    method: int
    until: float
    make: Callable[[bytes, float], bool] = field(repr=False)


class FollowUp:
    """The part of both ends that knows of second exchanges. One each way at a time: a newer request ends the older.

    ``promise``: what the peer may go on with.
    """

    def __init__(self, end: IkeEndpoint) -> None:
        self._end = end
        self._following: Following | None = None
        self.promise: PromisedExchange | None = None

    def forget(self) -> None:
        """Another IKE SA is in use: what was asked for and promised under the old one is void."""
        self._following = self.promise = None

    def forget_promise(self) -> None:
        """The peer has asked for something else."""
        self.promise = None

    def has_promised(self, now: float) -> bool:
        """Whether the peer is about to go on with something."""
        return self.promise is not None and now < self.promise.until

    def promise_more(self, method: int, now: float, make: Callable[[bytes, float], bool]) -> Notify:
        """What goes with the answer to CREATE_CHILD_SA."""
        link = self._end.random(LINK_SIZE)
        self.promise = PromisedExchange(link, method, now + 2 * self._end.backoff.give_up, make)
        return Notify(NotifyType.ADDITIONAL_KEY_EXCHANGE, link)

    def follow_up(self, payloads: Sequence[Payload], now: float, go_on: GoOn) -> None:
        """Go on with the second exchange, as the answer to CREATE_CHILD_SA says."""
        told = notifications(payloads).get(NotifyType.ADDITIONAL_KEY_EXCHANGE)
        if told is None:
            go_on(None, now)
            return
        extra = MlKem768(self._end.random)
        self._following = Following(extra, go_on)
        link = Notify(NotifyType.ADDITIONAL_KEY_EXCHANGE, told.data)
        self._end.request(ExchangeType.IKE_FOLLOWUP_KE, [KeyExchange(extra.group, extra.public), link], now)

    def take_response(self, message: Message, now: float) -> None:
        """The second secret, or the end of what was asked for."""
        payloads = self._end.open(message)
        self._end.expect_answer(message)
        following, self._following = self._following, None
        if following is None:
            raise Malformed("a message was dropped", why="no second key exchange was asked for")
        value, secret = find(payloads, KeyExchange), None
        if value is not None and value.group == following.extra.group:
            try:
                secret = following.extra.shared(value.data)
            except Malformed as problem:
                self._end.ignore(str(problem))
        following.go_on(secret, now)

    def take_request(self, message: Message, now: float) -> None:
        """The peer goes on with what was promised."""
        payloads = self._end.open(message)
        told, value = notifications(payloads).get(NotifyType.ADDITIONAL_KEY_EXCHANGE), find(payloads, KeyExchange)
        promise = self.promise
        known = promise is not None and told is not None and hmac.compare_digest(told.data, promise.link)
        if promise is None or not known or now >= promise.until:
            self._end.respond(message, [Notify(NotifyType.STATE_NOT_FOUND)])
            return
        self.promise = None
        try:
            if value is None or value.group != promise.method:
                raise Malformed("a second key exchange is malformed", why="it has no value of the method agreed on")
            ciphertext, secret = encapsulate(value.data)
        except Malformed as problem:
            raise Unusable.by_syntax(str(problem)) from None
        if not promise.make(secret, now):
            self._end.respond(message, [Notify(NotifyType.TEMPORARY_FAILURE)])
            return
        self._end.respond(message, [KeyExchange(promise.method, ciphertext)])
