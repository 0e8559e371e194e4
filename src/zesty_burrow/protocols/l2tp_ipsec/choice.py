"""Changing what IKEv1 and ESP are offered with, as ``zesty choose`` asks for it; and a profile's settings in words."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.l2tp_ipsec.settings import LISTS, WEAK, Choice, L2tpSettings, read_choice


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
