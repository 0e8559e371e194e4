"""What may be unpacked from one outermost file, and what is left out of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from zesty_burrow.errors import SealError
from zesty_burrow.intake import limits
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.readers.keys import nobody
from zesty_burrow.records import dataclass, field

MAX_ASKED = 3
"""Questions for a passphrase, for one kit."""


class Left(NamedTuple):
    """A file that is not taken, or a part of one, with the code of the finding that says why."""

    member: KitFile
    slug: str
    detail: str = ""


@dataclass(slots=True)
class Passphrases:
    """Those that are known, and a way to ask for more. What has opened a file is tried first on the next one.

    ``ask`` raises :class:`SealError` where nobody can be asked.
    """

    known: list[str] = field(default_factory=list, repr=False)
    ask: Callable[[str], str] | None = None
    asked: int = 0

    def candidates(self, what: str) -> Iterator[str]:
        """Passphrases to try on a file, until one opens it."""
        yield from list(self.known)
        while self.ask is not None and self.asked < MAX_ASKED:
            self.asked += 1
            try:
                answer = self.ask(f"Passphrase of {what}: ")
            except SealError:
                self.ask = None
                return
            if answer not in self.known:
                self.known.append(answer)
                yield answer

    def asking(self, what: str) -> Callable[[str], str]:
        """A function that gives a file's next candidate at each call; after the last one it raises ``SealError``."""
        waiting = self.candidates(what)

        def ask(_question: str) -> str:
            answer = next(waiting, None)
            if answer is None:
                return nobody(_question)
            return answer

        return ask

    def opened_by(self, passphrase: str) -> None:
        """It comes first from now on, and the count of questions starts again."""
        if passphrase in self.known:
            self.known.remove(passphrase)
        self.known.insert(0, passphrase)
        self.asked = 0


@dataclass(slots=True)
class Budget:
    """What may still be unpacked from one outermost file; ``left``: what of it is left out."""

    subject: str
    octets: int
    members: int = limits.MAX_MEMBERS
    left: list[Left] = field(default_factory=list)
    passphrases: Passphrases = field(default_factory=Passphrases)

    @classmethod
    def of(cls, member: KitFile, passphrases: Passphrases | None = None) -> Budget:
        """What a file of this size may unpack to."""
        octets = min(limits.MAX_TOTAL, (1 << 20) + limits.MAX_RATIO * len(member.data))
        return cls(member.path, octets, passphrases=passphrases or Passphrases())

    def spend(self, octets: int, what: str) -> None:
        """Take from the budget; an ``InputError`` where it is used up."""
        self.octets -= octets
        self.members -= 1
        if self.octets < 0:
            raise refused("archive-bomb", self.subject, f"{what} unpacks to more than its share")
        if self.members < 0:
            raise refused("archive-bomb", self.subject, f"more than {limits.MAX_MEMBERS} members")
