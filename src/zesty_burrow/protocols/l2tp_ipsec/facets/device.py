"""What devices' built-in clients know of L2TP/IPsec."""

from __future__ import annotations

from collections.abc import Mapping

from zesty_burrow.core.profile import ProtocolSettings
from zesty_burrow.protocols.facets.device import BuiltIn, Client
from zesty_burrow.protocols.l2tp_ipsec.settings import CERTIFICATE, SHARED_KEY


class L2tpDevice:
    """Phones and tablets have it built in."""

    title = "L2TP/IPsec"
    built_in: Mapping[str, BuiltIn] = {
        kind: BuiltIn(("ms-chap-v2",), (SHARED_KEY, CERTIFICATE)) for kind in ("phone", "tablet")
    }
    labels: Mapping[str, Mapping[str, str]] = {}

    def misfits(self, settings: ProtocolSettings, client: Client) -> list[str]:
        return []


FACET = L2tpDevice()
