"""IKEv2 on set-up sheets."""

from __future__ import annotations

import re

from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.sheet import SheetFacts
from zesty_burrow.protocols.ikev2.settings import NAT_PORT, PORTS, IkeSettings

METHODS = {
    "password": "eap-mschapv2",
    "certificate": "certificate",
    "shared-key": "pre-shared-key",
    "raw-key": "raw-public-key",
}
"""How this side signs in, by the words that people use."""


class IkeSheet:
    """What a sheet means that names no protocol as well."""

    named = re.compile(r"ike *v *2")
    perhaps = re.compile(r"ike")
    retired = re.compile(r"ike ?v?1\b|xauth")
    name_parts = frozenset({"ike", "ikev"})

    def settings(self, facts: SheetFacts) -> IkeSettings:
        """UDP's port is the standard's own; TCP's is the sheet's (RFC 9329)."""
        transport = "tcp" if facts.only_tcp else "udp"
        port = (facts.port if facts.only_tcp else 0) or PORTS[transport]
        return IkeSettings(
            identity=facts.identity, own_identity=self._own_identity(facts), transport=transport, port=port
        )

    def sign_in(self, facts: SheetFacts) -> SignIn:
        """A password unless the sheet says otherwise or gives a shared secret alone."""
        gateway = "pre-shared-key" if facts.has_shared_secret else "certificate"
        return SignIn(gateway, self._method(facts))

    def _method(self, facts: SheetFacts) -> str:
        if facts.sign_in:
            return METHODS[facts.sign_in]
        return "pre-shared-key" if facts.has_shared_secret and not facts.has_password else "eap-mschapv2"

    def _own_identity(self, facts: SheetFacts) -> Identity | None:
        if facts.own_identity:
            return Identity.of(facts.own_identity)
        if self._method(facts) == "pre-shared-key" and facts.account:
            return Identity(IdType.ID_KEY_ID, facts.account)
        return None

    def is_port_unused(self, port: str, facts: SheetFacts) -> bool:
        """Any but its two, over UDP."""
        return not facts.only_tcp and port not in (str(PORTS["udp"]), str(NAT_PORT))


FACET = IkeSheet()
