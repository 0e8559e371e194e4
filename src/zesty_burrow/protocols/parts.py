"""The parts of each protocol, found through the registry and typed by their interfaces in ``protocols.facets``."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

from zesty_burrow.protocols import registry

if TYPE_CHECKING:
    # Types alone: `list` must not wait for them.
    from zesty_burrow.protocols.facets.advice import AdviceFacet
    from zesty_burrow.protocols.facets.choices import ProtocolChoices
    from zesty_burrow.protocols.facets.device import Client, DeviceFacet
    from zesty_burrow.protocols.facets.instance_data import InstanceDataFacet
    from zesty_burrow.protocols.facets.questions import QuestionFacet
    from zesty_burrow.protocols.facets.sheet import SheetFacet


def choices_of(name: str) -> ProtocolChoices:
    return cast("ProtocolChoices", registry.facet(name, "choices"))


def device_of(name: str) -> DeviceFacet:
    return cast("DeviceFacet", registry.facet(name, "device"))


def protocols_of(client: Client) -> tuple[str, ...]:
    """The protocols that a client speaks."""
    if not client.is_built_in:
        return registry.names()
    return client.protocols or tuple(name for name in registry.names() if client.kind in device_of(name).built_in)


def advice_of(name: str) -> AdviceFacet:
    return cast("AdviceFacet", registry.facet(name, "advice"))


def sheets() -> dict[str, SheetFacet]:
    """The part of every protocol that has it, by name, the default protocol first."""
    names = (registry.DEFAULT, *(name for name in registry.names() if name != registry.DEFAULT))
    parts = {name: registry.facet(name, "sheet") for name in names}
    return {name: cast("SheetFacet", part) for name, part in parts.items() if part is not None}


def question_facets() -> dict[str, QuestionFacet]:
    """The part of every protocol that can be created by answers, by name."""
    parts = {name: registry.facet(name, "questions") for name in registry.names()}
    return {name: cast("QuestionFacet", part) for name, part in parts.items() if part is not None}


def models() -> dict[str, InstanceDataFacet]:
    """The part of every protocol that has such a model, by name."""
    parts = {name: registry.facet(name, "instance_data") for name in registry.names()}
    return {name: cast("InstanceDataFacet", part) for name, part in parts.items() if part is not None}
