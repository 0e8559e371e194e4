"""PPTP on set-up sheets: taken where a sheet names it alone, with what its settings' own check says of it."""

from __future__ import annotations

import re

from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.sheet import NEVER, SheetFacts
from zesty_burrow.protocols.pptp.control import PORT
from zesty_burrow.protocols.pptp.settings import GATEWAY_PROOFS, SIGN_IN_METHODS, PptpSettings


class PptpSheet:
    """Named by PPTP. `connect` refuses such a profile, but with a word of the user's for each time."""

    named = re.compile(r"pptp|point.to.point tunnell?ing")
    perhaps = NEVER
    retired = NEVER
    name_parts: frozenset[str] = frozenset()

    def settings(self, facts: SheetFacts) -> PptpSettings:
        """PPTP has no settings of its own."""
        return PptpSettings()

    def sign_in(self, facts: SheetFacts) -> SignIn:
        """By name and password; that is all by which the gateway shows anything as well."""
        return SignIn(GATEWAY_PROOFS[0], SIGN_IN_METHODS[0])

    def is_port_unused(self, port: str, facts: SheetFacts) -> bool:
        return port != str(PORT)


FACET = PptpSheet()
