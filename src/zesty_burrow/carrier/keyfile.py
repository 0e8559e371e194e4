"""Session keys for an analyser, written only on an explicit word. With them a capture can be read by anyone."""

from __future__ import annotations

import json
from pathlib import Path

from zesty_burrow.core.ike.events import KeyExport
from zesty_burrow.core.policy.algorithms import TransformType, describe
from zesty_burrow.errors import Clash
from zesty_burrow.store.seal import write_private


def write_key_file(path: Path, export: KeyExport) -> None:
    """One JSON document with hexadecimal keys, readable by its owner only; never over another file."""
    ike, child = export.ike, export.child
    document = {
        "format": 1,
        "ike": {
            "spi_i": export.spi_i.hex(),
            "spi_r": export.spi_r.hex(),
            "encryption": describe(TransformType.ENCR, ike.suite.encryption, ike.suite.key_bits),
            "integrity": describe(TransformType.INTEG, ike.suite.integrity) if ike.suite.integrity else "",
            "SK_ei": ike.sk_ei.hex(),
            "SK_er": ike.sk_er.hex(),
            "SK_ai": ike.sk_ai.hex(),
            "SK_ar": ike.sk_ar.hex(),
        },
    }
    if child is not None:
        integrity = describe(TransformType.INTEG, child.suite.integrity) if child.suite.integrity else ""
        document["esp"] = {
            "encryption": describe(TransformType.ENCR, child.suite.encryption, child.suite.key_bits),
            "integrity": integrity,
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
    try:
        write_private(path, json.dumps(document, indent=2).encode() + b"\n")
    except FileExistsError:
        raise Clash(f"the key file {path} exists already", next_step="Name another file.") from None
