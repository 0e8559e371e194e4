"""The kinds of credentials, and whom some are for. Light to load: a profile names the kinds that it needs."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from enum import StrEnum
from typing import TypeVar

from zesty_burrow.records import dataclass

C = TypeVar("C")


class CredentialsKind(StrEnum):
    """The kinds of credentials. A profile's sign-in method tells which of them it needs."""

    NAME_PASSWORD = "name-password"  # noqa: S105  (kinds of secrets, not secrets)
    CLIENT_KEY = "client-key"
    PRE_SHARED_KEY = "pre-shared-key"
    ADDITIONAL_KEY = "additional-shared-key"
    RAW_KEY = "raw-public-key"
    PROXY_PASSWORD = "proxy-name-password"  # noqa: S105


@dataclass(frozen=True, slots=True)
class Scope:
    """Whom credentials are for: all profiles under a label, or one profile; on every device, or on one."""

    label: str
    device: str = ""
    profile: str = ""

    def fits(self, label: str, profile: str, device: str) -> bool:
        """Whether they may be used for a profile on a device."""
        whose = self.profile == profile if self.profile else self.label == label
        return whose and self.device in ("", device)

    @property
    def specificity(self) -> tuple[bool, bool]:
        """What is more specific sorts later: a profile before a device before a provider."""
        return bool(self.profile), bool(self.device)

    def subject(self, kind: str) -> str:
        """What a seal binds the secret to, so that rows cannot be exchanged for each other."""
        if not self.device and not self.profile:
            return f"{self.label}/{kind}"
        return json.dumps([self.label, self.device, self.profile, kind])

    def __str__(self) -> str:
        device = f" on {self.device}" if self.device else ""
        return f"profile {self.profile}{device}" if self.profile else f"{self.label}{device}"


def most_specific(values: Iterable[C], scope_of: Callable[[C], Scope]) -> C | None:
    """The entry with the most specific scope, or None."""
    return max(values, key=lambda entry: scope_of(entry).specificity, default=None)
