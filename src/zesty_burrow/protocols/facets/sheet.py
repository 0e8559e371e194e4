"""How set-up sheets name a protocol, and what of a sheet becomes its settings."""

from __future__ import annotations

import re
from typing import Protocol

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import ProtocolSettings, SignIn
from zesty_burrow.records import dataclass

NEVER = re.compile(r"(?!)")
"""Matches nothing."""


@dataclass(frozen=True, slots=True)
class SheetFacts:
    """What a sheet says, apart from its language.

    ``transports``: words of its transport line. ``port``: the first one, 0 if there is none. ``sign_in``: ``password``,
    ``certificate``, ``shared-key``, ``raw-key``, or empty. ``own_identity``: as text, empty if there is none.
    """

    identity: Identity
    transports: frozenset[str] = frozenset()
    port: int = 0
    sign_in: str = ""
    account: str = ""
    own_identity: str = ""
    has_password: bool = False
    has_shared_secret: bool = False

    @property
    def only_tcp(self) -> bool:
        """Whether TCP is named, and UDP is not."""
        return "tcp" in self.transports and "udp" not in self.transports


class SheetFacet(Protocol):
    """``named``: what sheets call the protocol. ``perhaps``: if no protocol is ``named``.

    ``retired``: names of versions that this program refuses. ``name_parts``: words in file names.
    """

    @property
    def named(self) -> re.Pattern[str]:
        """Matches lower-case text."""

    @property
    def perhaps(self) -> re.Pattern[str]:
        """Matches lower-case text."""

    @property
    def retired(self) -> re.Pattern[str]:
        """Matches lower-case text."""

    @property
    def name_parts(self) -> frozenset[str]:
        """Words that say nothing about a place."""

    def settings(self, facts: SheetFacts) -> ProtocolSettings:
        """As far as the sheet says something of them."""

    def sign_in(self, facts: SheetFacts) -> SignIn:
        """By the sheet's own word, else by what it gives."""

    def is_port_unused(self, port: str, facts: SheetFacts) -> bool:
        """Whether a port on the sheet differs from what the protocol uses, and is not taken."""
