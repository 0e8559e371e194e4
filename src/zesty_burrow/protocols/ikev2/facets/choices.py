"""What ``zesty choose`` can set of IKEv2: lists of algorithms by IANA names become proposals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, TransformType
from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.facets.choices import ChoiceOption, Choices, Kind
from zesty_burrow.protocols.ikev2.settings import (
    DEFAULTS,
    LIFETIMES,
    PORTS,
    TRANSPORTS,
    AlgorithmChoice,
    IkeSettings,
    ProposalChoice,
    settings_of,
)
from zesty_burrow.records import replace

T = TransformType
LISTS = {
    "encryption": T.ENCR,
    "integrity": T.INTEG,
    "prf": T.PRF,
    "key_exchange": T.KE,
    "additional_key_exchange": T.ADDKE1,
    "sequence_numbers": T.ESN,
}
IKE_ALONE = ("prf", "key_exchange", "additional_key_exchange")
ESP_ALONE = ("sequence_numbers",)


Chosen = Mapping[str, tuple[AlgorithmChoice, ...]]
"""By a name of ``LISTS``, in order of preference."""


def read_list(name: str, words: str, policy: Policy) -> tuple[AlgorithmChoice, ...]:
    """Algorithms separated by commas; what is unknown, not implemented or forbidden is refused with the reason."""
    found = []
    for word in words.split(","):
        try:
            choice = AlgorithmChoice.read(LISTS[name], word)
        except ValueError as problem:
            raise UsageError(f"--{name.replace('_', '-')}: {problem}") from None
        if not choice.usable:
            raise UsageError(f"{choice} cannot be chosen", why="this program does not implement it")
        said = opinion(policy, choice.type, choice.number, choice.key_bits)
        if not said.good:
            raise UsageError(
                f"{choice} cannot be chosen",
                why=f"{said.why} ({said.source})",
                next_step="Choose another one; or let the policy allow it by name (docs/choosing.md).",
            )
        found.append(choice)
    return tuple(found)


def with_algorithms(settings: IkeSettings, chosen: Chosen, of: str) -> IkeSettings:
    """What was chosen, with the defaults for what was not; combined-mode ciphers get a proposal of their own.

    ``of``: ``ike``, ``esp`` or ``both``.
    """
    for label in ("ike", "esp"):
        if of not in ("both", label):
            continue
        others = ESP_ALONE if label == "ike" else IKE_ALONE
        own = {name: value for name, value in chosen.items() if name not in others}
        if own:
            rows = _proposals(own, label)
            settings = replace(settings, ike=rows) if label == "ike" else replace(settings, esp=rows)
    return settings


def _by_kind(ciphers: Sequence[AlgorithmChoice]) -> tuple[tuple[AlgorithmChoice, ...], tuple[AlgorithmChoice, ...]]:
    """Combined-mode ciphers, and those that need an integrity algorithm."""
    combined = tuple(cipher for cipher in ciphers if cipher.number in AEAD_NUMBERS)
    return combined, tuple(cipher for cipher in ciphers if cipher.number not in AEAD_NUMBERS)


def _proposals(own: Chosen, label: str) -> tuple[ProposalChoice, ...]:
    defaults: Sequence[ProposalChoice] = getattr(DEFAULTS, label)
    ciphers = own.get("encryption") or tuple(cipher for row in defaults for cipher in row.encryption)
    combined, plain = _by_kind(ciphers)
    if "integrity" in own and "encryption" not in own:
        # Integrity algorithms are for ciphers that need one.
        combined, ciphers = (), plain
    integrity = own.get("integrity") or defaults[-1].integrity
    if "integrity" in own and not plain:
        raise UsageError(
            "an integrity algorithm and nothing but combined-mode ciphers do not go together",
            why="a combined-mode cipher takes none (RFC 5282 §8)",
            next_step="Leave --integrity out, or name a cipher that needs one.",
        )
    prf = (own.get("prf") or defaults[0].prf) if label == "ike" else ()
    groups = (own.get("key_exchange") or defaults[0].key_exchange) if label == "ike" else ()
    extra = own.get("additional_key_exchange", ())
    numbers = own.get("sequence_numbers", ())
    rows = [ProposalChoice(combined, (), prf, groups, extra, numbers)] if combined else []
    rows += [ProposalChoice(plain, integrity, prf, groups, extra, numbers)] if plain else []
    if plain and combined and ciphers[0] == plain[0]:
        rows.reverse()
    return tuple(rows)


def with_suite(settings: IkeSettings, suite: Suite) -> IkeSettings:
    """Settings that ask for one suite for the IKE SA and nothing else.

    What a gateway accepts for ESP it tells only after the sign-in, so that stays as it is.
    """
    cipher = AlgorithmChoice(T.ENCR, suite.encryption, suite.key_bits)
    integrity = (AlgorithmChoice(T.INTEG, suite.integrity),) if suite.integrity else ()
    prf, group = (AlgorithmChoice(T.PRF, suite.prf),), (AlgorithmChoice(T.KE, suite.group),)
    extra = (AlgorithmChoice(T.ADDKE1, suite.extra),) if suite.extra else ()
    return replace(settings, ike=(ProposalChoice((cipher,), integrity, prf, group, extra),))


def summary(settings: IkeSettings) -> list[str]:
    """Algorithms, port and lifetimes that differ from the defaults, in words."""
    parts = []
    for label in ("ike", "esp"):
        rows: Sequence[ProposalChoice] = getattr(settings, label)
        shown = " or ".join(", ".join(map(str, row.all())) for row in rows)
        parts.append(f"{label.upper()} {shown or 'defaults'}")
    parts.append(settings.where())
    plain = IkeSettings()
    for name in LIFETIMES:
        value = getattr(settings, name)
        if value != getattr(plain, name):
            sa, unit = name.split("_")
            parts.append(f"{'IKE SA' if sa == 'ike' else 'child SA'} rekeyed after {value} {unit}")
    return parts


def _lifetime_option(name: str) -> ChoiceOption:
    low, high = LIFETIMES[name]
    sa, unit = name.split("_")
    if sa == "peer":
        return ChoiceOption(
            name, f"give a silent gateway up after this many seconds, {low} to {high}", Kind.NUMBER, (), unit
        )
    label = "IKE SA" if sa == "ike" else "child SA"
    return ChoiceOption(name, f"rekey the {label} after this many {unit}, {low} to {high}", Kind.NUMBER, (), unit)


class IkeChoices:
    """Algorithms of both SAs, transport and port, lifetimes."""

    options = (
        *(
            ChoiceOption(
                name,
                f"{name.replace('_', ' ')} algorithms: IANA names, separated by commas, in order of preference",
                Kind.ALGORITHMS,
            )
            for name in LISTS
        ),
        ChoiceOption("of", "the SA that the algorithms are for (both)", Kind.WORD, ("both", "ike", "esp")),
        ChoiceOption(
            "transport",
            "what the protocol travels in: UDP, TCP, or any: whichever is answered first",
            Kind.WORD,
            TRANSPORTS,
        ),
        ChoiceOption("port", "the gateway's port for the first message, 1 to 65535", Kind.NUMBER),
        *map(_lifetime_option, LIFETIMES),
    )
    takes_suite = True

    def apply(self, profile: Profile, choices: Choices, policy: Policy) -> IkeSettings:
        """The profile's settings with the choices; another transport brings its own port."""
        own = settings_of(profile)
        transport = choices.text("transport")
        if transport and transport != own.transport:
            own = replace(own, transport=transport, port=PORTS[transport])
        own = replace(own, port=choices.number("port", own.port))
        lifetimes: dict[str, Any] = {name: choices.number(name, getattr(own, name)) for name in LIFETIMES}
        own = replace(own, **lifetimes)
        if choices.suite is not None:
            return with_suite(own, choices.suite)
        if choices.use_defaults:
            return replace(own, ike=(), esp=())
        chosen = {name: read_list(name, str(words), policy) for name, words in choices.only(tuple(LISTS)).items()}
        return with_algorithms(own, chosen, choices.text("of", "both")) if chosen else own

    def summary(self, profile: Profile) -> list[str]:
        return summary(settings_of(profile))


FACET = IkeChoices()
