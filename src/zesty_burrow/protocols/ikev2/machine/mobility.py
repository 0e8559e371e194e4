"""A changed address keeps the tunnel (MOBIKE, RFC 4555): the initiator says that it has moved, the gateway checks it.

ESP goes inside UDP always, and the addresses in it are those of whoever sends: so nothing but IKE has to be told.
"""

from __future__ import annotations

import hmac
from collections.abc import Sequence

from zesty_burrow.protocols.ikev2.events import Closed, Moved
from zesty_burrow.protocols.ikev2.machine.endpoint import nat_detection_hash
from zesty_burrow.protocols.ikev2.machine.ike_rekey import IkeRekey
from zesty_burrow.protocols.ikev2.machine.ike_sa import IkeSa
from zesty_burrow.protocols.ikev2.machine.negotiation import nowhere_hash
from zesty_burrow.protocols.ikev2.wire.message import notifications
from zesty_burrow.protocols.ikev2.wire.payloads import Notify, Payload
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, notify_in_words

COOKIE_SIZE = 16
"""RFC 4555 §4.2.5: 8 to 64 octets."""


class Mobility(IkeRekey):
    """The part of both ends that knows of changed addresses. ``mobile``: whether both have said that they do."""

    mobile = False
    _cookie2 = b""
    _update_due = False
    _check_due = False

    def _mobility_answer(self, payloads: Sequence[Payload]) -> list[Payload]:
        """What an INFORMATIONAL response carries for it: the peer's COOKIE2, as it is (§3.7)."""
        told = notifications(payloads)
        if NotifyType.UPDATE_SA_ADDRESSES in told and self.mobile and not self.is_caller:
            self._check_due = True
        cookie = told.get(NotifyType.COOKIE2)
        return [Notify(NotifyType.COOKIE2, cookie.data)] if cookie is not None else []

    @property
    def is_caller(self) -> bool:
        """Whether this end is the one that moves: it was the initiator of the first IKE SA (§3.1)."""
        raise NotImplementedError

    def _succeed(self, made: IkeSa, now: float) -> None:
        """What waited for its answer by the old IKE SA is said again by the new one."""
        if self._cookie2:
            self._cookie2 = b""
            self._update_due, self._check_due = self.is_caller, not self.is_caller
        super()._succeed(made, now)

    def _begin_update(self, now: float) -> bool:
        """Tell the gateway that this side has another address (§3.5); False where it has to wait its turn."""
        if self.sa.outstanding is not None:
            return False
        self._update_due, self._cookie2 = False, self._random(COOKIE_SIZE)
        spis = self.sa.spi_i, self.sa.spi_r
        self._request(
            ExchangeType.INFORMATIONAL,
            [
                Notify(NotifyType.UPDATE_SA_ADDRESSES),
                Notify(NotifyType.NAT_DETECTION_SOURCE_IP, nowhere_hash(*spis, self.peer)),
                Notify(NotifyType.NAT_DETECTION_DESTINATION_IP, nat_detection_hash(*spis, self.peer)),
                Notify(NotifyType.COOKIE2, self._cookie2),
            ],
            now,
        )
        return True

    def _begin_check(self, now: float) -> None:
        """The gateway's side: whether the caller really receives at its new address (§3.7)."""
        if self._check_due and self.sa.outstanding is None:
            self._check_due, self._cookie2 = False, self._random(COOKIE_SIZE)
            self._request(ExchangeType.INFORMATIONAL, [Notify(NotifyType.COOKIE2, self._cookie2)], now)

    def _take_mobility_answer(self, payloads: Sequence[Payload], now: float) -> bool:
        """The answer to an update or a check; False where the IKE SA has to be closed."""
        if not self._cookie2:
            return True
        expected, self._cookie2 = self._cookie2, b""
        told = notifications(payloads)
        cookie = told.get(NotifyType.COOKIE2)
        if cookie is None or not hmac.compare_digest(cookie.data, expected):
            self._events.append(Closed(now, by_peer=True, reason="an answer to a moved address was not the peer's"))
            return False
        refused = next((entry for entry in told.values() if entry.is_error), None)
        if refused is not None:
            self._events.append(Closed(now, by_peer=True, reason=notify_in_words(refused.notification)))
            return False
        self._events.append(Moved(now, self.peer))
        return True
