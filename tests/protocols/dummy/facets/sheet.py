"""Dummy on sheets."""

import re

from dummy.protocol import DummySettings
from zesty_burrow.core.profile import SignIn
from zesty_burrow.protocols.facets.sheet import NEVER


class DummySheet:
    named = re.compile(r"dummy")
    perhaps = retired = NEVER
    name_parts = frozenset({"dummy"})

    def settings(self, facts):
        return DummySettings(facts.port or 7777, "from a sheet")

    def sign_in(self, facts):
        return SignIn("password", "password")

    def is_port_unused(self, port, facts):
        return False


FACET = DummySheet()
