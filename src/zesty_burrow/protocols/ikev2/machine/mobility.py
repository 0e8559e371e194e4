"""A changed address keeps the tunnel (MOBIKE, RFC 4555): the initiator says that it has moved, the gateway checks it.

ESP goes inside UDP always, and the addresses in it are those of whoever sends: so nothing but IKE has to be told.
"""

from __future__ import annotations

import hmac
from collections.abc import Sequence

from zesty_burrow.protocols.ikev2.events import Closed, Moved
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint, nat_detection_hash
from zesty_burrow.protocols.ikev2.machine.negotiation import nowhere_hash
from zesty_burrow.protocols.ikev2.wire.message import notifications
from zesty_burrow.protocols.ikev2.wire.payloads import Notify, Payload
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, notify_in_words

COOKIE_SIZE = 16
"""RFC 4555 §4.2.5: 8 to 64 octets."""


class Mobility:
    """The part of both ends that knows of changed addresses.

    ``enabled``: whether both have said that they do. ``is_caller``: whether this end is the one that moves: it was the
    initiator of the first IKE SA (§3.1). ``update_due``: the gateway is to be told of another address.
    """

    def __init__(self, end: IkeEndpoint, *, is_caller: bool) -> None:
        self.enabled = False
        self.is_caller = is_caller
        self._end = end
        self._update_due = False
        self._check_due = False
        self._cookie2 = b""
        self._asked_by = end.sa

    @property
    def update_due(self) -> bool:
        """Whether the gateway has to be told, or told again because another IKE SA has come into use since."""
        self._ask_anew()
        return self._update_due

    def note_move(self) -> None:
        """This machine has another address towards the gateway."""
        self._update_due = True

    def update_sent(self) -> None:
        """The gateway has been told in another way."""
        self._update_due = False

    def _ask_anew(self) -> None:
        """A question without an answer when its IKE SA was replaced is sent again by the new one."""
        if self._cookie2 and self._asked_by is not self._end.sa:
            self._cookie2 = b""
            self._update_due, self._check_due = self.is_caller, not self.is_caller

    def answer(self, payloads: Sequence[Payload]) -> list[Payload]:
        """What an INFORMATIONAL response carries for it: the peer's COOKIE2, as it is (§3.7)."""
        told = notifications(payloads)
        if NotifyType.UPDATE_SA_ADDRESSES in told and self.enabled and not self.is_caller:
            self._check_due = True
        cookie = told.get(NotifyType.COOKIE2)
        return [Notify(NotifyType.COOKIE2, cookie.data)] if cookie is not None else []

    def begin_update(self, now: float) -> bool:
        """Tell the gateway that this side has another address (§3.5); False where it has to wait its turn."""
        if self._end.sa.outstanding is not None:
            return False
        self._update_due, self._cookie2 = False, self._end.random(COOKIE_SIZE)
        self._asked_by = self._end.sa
        spis = self._end.sa.spi_i, self._end.sa.spi_r
        self._end.request(
            ExchangeType.INFORMATIONAL,
            [
                Notify(NotifyType.UPDATE_SA_ADDRESSES),
                Notify(NotifyType.NAT_DETECTION_SOURCE_IP, nowhere_hash(*spis, self._end.peer)),
                Notify(NotifyType.NAT_DETECTION_DESTINATION_IP, nat_detection_hash(*spis, self._end.peer)),
                Notify(NotifyType.COOKIE2, self._cookie2),
            ],
            now,
        )
        return True

    def begin_check(self, now: float) -> None:
        """The gateway's side: whether the caller really receives at its new address (§3.7)."""
        self._ask_anew()
        if self._check_due and self._end.sa.outstanding is None:
            self._check_due, self._cookie2 = False, self._end.random(COOKIE_SIZE)
            self._asked_by = self._end.sa
            self._end.request(ExchangeType.INFORMATIONAL, [Notify(NotifyType.COOKIE2, self._cookie2)], now)

    def take_answer(self, payloads: Sequence[Payload], now: float) -> bool:
        """The answer to an update or a check; False where the IKE SA has to be closed."""
        self._ask_anew()
        if not self._cookie2:
            return True
        expected, self._cookie2 = self._cookie2, b""
        told = notifications(payloads)
        cookie = told.get(NotifyType.COOKIE2)
        if cookie is None or not hmac.compare_digest(cookie.data, expected):
            self._end.events.append(Closed(now, by_peer=True, reason="an answer to a moved address was not the peer's"))
            return False
        refused = next((entry for entry in told.values() if entry.is_error), None)
        if refused is not None:
            self._end.events.append(Closed(now, by_peer=True, reason=notify_in_words(refused.notification)))
            return False
        self._end.events.append(Moved(now, self._end.peer))
        return True
