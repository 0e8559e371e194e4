"""Options of all protocols together, and a profile's settings with what was chosen."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile, ProtocolSettings
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.facets.choices import ChoiceOption, Choices, Kind, ProtocolChoices
from zesty_burrow.protocols.parts import choices_of


def all_options() -> dict[str, tuple[ChoiceOption, tuple[str, ...]]]:
    """Every option of any protocol by its name, with the words of all, and the protocols that have it."""
    found: dict[str, tuple[ChoiceOption, tuple[str, ...]]] = {}
    for protocol in registry.names():
        for option in choices_of(protocol).options:
            first, having = found.get(option.name, (option, ()))
            values = tuple(dict.fromkeys((*first.values, *option.values)))
            merged = ChoiceOption(first.name, first.meaning, first.kind, values, first.unit)
            found[option.name] = merged, (*having, protocol)
    return found


def with_choices(profile: Profile, choices: Choices, policy: Policy) -> ProtocolSettings:
    """The settings of a profile with the choices; what its protocol does not have is refused by name."""
    name = profile.tunnel.protocol
    facet = choices_of(name)
    known = {option.name: option for option in facet.options}
    for given, value in choices.given.items():
        option = known.get(given)
        if option is None:
            raise UsageError(f"the protocol {name} has no option --{given.replace('_', '-')}", **_help(facet, profile))
        if option.values and value not in option.values:
            raise UsageError(
                f"the protocol {name} has no {option.flag} {value}", why=f"it takes {', '.join(option.values)}"
            )
    if choices.use_defaults and not any(option.kind is Kind.ALGORITHMS for option in facet.options):
        raise UsageError(f"the protocol {name} has no algorithms to reset", **_help(facet, profile))
    return facet.apply(profile, choices, policy)


def require_suite_support(profile: Profile) -> None:
    """Raises :class:`UsageError` if the profile's protocol cannot be told to use one suite."""
    facet = choices_of(profile.tunnel.protocol)
    if not facet.takes_suite:
        raise UsageError(f"the protocol {profile.tunnel.protocol} has no option --best", **_help(facet, profile))


def _help(facet: ProtocolChoices, profile: Profile) -> dict[str, str]:
    flags = ", ".join(option.flag for option in facet.options)
    why = f"profile {profile.name} uses it; its own options are {flags}" if flags else "it has no options of its own"
    return {"why": why, "next_step": "`zesty choose --help` shows which protocols have an option."}
