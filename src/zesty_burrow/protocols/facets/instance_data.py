"""Instance data of a YANG model (JSON, RFC 7951) that describes a protocol's connections."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Protocol

from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError
from zesty_burrow.records import dataclass, field


@dataclass(slots=True)
class ConnectionEntry:
    """A profile whose name is ``title`` as the data has it, what it signs in with, and what was left out."""

    title: str
    profile: Profile
    credentials: list[Credentials] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class KeyTools:
    """``read_private_key``: octets and where they are from; ``public_octets``: of a public key in PEM."""

    read_private_key: Callable[[bytes, str], Secret]
    public_octets: Callable[[str], bytes]


class InstanceDataFacet(Protocol):
    """``member``: the top-level member of the JSON document; ``standard``: the model's RFC."""

    @property
    def member(self) -> str:
        """Module and container, with a colon between them."""

    @property
    def standard(self) -> str:
        """Such as ``RFC 9061``."""

    def read(self, text: str, origin: str, tools: KeyTools) -> Iterator[ConnectionEntry | InputError]:
        """Each connection, or why it cannot be taken. Raises :class:`Malformed` for the whole."""

    def write(self, profiles: Mapping[str, Profile], tools: KeyTools) -> tuple[str, list[str]]:
        """One JSON document without any secret; and what does not map, a sentence each."""
