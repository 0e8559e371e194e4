"""What devices' built-in clients know of CONNECT-IP."""

from __future__ import annotations

from collections.abc import Mapping

from zesty_burrow.core.profile import ProtocolSettings
from zesty_burrow.protocols.facets.device import BuiltIn, Client


class ConnectIpDevice:
    """No device has a client for it built in."""

    title = "CONNECT-IP"
    built_in: Mapping[str, BuiltIn] = {}
    labels: Mapping[str, Mapping[str, str]] = {}

    def misfits(self, settings: ProtocolSettings, client: Client) -> list[str]:
        return []


FACET = ConnectIpDevice()
