"""What other devices' built-in clients know of a protocol, and how their forms call it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Protocol

from zesty_burrow.core.policy.algorithms import Algorithm
from zesty_burrow.core.profile import ProtocolSettings
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Client:
    """What connects on a kind of device. ``knows``: whether an algorithm can be relied on.

    ``is_built_in``: the device's own client, not this program. ``protocols``, ``methods``: what one device's client
    knows, where that is less or more than others of its kind (``is_special``); empty: what its kind knows.
    """

    kind: str
    words: str
    knows: Callable[[Algorithm], bool]
    additional_key: bool = True
    is_built_in: bool = False
    protocols: tuple[str, ...] = ()
    methods: tuple[str, ...] = ()
    is_special: bool = False

    @property
    def called(self) -> str:
        return "its client" if self.is_special else f"a {self.kind}"


@dataclass(frozen=True, slots=True)
class BuiltIn:
    """How built-in clients of one kind of device sign in by a protocol, and how a gateway may prove itself to them."""

    methods: tuple[str, ...]
    proofs: tuple[str, ...]


class DeviceFacet(Protocol):
    """``title``: as forms and cards call the protocol. ``built_in``: by kind of device; others do not speak it."""

    @property
    def title(self) -> str:
        """The protocol's name as standards write it."""

    @property
    def built_in(self) -> Mapping[str, BuiltIn]:
        """Kinds of device whose own client speaks the protocol."""

    @property
    def labels(self) -> Mapping[str, Mapping[str, str]]:
        """By language (``en``, ``de``, ``es``, ``fr``): labels of the keys of ``ProtocolSettings.typed``."""

    def misfits(self, settings: ProtocolSettings, client: Client) -> list[str]:
        """What in the protocol's settings a built-in client cannot do, in words."""
