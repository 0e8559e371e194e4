"""Changing what TLS is offered with, as ``zesty choose`` asks for it; and a profile's settings in words."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.policy.tls_names import CIPHER_SUITES, GROUPS, opinion_of, read_name
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings

LISTS = ("cipher_suites", "key_exchange")


def read_list(name: str, words: str, policy: Policy) -> tuple[str, ...]:
    """IANA's names, separated by commas; what is unknown or forbidden is refused with the reason."""
    found = []
    for word in words.split(","):
        try:
            chosen = read_name(word, CIPHER_SUITES if name == "cipher_suites" else GROUPS)
        except ValueError as problem:
            raise UsageError(f"--{name.replace('_', '-')}: {problem}") from None
        said = opinion_of(policy, chosen)
        if not said.good:
            raise UsageError(
                f"{chosen} cannot be chosen",
                why=f"{said.why} ({said.source})",
                next_step="Choose another one; or let the policy allow it by name (docs/choosing.md).",
            )
        found.append(chosen)
    return tuple(dict.fromkeys(found))


def summary(settings: ConnectIpSettings) -> list[str]:
    """HTTP, TLS and port, in words."""
    parts = [" or ".join(f"HTTP/{one}" for one in settings.versions)]
    for name, label in (("cipher_suites", "cipher suites"), ("key_exchange", "key exchange")):
        parts.append(f"TLS {label} {', '.join(getattr(settings, name)) or 'defaults'}")
    return [*parts, f"{settings.over()} port {settings.port}"]
