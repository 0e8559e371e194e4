"""``zesty choose``: change a profile's algorithms and how it reaches its gateway; what cannot be is refused."""

from __future__ import annotations

from argparse import ArgumentParser, BooleanOptionalAction, Namespace
from collections.abc import Callable
from ipaddress import ip_address
from urllib.parse import urlsplit

from zesty_burrow.commands.context import Context
from zesty_burrow.core.net import Address, Network, network_list
from zesty_burrow.core.outside.reach import read_target
from zesty_burrow.core.profile import (
    AS_INNER,
    EVERYTHING,
    FROM_ROUTE,
    MAX_DSCP,
    MAX_MTU,
    MIN_MTU,
    ORDERS,
    PROXY_KINDS,
    Profile,
    Proxy,
)
from zesty_burrow.errors import UsageError
from zesty_burrow.profiles.choosing import all_options
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.facets.choices import ChoiceOption, Choices, Kind
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.use_cases.profiles.choose import ChooseRequest, ReachChoices, choose, summary

EXAMPLE = "zesty choose lisbon --encryption 'ENCR_CHACHA20_POLY1305, ENCR_AES_GCM_16 256' --key-exchange curve448"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", nargs="+", help="names of profiles, or cities that only one profile has")
    parser.add_argument(
        "--protocol", choices=registry.names(), help="the protocol to the same gateway; what both have is kept"
    )
    for option, having in all_options().values():
        _add_option(parser, option, having)
    parser.add_argument("--sign-in", metavar="METHOD", help=_sign_in_help())
    parser.add_argument("--defaults", action="store_true", help="reset the algorithms to the defaults")
    parser.add_argument("--best", action="store_true", help="ask the gateway and use what `zesty advise` recommends")
    _add_ways(parser)


def _add_option(parser: ArgumentParser, option: ChoiceOption, having: tuple[str, ...]) -> None:
    """An option of protocols; those that do not have it refuse it by name."""
    words = f"{option.meaning} [{', '.join(having)}]"
    if option.kind is Kind.SWITCH:
        parser.add_argument(option.flag, action=BooleanOptionalAction, help=words)
    elif option.kind is Kind.NUMBER:
        parser.add_argument(option.flag, type=int, metavar=(option.unit or "number").upper(), help=words)
    elif option.kind is Kind.WORD:
        parser.add_argument(option.flag, choices=option.values, help=words)
    else:
        parser.add_argument(option.flag, type=_not_empty, metavar="LIST", help=words)


def _not_empty(text: str) -> str | None:
    return text.strip() or None


def _sign_in_help() -> str:
    methods = (f"{name}: {', '.join(registry.protocol(name).sign_in_methods)}" for name in registry.names())
    return f"how this side signs in ({'; '.join(methods)})"


def _add_ways(parser: ArgumentParser) -> None:
    """How the gateway is reached."""
    parser.add_argument("--networks", metavar="LIST", help="networks that go through the tunnel, or `everything`")
    parser.add_argument("--leave-out", metavar="LIST", help="networks that do not go through the tunnel, or `none`")
    parser.add_argument(
        "--local-networks",
        metavar="LIST",
        help="public networks that are reached beside the tunnel where this machine is in them, or `none`",
    )
    parser.add_argument(
        "--behind", metavar="LIST", help="networks behind this machine, advertised to the gateway, or `none`"
    )
    parser.add_argument(
        "--reach",
        metavar="LIST",
        help="hosts, with a port or without, that `zesty verify` expects to reach through the tunnel, or `none`",
    )
    parser.add_argument(
        "--mtu", type=_number_or(FROM_ROUTE), help=f"the tunnel's MTU in octets, {MIN_MTU} to {MAX_MTU}, or `route`"
    )
    parser.add_argument(
        "--dscp", type=_number_or(AS_INNER), help=f"DSCP of the outer header, 0 to {MAX_DSCP}, or `inner`"
    )
    parser.add_argument("--clamp-tcp-mss", action=BooleanOptionalAction, help="clamp the TCP MSS to what fits")
    parser.add_argument(
        "--name-servers", metavar="LIST", help="name servers through the tunnel, or `gateway` for those it hands out"
    )
    parser.add_argument(
        "--proxy", metavar="URL", help="a proxy on the way, http://HOST:PORT or socks5://HOST:PORT, or `none`"
    )
    parser.add_argument(
        "--proxy-sign-in",
        action=BooleanOptionalAction,
        help="whether the proxy wants name and password (credentials change --kind proxy-name-password)",
    )
    parser.add_argument("--order", choices=ORDERS, help="the order in which the gateway's addresses are tried")
    parser.add_argument(
        "--timeout", type=float, default=3.0, metavar="SECONDS", help="wait this long for the gateway (3)"
    )


