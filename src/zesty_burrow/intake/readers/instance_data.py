"""Instance data of YANG models: what a protocol's own part reads is judged as any profile is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from cryptography.hazmat.primitives.serialization import load_pem_public_key

from zesty_burrow.core.profile import Profile
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError, Malformed
from zesty_burrow.intake.readers.keys import nobody, public_octets, read_keys_untrusted
from zesty_burrow.intake.readers.sheet import slug_of
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols.facets.instance_data import ConnectionEntry, InstanceDataFacet, KeyTools
from zesty_burrow.protocols.parts import models
from zesty_burrow.records import replace

START = 65536
"""Characters within which the model's name stands."""


def _read_private_key(data: bytes, where: str) -> Secret:
    return read_keys_untrusted(data, nobody, where).keys[0].secret


TOOLS = KeyTools(_read_private_key, lambda pem: public_octets(load_pem_public_key(pem.encode())))


def _model_of(text: str) -> InstanceDataFacet | None:
    if text.lstrip("\ufeff \t\r\n")[:1] != "{":
        return None
    return next((model for model in models().values() if f'"{model.member}"' in text[:START]), None)


def looks_like_instance_data(text: str) -> bool:
    """Whether a text is JSON of a known model."""
    return _model_of(text) is not None


def read_instance_data_untrusted(text: str, origin: str) -> Iterator[ConnectionEntry | InputError]:
    """Each connection, or why it cannot be taken. Raises :class:`Malformed` for the whole."""
    model = _model_of(text)
    if model is None:
        known = ", ".join(model.standard for model in models().values())
        raise Malformed(f"{origin} is not instance data of a known model", why=f"known are those of {known}")
    for entry in model.read(text, origin, TOOLS):
        if isinstance(entry, InputError):
            yield entry
            continue
        named = replace(entry.profile, name=slug_of(entry.title) or "connection")
        try:
            # The text form's own rules judge what a stranger has written.
            entry.profile = read_profile(write_profile(named), f"{origin}, {entry.title!r:.60}")
        except InputError as problem:
            yield problem
        else:
            yield entry


def write_instance_data(name: str, profiles: Mapping[str, Profile]) -> tuple[str, list[str]]:
    """Profiles of the protocol ``name`` as one JSON document without secrets; and what does not map."""
    return models()[name].write(profiles, TOOLS)
