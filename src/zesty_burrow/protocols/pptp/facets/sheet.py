"""PPTP on set-up sheets: it is refused. Who needs it chooses it by name."""

from __future__ import annotations

import re

from zesty_burrow.core.profile import SignIn
from zesty_burrow.errors import ProgramFault
from zesty_burrow.protocols.facets.sheet import NEVER, SheetFacts
from zesty_burrow.protocols.pptp.settings import PptpSettings


class PptpSheet:
    """Never taken from a sheet."""

    named = NEVER
    perhaps = NEVER
    retired = re.compile(r"pptp")
    name_parts: frozenset[str] = frozenset()

    def settings(self, facts: SheetFacts) -> PptpSettings:
        """Raises: no sheet names it."""
        raise ProgramFault("no sheet is read as PPTP")

    def sign_in(self, facts: SheetFacts) -> SignIn:
        """Raises: no sheet names it."""
        raise ProgramFault("no sheet is read as PPTP")

    def is_port_unused(self, port: str, facts: SheetFacts) -> bool:
        """None is used."""
        return True


FACET = PptpSheet()
