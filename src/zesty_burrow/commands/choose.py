"""``zesty choose``: change a profile's algorithms and how it reaches its gateway; what cannot be is refused."""

from __future__ import annotations

from argparse import ArgumentParser, BooleanOptionalAction, Namespace
from collections.abc import Callable, Sequence
from dataclasses import replace
from ipaddress import ip_network

from zesty_burrow.commands.context import Context
from zesty_burrow.core.net import Network
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, TransformType
from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.core.profile import AS_INNER, EVERYTHING, FROM_ROUTE, MAX_DSCP, MAX_MTU, MIN_MTU, ORDERS, Profile
from zesty_burrow.errors import UsageError
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols.ikev2.settings import (
    DEFAULTS,
    LIFETIMES,
    AlgorithmChoice,
    IkeSettings,
    ProposalChoice,
    settings_of,
)
from zesty_burrow.report.result import MessageResult

EXAMPLE = "zesty choose lisbon --encryption 'ENCR_CHACHA20_POLY1305, ENCR_AES_GCM_16 256' --key-exchange curve448"
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


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="+", help="profiles' names, or cities that only one profile has")
    words = "IANA names, with the key length where there are several, in order of preference, commas between them"
    for name in LISTS:
        parser.add_argument(f"--{name.replace('_', '-')}", default="", metavar="LIST", help=words)
    parser.add_argument(
        "--of", choices=("both", "ike", "esp"), default="both", help="for which SA the ciphers are (both)"
    )
    parser.add_argument("--defaults", action="store_true", help="reset the algorithms to the defaults")
    parser.add_argument("--best", action="store_true", help="ask the gateway, and take what `zesty advise` advises")
    parser.add_argument("--networks", metavar="LIST", help="what goes through the tunnel: networks, or `everything`")
    parser.add_argument("--leave-out", metavar="LIST", help="networks that go as without a tunnel; `none`: none")
    parser.add_argument("--port", type=int, help="the gateway's UDP port for the first message")
    parser.add_argument(
        "--mtu", type=_number_or(FROM_ROUTE), help=f"the tunnel's MTU, {MIN_MTU} to {MAX_MTU}; or route"
    )
    parser.add_argument("--dscp", type=_number_or(AS_INNER), help=f"of the outer header, 0 to {MAX_DSCP}; or inner")
    parser.add_argument("--clamp-segment-size", action=BooleanOptionalAction, help="clamp TCP's MSS to what fits")
    for name, (low, high) in LIFETIMES.items():
        words = f"when keys are renewed, {low} to {high}"
        parser.add_argument(f"--{name.replace('_', '-')}", type=int, metavar="NUMBER", help=words)
    parser.add_argument("--order", choices=ORDERS, help="in which order the gateway's addresses are tried")
    parser.add_argument("--patience", type=float, default=3.0, metavar="SECONDS", help="for a silent gateway (3)")


def run(args: Namespace, context: Context) -> MessageResult:
    """All profiles or none are changed."""
    policy = context.policy()
    chosen = {name: _read(name, getattr(args, name), policy) for name in LISTS if getattr(args, name)}
    if bool(chosen) + args.defaults + args.best > 1:
        raise UsageError("only one of a list of algorithms, --defaults and --best can be")
    lines = []
    with context.store() as store:
        found = [store.find_profile(name)[0] for name in dict.fromkeys(args.name)]
        changed = []
        for profile in found:
            made = _reach(args, profile)
            if args.best:
                made = replace(made, settings=_best(args, context, made, policy))
            elif args.defaults:
                made = replace(made, settings=replace(settings_of(made), ike=(), esp=()))
            elif chosen:
                made = replace(made, settings=_algorithms(made, chosen, args.of))
            # Reading it again holds it against every rule of a profile, and names the key that breaks one.
            changed.append(read_profile(write_profile(made), f"profile {profile.name}"))
        for before, after in zip(found, changed, strict=True):
            if after != before:
                store.change_profile(after)
            lines.append(f"{after.name}: {_told(after) if after != before else 'as it was'}.")
    return MessageResult("\n".join(lines))


def _read(name: str, words: str, policy: Policy) -> tuple[AlgorithmChoice, ...]:
    """A list of algorithms; what is unknown, not implemented, or forbidden is refused with the reason."""
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


def _number_or(word: str) -> Callable[[str], int | str]:
    """For the argument parser: a whole number, or a word."""

    def read(text: str) -> int | str:
        return text if text == word else int(text)

    read.__name__ = f"number or {word!r}"
    return read


def _reach(args: Namespace, profile: Profile) -> Profile:
    gateway, settings = profile.gateway, settings_of(profile)
    if args.port is not None:
        if not 1 <= args.port <= 65535:
            raise UsageError(f"--port {args.port} is not between 1 and 65535")
        settings = replace(settings, port=args.port)
    if args.order:
        gateway = replace(gateway, order=args.order)
    tunnel = profile.tunnel
    for name in LIFETIMES:
        if (value := getattr(args, name)) is not None:
            settings = replace(settings, **{name: value})
    for name in ("mtu", "dscp", "clamp_segment_size"):
        value = getattr(args, name)
        if (name, value) == ("mtu", 0):
            raise UsageError(f"--mtu 0 is not between {MIN_MTU} and {MAX_MTU}")
        if value is not None:
            tunnel = replace(tunnel, **{name: {FROM_ROUTE: 0, AS_INNER: None}.get(value, value)})
    traffic = profile.traffic
    if args.networks is not None:
        traffic = replace(traffic, networks=_networks("--networks", args.networks, "everything", EVERYTHING))
    if args.leave_out is not None:
        traffic = replace(traffic, left_out=_networks("--leave-out", args.leave_out, "none", ()))
    return replace(profile, gateway=gateway, tunnel=tunnel, traffic=traffic, settings=settings)


