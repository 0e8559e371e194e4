"""What was noticed while a tunnel is up, for its status: each thing once, as long as it holds."""

from __future__ import annotations

import logging

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.core.finding import Finding

log = logging.getLogger(__name__)
UNTIL_RENEWED = "keys-not-renewed"


class Notices:
    """Findings by code and subject; a newer one of the same kind takes the place of the older."""

    def __init__(self) -> None:
        self._found: dict[tuple[str, str], Finding] = {}

    def add(self, one: Finding) -> None:
        """Something was noticed."""
        note(log, logging.WARNING, one.code.slug, subject=one.subject, title=one.code.title, detail=one.detail)
        self._found[one.code.slug, one.subject] = one

    def renewed(self) -> None:
        """Keys were renewed after all."""
        self._found = {key: one for key, one in self._found.items() if key[0] != UNTIL_RENEWED}

    @property
    def rows(self) -> tuple[tuple[str, str, str], ...]:
        """Slug, subject and detail of each, as the status carries them."""
        return tuple((one.code.slug, one.subject, one.detail) for one in self._found.values())
