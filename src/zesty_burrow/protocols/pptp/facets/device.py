"""What devices' built-in clients know of PPTP."""

from __future__ import annotations

from collections.abc import Mapping

from zesty_burrow.core.profile import ProtocolSettings
from zesty_burrow.protocols.facets.device import BuiltIn, Client


class PptpDevice:
    """No device is given it: it protects next to nothing."""

    title = "PPTP"
    built_in: Mapping[str, BuiltIn] = {}
    labels: Mapping[str, Mapping[str, str]] = {}

    def misfits(self, settings: ProtocolSettings, client: Client) -> list[str]:
        return []


FACET = PptpDevice()
