"""The tunnel protocols: one folder each, loaded when it is needed."""

from __future__ import annotations

import importlib
import importlib.util
from typing import TYPE_CHECKING, Protocol, cast

from zesty_burrow.core import DEFAULT_PROTOCOL
from zesty_burrow.core.finding import register_codes
from zesty_burrow.errors import ProfileInvalid

if TYPE_CHECKING:
    from zesty_burrow.core.crypto.random_octets import Random
    from zesty_burrow.core.profile import Profile, ProtocolSettings, SignIn
    from zesty_burrow.core.toml_table import Table
    from zesty_burrow.protocols.session import Probe, Session, SessionRequest


class TunnelProtocol(Protocol):
    """What a protocol's folder offers, as ``PROTOCOL`` in its module ``protocol``."""

    @property
    def name(self) -> str:
        """As it is written in a profile."""

    @property
    def unprotected_code(self) -> str:
        """If it is so weak that the user must pass ``--unprotected`` each time: the error's code. Else empty."""

    def title(self, profile: Profile) -> str:
        """For people: the protocol, and what carries the packets in which transport."""

    @property
    def sign_in_methods(self) -> tuple[str, ...]:
        """How this side can sign in, the default first."""

    @property
    def gateway_proofs(self) -> tuple[str, ...]:
        """How a gateway can prove itself, the default first."""

    def refuse_sign_in(self, sign_in: SignIn) -> str:
        """Why a sign-in and a gateway's proof do not go together; empty where they do."""

    def extras(self, profile: Profile) -> tuple[str, ...]:
        """The extras of the installation that a session with this profile needs."""

    def outer_ports(self, profile: Profile) -> tuple[tuple[int, int], ...]:
        """Where a session with this profile sends to at its gateway: transport protocols and ports."""

    def read_settings(self, table: Table) -> ProtocolSettings:
        """The protocol's table of a profile; :class:`ProfileInvalid` names the key that is wrong."""

    def session(self, profile: Profile, request: SessionRequest, random: Random) -> Session:
        """A session for a profile; :class:`ProfileInvalid` where the profile lacks something."""

    def probe(self, profile: Profile, request: SessionRequest, random: Random, *, is_brief: bool = False) -> Probe:
        """Asks the gateway at the request's address what it can do; it has no secrets. The profile's offers come first.

        ``is_brief``: nothing but those, where the gateway takes one of them.
        """


DEFAULT = DEFAULT_PROTOCOL
"""What a sheet or an answer means that names no protocol, as a profile does."""
_MODULES = {
    "ikev2": "zesty_burrow.protocols.ikev2.protocol",
    "connect-ip": "zesty_burrow.protocols.connect_ip.protocol",
    "l2tp-ipsec": "zesty_burrow.protocols.l2tp_ipsec.protocol",
    "pptp": "zesty_burrow.protocols.pptp.protocol",
}


def register(name: str, module: str) -> None:
    """Add a protocol whose module has ``PROTOCOL``; findings of its own are ``CODES`` of ``codes`` beside it."""
    _MODULES[name] = module
    _register_codes(name)


def _register_codes(name: str) -> None:
    if importlib.util.find_spec(f"{package(name)}.codes") is not None:
        register_codes(importlib.import_module(f"{package(name)}.codes").CODES)


def names() -> tuple[str, ...]:
    """All protocols' names."""
    return tuple(_MODULES)


def package(name: str) -> str:
    """Where a protocol's own files are."""
    return _MODULES[name].rpartition(".")[0]


def facet(name: str, part: str) -> object | None:
    """A part of a protocol: ``FACET`` of the module ``facets.<part>`` in its folder; None if it has no such part.

    The interfaces are in ``protocols.facets``.
    """
    protocol(name)
    module = f"{package(name)}.facets.{part}"
    if importlib.util.find_spec(module) is None:
        return None
    return cast(object, importlib.import_module(module).FACET)


def protocol(name: str) -> TunnelProtocol:
    """A protocol by its name. Raises :class:`ProfileInvalid` if the name is not registered."""
    if name not in _MODULES:
        raise ProfileInvalid(f"protocol {name!r:.40} is not known", why=f"known ones are {', '.join(_MODULES)}")
    return cast(TunnelProtocol, importlib.import_module(_MODULES[name]).PROTOCOL)


for _name in _MODULES:
    _register_codes(_name)
