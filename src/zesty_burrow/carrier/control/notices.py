"""What was noticed while a tunnel is up, for its status: each thing once, as long as it holds."""

from __future__ import annotations

import logging
from collections.abc import Iterable

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.network.host_config import Applied
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.errors import BurrowError

log = logging.getLogger(__name__)
UNTIL_RENEWED, BLOCKED = "keys-not-renewed", "traffic-blocked"
NOT_GRANTED, REFUSED_SERVER = "networks-not-granted", "dns-server-refused"
NO_SERVERS, NOT_FORWARDING = "name-servers-missing", "forwarding-off"


class Notices:
    """Findings by code and subject; a newer one of the same kind takes the place of the older."""

    def __init__(self) -> None:
        self._found: dict[tuple[str, str], Finding] = {}

    def add(self, one: Finding) -> None:
        note(log, logging.WARNING, one.code.slug, subject=one.subject, title=one.code.title, detail=one.detail)
        self._found[one.code.slug, one.subject] = one

    def blocked(self, profile: str, problem: BurrowError) -> None:
        """The tunnel is lost and has not reconnected; its traffic is blocked."""
        why = f"{problem.what} ({problem.why})" if problem.why else problem.what
        self._found[BLOCKED, profile] = finding(BLOCKED, profile, why)

    def granted(self, profile: str, applied: Applied, *, lacks_servers: bool = False) -> None:
        """What the gateway does not carry of the profile's networks, and names for name servers without right; and
        what this machine does not forward.

        ``lacks_servers``: there is none that could be asked for all names.
        """
        self.drop(NO_SERVERS)
        if lacks_servers:
            self.add(finding(NO_SERVERS, profile))
        for slug, what in (
            (NOT_GRANTED, applied.not_granted),
            (REFUSED_SERVER, applied.refused_servers),
            (NOT_FORWARDING, applied.not_forwarding),
        ):
            self.drop(slug)
            if what:
                self.add(finding(slug, profile, ", ".join(what)))

    def found(self, conditions: Iterable[str], findings: Iterable[Finding]) -> None:
        """What a look at this machine has found; conditions that are not among it do not hold any more."""
        for slug in conditions:
            self.drop(slug)
        for one in findings:
            self.add(one)

    def drop(self, slug: str) -> None:
        """It does not hold any more."""
        self._found = {key: one for key, one in self._found.items() if key[0] != slug}

    @property
    def rows(self) -> tuple[tuple[str, str, str], ...]:
        """Slug, subject and detail of each, as the status carries them."""
        return tuple((one.code.slug, one.subject, one.detail) for one in self._found.values())
