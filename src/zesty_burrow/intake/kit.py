"""A kit as values: what was found in it, and what became of each file."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import Scope
from zesty_burrow.intake.containers.budget import Passphrases
from zesty_burrow.intake.readers.certificates import CertificateFacts
from zesty_burrow.intake.readers.vocabulary import Vocabulary, shipped
from zesty_burrow.intake.recognise import FileKind
from zesty_burrow.records import dataclass, field

Neighbour = Callable[[str], bytes | None]
Progress = Callable[[int, int], None]


@dataclass(frozen=True, slots=True)
class Item:
    """One file of the kit and what became of it."""

    path: str
    kind: FileKind
    taken: bool
    why: str = ""


@dataclass(frozen=True, slots=True)
class FoundProfile:
    """A profile that is complete: its authorities are inside. ``origin``: the argument that it came with."""

    path: str
    profile: Profile
    text: str
    digest: str
    origin: str


@dataclass(frozen=True, slots=True)
class FoundCredentials:
    """Credentials and whom they are for. ``origin``: the argument that they came with."""

    path: str
    scope: Scope
    value: Credentials
    origin: str


@dataclass(frozen=True, slots=True)
class Kit:
    """Everything that was found. ``authorities``: the path and PEM of each file with certificates of authorities."""

    origin: str
    profiles: tuple[FoundProfile, ...]
    credentials: tuple[FoundCredentials, ...]
    items: tuple[Item, ...]
    findings: tuple[Finding, ...]
    certificates: tuple[CertificateFacts, ...] = ()
    authorities: tuple[tuple[str, str], ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to import."""
        return not self.profiles and not self.credentials


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a kit alone does not tell.

    ``provider``, ``profile``, ``device``: whose credentials they are, where the kit does not say; ``neighbours`` look
    a file up beside one that was named, by that one's path; ``progress`` is called
    with files done and their number; ``words``: what labels on sheets mean; ``at`` gets the file that is read now;
    ``passphrases``: of archives, keys and sealed credentials.
    """

    provider: str = ""
    profile: str = ""
    device: str = ""
    neighbours: Mapping[str, Neighbour] = field(default_factory=dict)
    progress: Progress = lambda _done, _all: None
    words: Vocabulary = field(default_factory=shipped)
    at: Callable[[str], None] = lambda _path: None
    passphrases: Passphrases = field(default_factory=Passphrases)
