"""What ``zesty choose`` can set of CONNECT-IP: what TLS offers, transport and port."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.policy.tls_names import CIPHER_SUITES, GROUPS, opinion_of, read_name
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.connect_ip.settings import TRANSPORTS, ConnectIpSettings, settings_of
from zesty_burrow.protocols.facets.choices import ChoiceOption, Choices, Kind
from zesty_burrow.records import replace

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
    parts = [" or ".join(f"HTTP/{version}" for version in settings.versions)]
    for name, label in (("cipher_suites", "cipher suites"), ("key_exchange", "key exchange")):
        parts.append(f"TLS {label} {', '.join(getattr(settings, name)) or 'defaults'}")
    return [*parts, f"{settings.over()} port {settings.port}"]


class ConnectIpChoices:
    """Cipher suites and groups of TLS 1.3, transport and port, how long a silent gateway is waited for."""

    options = (
        ChoiceOption("key_exchange", "key exchange algorithms: IANA names, separated by commas", Kind.ALGORITHMS),
        ChoiceOption("cipher_suites", "cipher suites of TLS 1.3: IANA names, separated by commas", Kind.ALGORITHMS),
        ChoiceOption("transport", "what the protocol travels in: UDP (HTTP/3), TCP, or any", Kind.WORD, TRANSPORTS),
        ChoiceOption("port", "the gateway's port, 1 to 65535", Kind.NUMBER),
        ChoiceOption("peer_seconds", "give a silent gateway up after this many seconds", Kind.NUMBER, (), "seconds"),
    )
    takes_suite = False

    def apply(self, profile: Profile, choices: Choices, policy: Policy) -> ConnectIpSettings:
        """The profile's settings with the choices."""
        own = settings_of(profile)
        own = replace(
            own,
            transport=choices.text("transport", own.transport),
            port=choices.number("port", own.port),
            peer_seconds=choices.number("peer_seconds", own.peer_seconds),
        )
        if choices.use_defaults:
            return replace(own, cipher_suites=(), key_exchange=())
        chosen: dict[str, Any] = {
            name: read_list(name, str(words), policy) for name, words in choices.only(LISTS).items()
        }
        return replace(own, **chosen)

    def summary(self, profile: Profile) -> list[str]:
        return summary(settings_of(profile))


FACET = ConnectIpChoices()
