"""What ``zesty choose`` can set of a protocol: its options, and how they change its settings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Protocol

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile, ProtocolSettings
from zesty_burrow.records import dataclass, field

Value = str | int | bool


class Kind(StrEnum):
    """What an option's value is: a list of algorithms (text with commas), a whole number, a word, or yes and no."""

    ALGORITHMS = "algorithms"
    NUMBER = "number"
    WORD = "word"
    SWITCH = "switch"


@dataclass(frozen=True, slots=True)
class ChoiceOption:
    """An option of a protocol. ``name`` has underscores; ``values``: the words it takes; ``unit`` of a number."""

    name: str
    meaning: str
    kind: Kind
    values: tuple[str, ...] = ()
    unit: str = ""

    @property
    def flag(self) -> str:
        return f"--{self.name.replace('_', '-')}"


@dataclass(frozen=True, slots=True)
class Choices:
    """``given``: values by the options' names. ``use_defaults``: algorithms are reset. ``suite``: what advice says."""

    given: Mapping[str, Value] = field(default_factory=dict)
    use_defaults: bool = False
    suite: Suite | None = None

    def text(self, name: str, default: str = "") -> str:
        """A list or a word."""
        value = self.given.get(name, default)
        return value if isinstance(value, str) else default

    def number(self, name: str, default: int) -> int:
        value = self.given.get(name, default)
        return value if isinstance(value, int) else default

    def only(self, names: Sequence[str]) -> dict[str, Value]:
        """Those of the given values that have one of these names."""
        return {name: self.given[name] for name in names if name in self.given}


class ProtocolChoices(Protocol):
    """``options``: all that can be chosen; ``takes_suite``: whether a suite that advice recommends can be set."""

    @property
    def options(self) -> tuple[ChoiceOption, ...]:
        """Options of this protocol; another protocol may have one of the same name and kind."""

    @property
    def takes_suite(self) -> bool:
        """Whether ``Choices.suite`` is understood."""

    def apply(self, profile: Profile, choices: Choices, policy: Policy) -> ProtocolSettings:
        """The profile's settings with the choices. Raises :class:`UsageError` for a value that cannot be."""

    def summary(self, profile: Profile) -> list[str]:
        """The profile's own settings in words."""