def run(args: Namespace, context: Context) -> MessageResult:
    """All profiles or none are changed."""
    options = all_options()
    given = {name: value for name in options if (value := getattr(args, name)) is not None}
    lists = any(options[name][0].kind is Kind.ALGORITHMS for name in given)
    if lists + args.defaults + args.best > 1:
        raise UsageError("give only one of: lists of algorithms, --defaults, --best")
    if "port" in given and not 1 <= args.port <= 65535:
        raise UsageError(f"--port {args.port} is not between 1 and 65535")
    request = ChooseRequest(
        tuple(args.name),
        args.protocol or "",
        args.sign_in,
        Choices(given, args.defaults),
        _reach(args),
        args.best,
        args.timeout,
    )
    rows = choose(request, context)
    lines = [f"{row.after.name}: {_in_words(row.after) if row.is_changed else 'unchanged'}." for row in rows]
    return MessageResult("\n".join(lines))


def _number_or(word: str) -> Callable[[str], int | str]:
    """For the argument parser: a whole number, or a word."""

    def read(text: str) -> int | str:
        return text if text == word else int(text)

    read.__name__ = f"number or {word!r}"
    return read


def _reach(args: Namespace) -> ReachChoices:
    if args.mtu == 0:
        raise UsageError(f"--mtu 0 is not between {MIN_MTU} and {MAX_MTU}")
    return ReachChoices(
        args.order,
        0 if args.mtu == FROM_ROUTE else args.mtu,
        args.dscp,
        args.clamp_tcp_mss,
        _networks("--networks", args.networks, "everything", EVERYTHING),
        _networks("--leave-out", args.leave_out, "none", ()),
        _networks("--behind", args.behind, "none", ()),
        _networks("--local-networks", args.local_networks, "none", ()),
        _addresses("--name-servers", args.name_servers, "gateway"),
        _targets(args.reach),
        None if args.proxy in (None, "none") else _proxy(args.proxy),
        args.proxy == "none",
        args.proxy_sign_in,
    )


def _proxy(url: str) -> Proxy:
    parts = urlsplit(url)
    try:
        port = parts.port
    except ValueError:
        port = None
    if parts.scheme not in PROXY_KINDS or not parts.hostname or not port or parts.username or parts.path:
        raise UsageError(
            f"--proxy {url!r:.80} is not the URL of a proxy",
            next_step="For example http://proxy.example:3128; name and password are credentials of their own.",
        )
    return Proxy(parts.scheme, parts.hostname, port)


def _addresses(option: str, words: str | None, word: str) -> tuple[Address, ...] | None:
    if words is None:
        return None
    if words.strip() == word:
        return ()
    try:
        return tuple(ip_address(part.strip()) for part in words.split(","))
    except ValueError as problem:
        raise UsageError(f"{option}: {problem}", next_step=f"For example 192.0.2.53, or {word}.") from None


def _targets(words: str | None) -> tuple[str, ...] | None:
    """Hosts with commas between them, or "none"."""
    if words is None:
        return None
    targets = () if words.strip() == "none" else tuple(words.replace(",", " ").split())
    try:
        for target in targets:
            read_target(target)
    except ValueError as problem:
        raise UsageError(f"--reach: {problem}", next_step="For example files.office.example:445, or none.") from None
    return targets


def _networks(option: str, words: str | None, word: str, meaning: tuple[Network, ...]) -> tuple[Network, ...] | None:
    """Networks with commas between them, or a word for some of them."""
    if words is None:
        return None
    return meaning if words.strip() == word else network_list(option, words)


def _in_words(profile: Profile) -> str:
    gateway, traffic = profile.gateway, profile.traffic
    shown = "everything" if traffic.networks == EVERYTHING else ", ".join(map(str, traffic.networks))
    shown += f" except {', '.join(map(str, traffic.left_out))}" if traffic.left_out else ""
    if traffic.local_networks:
        shown += f"; local networks: {', '.join(map(str, traffic.local_networks))}"
    if traffic.behind:
        shown += f"; behind this machine: {', '.join(map(str, traffic.behind))}"
    own = summary(profile)
    if profile.proxy is not None:
        own.append(f"by the proxy {profile.proxy}")
        own += ["which gets its name and password unencrypted"] if profile.proxy.sign_in else []
    parts = [profile.tunnel.protocol, *own, f"through the tunnel: {shown}"]
    if traffic.name_servers:
        parts.append(f"name servers {', '.join(map(str, traffic.name_servers))}")
    elif profile.lacks_name_servers:
        parts.append("no name servers: name some with --name-servers")
    parts.append(f"addresses {gateway.order}, {', '.join(profile.tunnel.particulars)}")
    return "; ".join(parts)
