"""Session keys as a document for an analyser. With them a capture can be read by anyone."""

from __future__ import annotations

import json
from typing import Any

from zesty_burrow.core.policy.algorithms import TransformType, describe
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.ikev2.events import KeyExport


def keys_document(export: KeyExport) -> str:
    """One JSON document with hexadecimal keys."""
    ike, child = export.ike, export.child
    document: dict[str, Any] = {
        "format": 1,
        "ike": {
            "spi_i": export.spi_i.hex(),
            "spi_r": export.spi_r.hex(),
            "encryption": describe(TransformType.ENCR, ike.suite.encryption, ike.suite.key_bits),
            "integrity": _integrity(ike.suite),
            "SK_ei": ike.sk_ei.hex(),
            "SK_er": ike.sk_er.hex(),
            "SK_ai": ike.sk_ai.hex(),
            "SK_ar": ike.sk_ar.hex(),
        },
    }
    if child is not None:
        document["esp"] = {
            "encryption": describe(TransformType.ENCR, child.suite.encryption, child.suite.key_bits),
            "integrity": _integrity(child.suite),
            "out": {
                "spi": f"{export.spi_out:#010x}",
                "encryption_key": child.encryption_i.hex(),
                "integrity_key": child.integrity_i.hex(),
            },
            "in": {
                "spi": f"{export.spi_in:#010x}",
                "encryption_key": child.encryption_r.hex(),
                "integrity_key": child.integrity_r.hex(),
            },
        }
    return json.dumps(document, indent=2) + "\n"


def _integrity(suite: Suite) -> str:
    return describe(TransformType.INTEG, suite.integrity) if suite.integrity else ""
