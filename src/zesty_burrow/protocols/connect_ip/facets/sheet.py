"""CONNECT-IP on set-up sheets."""

from __future__ import annotations

import re

from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.connect_ip.settings import BASIC, CERTIFICATE, PORT, ConnectIpSettings
from zesty_burrow.protocols.facets.sheet import NEVER, SheetFacts


class ConnectIpSheet:
    """Named by itself, its RFC, or HTTP."""

    named = re.compile(r"connect[- ]?ip|rfc ?9484|\bhttps?\b|\bhttp/")
    perhaps = NEVER
    retired = NEVER
    name_parts: frozenset[str] = frozenset()

    def settings(self, facts: SheetFacts) -> ConnectIpSettings:
        """TCP unless the sheet says UDP, or both."""
        both = {"udp", "tcp"} <= facts.transports
        transport = "any" if both else "udp" if "udp" in facts.transports else "tcp"
        return ConnectIpSettings(identity=facts.identity, transport=transport, port=facts.port or PORT)

    def sign_in(self, facts: SheetFacts) -> SignIn:
        """A password unless the sheet says certificate."""
        return SignIn("certificate", CERTIFICATE if facts.sign_in == "certificate" else BASIC)

    def is_port_unused(self, port: str, facts: SheetFacts) -> bool:
        """Its port is always taken."""
        return False


FACET = ConnectIpSheet()
