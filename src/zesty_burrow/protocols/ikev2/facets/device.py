"""What devices' built-in clients know of IKEv2."""

from __future__ import annotations

from collections.abc import Mapping

from zesty_burrow.core.policy.algorithms import ALGORITHMS, TransformType
from zesty_burrow.core.profile import ProtocolSettings
from zesty_burrow.protocols.facets.device import BuiltIn, Client
from zesty_burrow.protocols.ikev2.settings import IkeSettings

T = TransformType
KINDS_OF_ALGORITHMS = ((T.ENCR, "cipher"), (T.PRF, "PRF"), (T.KE, "key exchange group"))
_PHONE = BuiltIn(("eap-mschapv2", "certificate", "pre-shared-key"), ("certificate", "pre-shared-key"))


class IkeDevice:
    """Phones and tablets have it built in; a box has a minimal initiator (RFC 7815) without EAP and certificates."""

    title = "IKEv2"
    built_in: Mapping[str, BuiltIn] = {
        "phone": _PHONE,
        "tablet": _PHONE,
        "box": BuiltIn(("pre-shared-key", "raw-public-key"), ("pre-shared-key", "raw-public-key")),
    }
    labels: Mapping[str, Mapping[str, str]] = {
        language: {"remote-identifier": remote, "local-identifier": local}
        for language, remote, local in (
            ("en", "Remote identifier", "Local identifier"),
            ("de", "Entfernte Kennung", "Lokale Kennung"),
            ("es", "Identificador remoto", "Identificador local"),
            ("fr", "Identifiant distant", "Identifiant local"),
        )
    }

    def misfits(self, settings: ProtocolSettings, client: Client) -> list[str]:
        """An additional key, and algorithms of the IKE SA."""
        if not isinstance(settings, IkeSettings):
            return []
        problems = []
        if settings.additional_key == "required" and not client.additional_key:
            problems.append(f"needs an additional shared key (RFC 8784), which {client.called} does not know")
        offered = {(entry.type, entry.number) for proposal in settings.proposals("ike") for entry in proposal.all()}
        for kind, words in KINDS_OF_ALGORITHMS:
            mine = [entry for entry in ALGORITHMS if entry.type == kind and (entry.type, entry.number) in offered]
            if mine and not any(map(client.knows, mine)):
                problems.append(f"offers no {words} that {client.called} knows")
        return problems


FACET = IkeDevice()
