"""Reads the certificates and revocation lists of a profile for :mod:`trust_facts`."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.revocation import load_revocation_list_untrusted
from zesty_burrow.errors import Malformed


@lru_cache(maxsize=64)
def read(pem: str) -> dict[str, Any]:
    """Plain values. A provider's hundreds of profiles share one authority; reading it once is enough."""
    try:
        return _list(pem) if "BEGIN X509 CRL" in pem else _certificates(pem)
    except Malformed as problem:
        return {"malformed": str(problem)}


def _certificates(pem: str) -> dict[str, Any]:
    rows = []
    for pem_certificate in trust.load_pem_certificates_untrusted(pem.encode()):
        found = [(entry.code.slug, entry.detail) for entry in trust.strength_findings(pem_certificate, anchor=True)]
        found += [] if trust.is_authority(pem_certificate) else [("profile-authority-leaf", "")]
        rows.append(
            {
                "subject": trust.subject_name(pem_certificate),
                "begins": pem_certificate.not_valid_before_utc.isoformat(),
                "ends": pem_certificate.not_valid_after_utc.isoformat(),
                "findings": found,
            }
        )
    return {"certificates": rows}


def _list(pem: str) -> dict[str, Any]:
    one = load_revocation_list_untrusted(pem.encode())
    due = one.next_update_utc
    return {
        "issuer": one.issuer.rfc4514_string(),
        "since": one.last_update_utc.isoformat(),
        "due": due.isoformat() if due else "",
        "revoked": len(one),
    }
