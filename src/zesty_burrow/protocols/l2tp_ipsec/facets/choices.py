"""What ``zesty choose`` can set of L2TP/IPsec: what IKEv1 and ESP offer, port and lifetimes."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.facets.choices import ChoiceOption, Choices, Kind
from zesty_burrow.protocols.l2tp_ipsec.settings import (
    LIFETIMES,
    LISTS,
    WEAK,
    Choice,
    L2tpSettings,
    read_choice,
    settings_of,
)
from zesty_burrow.records import replace


def read_list(name: str, words: str, policy: Policy, *, weak: bool) -> tuple[Choice, ...]:
    """IANA's names, separated by commas; what is unknown or forbidden is refused with the reason."""
    found = []
    for word in words.split(","):
        option = f"--{name.replace('_', '-')}"
        try:
            chosen = read_choice(name, word, weak=True)
        except ValueError as problem:
            raise UsageError(f"{option}: {problem}") from None
        said = opinion(policy, LISTS[name], *chosen)
        is_weak = chosen in WEAK[name]
        if is_weak and not weak:
            raise UsageError(
                f"{word.strip()} is weak",
                why=f"{said.why} ({said.source})",
                next_step="Choose another one; or say --weak-algorithms as well, for a gateway that has no other.",
            )
        if not said.good and not (is_weak and policy == Policy()):
            raise UsageError(
                f"{word.strip()} cannot be chosen",
                why=f"{said.why} ({said.source})",
                next_step="Choose another one; or let the policy allow it by name (docs/choosing.md).",
            )
        found.append(chosen)
    return tuple(dict.fromkeys(found))


def summary(settings: L2tpSettings) -> list[str]:
    """Algorithms and ports, in words."""
    parts = [f"{name.replace('_', ' ')} {', '.join(settings.names(name))}" for name in LISTS]
    return [*parts, *(["weak algorithms offered"] if settings.weak_algorithms else []), settings.where()]


class L2tpChoices:
    """Algorithms of IKEv1 and ESP, weak ones only by an option of their own; port and lifetimes."""

    options = (
        *(
            ChoiceOption(name, f"{name.replace('_', ' ')} algorithms: IANA names, separated by commas", Kind.ALGORITHMS)
            for name in LISTS
        ),
        ChoiceOption(
            "weak_algorithms",
            "also offer 3DES, SHA-1, MD5 and small MODP groups, after the others",
            Kind.SWITCH,
        ),
        ChoiceOption("transport", "what the protocol travels in", Kind.WORD, ("udp",)),
        ChoiceOption("port", "the gateway's port for the first message, 1 to 65535", Kind.NUMBER),
        *(
            ChoiceOption(name, f"{low} to {high}", Kind.NUMBER, (), name.split("_")[1])
            for name, (low, high) in LIFETIMES.items()
        ),
    )
    takes_suite = False

    def apply(self, profile: Profile, choices: Choices, policy: Policy) -> L2tpSettings:
        """The profile's settings with the choices; ``use_defaults`` takes weak algorithms back as well."""
        own = settings_of(profile)
        lifetimes: dict[str, Any] = {name: choices.number(name, getattr(own, name)) for name in LIFETIMES}
        own = replace(
            own,
            port=choices.number("port", own.port),
            weak_algorithms=bool(choices.given.get("weak_algorithms", own.weak_algorithms)),
            **lifetimes,
        )
        if choices.use_defaults:
            return replace(own, encryption=(), integrity=(), key_exchange=(), weak_algorithms=False)
        chosen: dict[str, Any] = {
            name: read_list(name, str(words), policy, weak=own.weak_algorithms)
            for name, words in choices.only(tuple(LISTS)).items()
        }
        return replace(own, **chosen)

    def summary(self, profile: Profile) -> list[str]:
        return [f"sign-in by {profile.sign_in.method}", *summary(settings_of(profile))]


FACET = L2tpChoices()
