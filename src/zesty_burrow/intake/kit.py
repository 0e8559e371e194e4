"""A kit as values, and the one call that reads it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from zesty_burrow.core.credentials import Credentials, Scope
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.intake.containers import expand
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.readers.keys import nobody
from zesty_burrow.intake.recognise import Kind, recognise

if TYPE_CHECKING:
    from zesty_burrow.intake.kit_file import KitFile

Neighbour = Callable[[str], bytes | None]
Ask = Callable[[str], str]
Progress = Callable[[int, int], None]
STRIDE = 100
"""Files between two words about the progress."""


@dataclass(frozen=True, slots=True)
class Item:
    """One file of the kit and what became of it."""

    path: str
    kind: Kind
    taken: bool
    why: str = ""


@dataclass(frozen=True, slots=True)
class FoundProfile:
    """A profile that stands on its own: its authorities are inside."""

    path: str
    profile: Profile
    text: str
    digest: str


@dataclass(frozen=True, slots=True)
class FoundCredentials:
    """Credentials and whom they are for."""

    path: str
    scope: Scope
    value: Credentials


@dataclass(frozen=True, slots=True)
class Kit:
    """Everything that was found."""

    origin: str
    profiles: tuple[FoundProfile, ...]
    credentials: tuple[FoundCredentials, ...]
    items: tuple[Item, ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a kit alone does not tell.

    ``provider``, ``profile``, ``device``: whose credentials they are, where the kit does not say; ``neighbour`` looks
    a file up beside a single profile; ``ask`` asks for a passphrase; ``on_disk``: the kit lies somewhere, and what is
    readable in it stays readable there; ``progress`` hears of files done and their number.
    """

    provider: str = ""
    profile: str = ""
    device: str = ""
    neighbour: Neighbour = lambda _: None
    ask: Ask = nobody
    on_disk: bool = True
    progress: Progress = lambda _done, _all: None


def read_kit(origin: str, members: Sequence[KitFile], now: datetime, surroundings: Surroundings | None = None) -> Kit:
    """A kit from its files.

    Raises ``InputError`` for a hostile or damaged archive, and where there is nothing at all to take; ``SealError``
    where a passphrase is wrong.
    """
    from zesty_burrow.intake.assemble import join
    from zesty_burrow.intake.reader import Reader

    given = surroundings or Surroundings()
    reader = Reader(origin, now, given)
    seen: dict[bytes, str] = {}
    plain = expand(members)
    for number, member in enumerate(plain):
        if number % STRIDE == 0:
            given.progress(number, len(plain))
        content = hashlib.sha256(member.data).digest()
        if content in seen and (kind := recognise(member)) is not Kind.READ_ME:
            reader.leave(member, kind, "kit-same-content", f"the same as {seen[content]}")
            reader.copies[member.path] = seen[content]
            continue
        seen[content] = member.path
        reader.take(member)
    reader.take_codes()
    profiles, credentials = join(reader)
    given.progress(len(plain), len(plain))
    kit = Kit(origin, tuple(profiles), tuple(credentials), tuple(reader.items), tuple(reader.findings))
    if not kit.profiles and not kit.credentials:
        reasons = [f"{item.path}: {item.why}" for item in kit.items[:5]]
        raise refused("kit-empty", origin, "; ".join(reasons))
    return kit
