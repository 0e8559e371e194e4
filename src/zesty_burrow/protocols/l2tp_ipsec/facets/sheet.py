"""L2TP/IPsec on set-up sheets."""

from __future__ import annotations

import re

from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.sheet import NEVER, SheetFacts
from zesty_burrow.protocols.l2tp_ipsec.settings import (
    CERTIFICATE,
    NAT_PORT,
    PORT,
    SHARED_KEY,
    SIGN_IN_METHODS,
    L2tpSettings,
)

INNER_PORT = 1701
"""L2TP's own (RFC 2661 §8.1), inside ESP."""


class L2tpSheet:
    """Named by L2TP."""

    named = re.compile(r"l2tp")
    perhaps = NEVER
    retired = NEVER
    name_parts: frozenset[str] = frozenset()

    def settings(self, facts: SheetFacts) -> L2tpSettings:
        """The gateway's identity alone: its ports are the standard's own."""
        return L2tpSettings(identity=facts.identity)

    def sign_in(self, facts: SheetFacts) -> SignIn:
        """A password; the gateway proves itself by the shared secret that the sheet gives, else by a certificate."""
        return SignIn(SHARED_KEY if facts.has_shared_secret else CERTIFICATE, SIGN_IN_METHODS[0])

    def is_port_unused(self, port: str, facts: SheetFacts) -> bool:
        return port not in (str(PORT), str(NAT_PORT), str(INNER_PORT))


FACET = L2tpSheet()
