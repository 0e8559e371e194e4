"""Dates of certificates and revocation lists (RFC 5280 §4.1.2.5, §5.1.2.4). Light to load: none is read here."""

from __future__ import annotations

from datetime import datetime, timedelta

from zesty_burrow.core.finding import Finding, finding

SOON = timedelta(days=30)


def validity_findings(
    name: str, begins: datetime, ends: datetime, now: datetime, *, soon: bool = True
) -> list[Finding]:
    """Expired, not yet valid, or close to its end. ``now`` has a time zone."""
    if now > ends:
        return [finding("certificate-expired", name, f"valid until {ends:%Y-%m-%d %H:%M} UTC")]
    if now < begins:
        return [finding("certificate-not-yet-valid", name, f"valid from {begins:%Y-%m-%d %H:%M} UTC")]
    if soon and ends - now < SOON:
        return [finding("certificate-expires-soon", name, f"valid until {ends:%Y-%m-%d}")]
    return []


def list_age_problem(since: datetime, due: datetime | None, now: datetime) -> str:
    """Why a revocation list does not tell that a certificate is good today, for people; empty where it does."""
    if due is not None and due < now:
        return f"the next one was due on {due:%Y-%m-%d}"
    if since > now:
        return f"it is from {since:%Y-%m-%d}, which lies ahead"
    return ""