def _networks(option: str, words: str, word: str, meaning: tuple[Network, ...]) -> tuple[Network, ...]:
    """Networks with commas between them, or a word for some of them."""
    if words.strip() == word:
        return meaning
    try:
        return tuple(ip_network(one.strip()) for one in words.split(","))
    except ValueError as problem:
        raise UsageError(f"{option}: {problem}", next_step=f"For example 10.20.0.0/16, or {word}.") from None


def _algorithms(profile: Profile, chosen: dict[str, tuple[AlgorithmChoice, ...]], of: str) -> IkeSettings:
    """What was chosen, with the standard's for what was not; combined-mode ciphers get a proposal of their own."""
    settings = settings_of(profile)
    for label in ("ike", "esp"):
        if of not in ("both", label):
            continue
        others = ESP_ALONE if label == "ike" else IKE_ALONE
        own = {name: value for name, value in chosen.items() if name not in others}
        if own:
            rows = _proposals(own, label)
            settings = replace(settings, ike=rows) if label == "ike" else replace(settings, esp=rows)
    return settings


def _proposals(own: dict[str, tuple[AlgorithmChoice, ...]], label: str) -> tuple[ProposalChoice, ...]:
    standard: Sequence[ProposalChoice] = getattr(DEFAULTS, label)
    ciphers = own.get("encryption") or tuple(one for row in standard for one in row.encryption)
    if "integrity" in own and "encryption" not in own:
        # Whoever names integrity algorithms wants ciphers that need one.
        ciphers = tuple(one for one in ciphers if one.number not in AEAD_NUMBERS)
    combined = tuple(one for one in ciphers if one.number in AEAD_NUMBERS)
    plain = tuple(one for one in ciphers if one.number not in AEAD_NUMBERS)
    integrity = own.get("integrity") or standard[-1].integrity
    if "integrity" in own and not plain:
        raise UsageError(
            "an integrity algorithm and nothing but combined-mode ciphers do not go together",
            why="a combined-mode cipher takes none (RFC 5282 §8)",
            next_step="Leave --integrity out, or name a cipher that needs one.",
        )
    prf = (own.get("prf") or standard[0].prf) if label == "ike" else ()
    groups = (own.get("key_exchange") or standard[0].key_exchange) if label == "ike" else ()
    extra = own.get("additional_key_exchange", ())
    numbers = own.get("sequence_numbers", ())
    rows = [ProposalChoice(combined, (), prf, groups, extra, numbers)] if combined else []
    rows += [ProposalChoice(plain, integrity, prf, groups, extra, numbers)] if plain else []
    if plain and combined and ciphers[0] == plain[0]:
        rows.reverse()
    return tuple(rows)


def _best(args: Namespace, context: Context, profile: Profile, policy: Policy) -> IkeSettings:
    """What advice says, from a gateway that has answered."""
    from zesty_burrow.carrier.costs import measure_costs
    from zesty_burrow.carrier.probe import probe_gateways
    from zesty_burrow.profiles.advice import DEVICES, advise

    asked = probe_gateways([profile], args.patience, lambda _: None)[0]
    advice = advise(
        profile, policy, DEVICES["workstation"], measure_costs(), asked.capabilities, asked=True, gateway=asked.address
    )
    suite = advice.should
    if asked.capabilities is None or suite is None:
        why = asked.why or "the gateway, this program and the policy have nothing in common"
        raise UsageError(f"nothing can be advised for {profile.name}", why=why, next_step="See `zesty advise`.")
    cipher = AlgorithmChoice(T.ENCR, suite.encryption, suite.key_bits)
    integrity = (AlgorithmChoice(T.INTEG, suite.integrity),) if suite.integrity else ()
    prf, group = (AlgorithmChoice(T.PRF, suite.prf),), (AlgorithmChoice(T.KE, suite.group),)
    extra = (AlgorithmChoice(T.ADDKE1, suite.extra),) if suite.extra else ()
    # What the gateway takes for ESP it tells only after the sign-in: that stays as it was.
    return replace(settings_of(profile), ike=(ProposalChoice((cipher,), integrity, prf, group, extra),))


def _told(profile: Profile) -> str:
    settings = settings_of(profile)
    parts = []
    for label in ("ike", "esp"):
        rows: Sequence[ProposalChoice] = getattr(settings, label)
        shown = " or ".join(", ".join(map(str, row.all())) for row in rows)
        parts.append(f"{label.upper()} {shown or 'defaults'}")
    gateway = profile.gateway
    traffic = profile.traffic
    shown = "everything" if traffic.networks == EVERYTHING else ", ".join(map(str, traffic.networks))
    shown += f" but {', '.join(map(str, traffic.left_out))}" if traffic.left_out else ""
    parts.append(f"through the tunnel {shown}")
    parts.append(f"port {settings.port}, addresses {gateway.order}, {', '.join(profile.tunnel.particulars)}")
    return "; ".join(parts)
