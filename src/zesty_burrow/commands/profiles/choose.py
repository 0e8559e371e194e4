"""``zesty choose``: change a profile's algorithms and how it reaches its gateway; what cannot be is refused."""

from __future__ import annotations

from argparse import ArgumentParser, BooleanOptionalAction, Namespace
from collections.abc import Callable
from dataclasses import replace
from ipaddress import ip_address
from urllib.parse import urlsplit

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.profiles.choose_protocol import ALL_LISTS, with_options, words_of
from zesty_burrow.core.net import Address, Network, network_list
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
from zesty_burrow.profiles.change_protocol import with_protocol
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.ikev2.choice import LISTS
from zesty_burrow.protocols.ikev2.settings import LIFETIMES, TRANSPORTS
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.history import described

EXAMPLE = "zesty choose lisbon --encryption 'ENCR_CHACHA20_POLY1305, ENCR_AES_GCM_16 256' --key-exchange curve448"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="+", help="names of profiles, or cities that only one profile has")
    parser.add_argument(
        "--protocol", choices=registry.names(), help="the protocol to the same gateway; what both have is kept"
    )
    for name in LISTS:
        words = f"{name.replace('_', ' ')} algorithms: IANA names, separated by commas, in order of preference"
        parser.add_argument(f"--{name.replace('_', '-')}", default="", metavar="LIST", help=words)
    parser.add_argument(
        "--cipher-suites", default="", metavar="LIST", help="of TLS 1.3, for connect-ip: IANA names, as above"
    )
    parser.add_argument(
        "--of", choices=("both", "ike", "esp"), default="both", help="the SA that the algorithms are for (both)"
    )
    parser.add_argument(
        "--weak-algorithms",
        action=BooleanOptionalAction,
        help="for l2tp-ipsec: offer 3DES, SHA-1, MD5 and small MODP groups as well, behind the others",
    )
    parser.add_argument(
        "--sign-in", metavar="METHOD", help="how this side signs in; for l2tp-ipsec ms-chap-v2, chap or pap"
    )
    parser.add_argument("--defaults", action="store_true", help="reset the algorithms to the defaults")
    parser.add_argument("--best", action="store_true", help="ask the gateway and use what `zesty advise` recommends")
    _add_ways(parser)


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
        "--transport",
        choices=TRANSPORTS,
        help="what the protocol travels in: UDP, TCP, or any: whichever is answered first",
    )
    parser.add_argument("--port", type=int, help="the gateway's port for the first message, 1 to 65535")
    parser.add_argument(
        "--mtu", type=_number_or(FROM_ROUTE), help=f"the tunnel's MTU in octets, {MIN_MTU} to {MAX_MTU}, or `route`"
    )
    parser.add_argument(
        "--dscp", type=_number_or(AS_INNER), help=f"DSCP of the outer header, 0 to {MAX_DSCP}, or `inner`"
    )
    parser.add_argument("--clamp-tcp-mss", action=BooleanOptionalAction, help="clamp the TCP MSS to what fits")
    for name, (low, high) in LIFETIMES.items():
        sa, unit = name.split("_")
        words = f"rekey the {'IKE SA' if sa == 'ike' else 'child SA'} after this many {unit}, {low} to {high}"
        parser.add_argument(f"--{name.replace('_', '-')}", type=int, metavar=unit.upper(), help=words)
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
    policy = context.policy()
    given = [name for name in ALL_LISTS if getattr(args, name)]
    if bool(given) + args.defaults + args.best > 1:
        raise UsageError("give only one of: lists of algorithms, --defaults, --best")
    lines = []
    with context.store() as store:
        found = [store.find_profile(name)[0] for name in dict.fromkeys(args.name)]
        changed = []
        for profile in found:
            made = _method(args, _reach(args, with_protocol(profile, args.protocol) if args.protocol else profile))
            made = replace(made, settings=with_options(args, made, policy, given))
            # Reading it again holds it against every rule of a profile, and names the key that breaks one.
            changed.append(read_profile(write_profile(made), f"profile {profile.name}"))
        different = [after for before, after in zip(found, changed, strict=True) if after != before]
        if different:
            store.change_profiles(different, what=described("choose for", [one.name for one in different]))
        for before, after in zip(found, changed, strict=True):
            lines.append(f"{after.name}: {_told(after) if after != before else 'unchanged'}.")
    return MessageResult("\n".join(lines))


def _number_or(word: str) -> Callable[[str], int | str]:
    """For the argument parser: a whole number, or a word."""

    def read(text: str) -> int | str:
        return text if text == word else int(text)

    read.__name__ = f"number or {word!r}"
    return read


def _method(args: Namespace, profile: Profile) -> Profile:
    """How this side signs in, by the protocol's own words."""
    if args.sign_in is None:
        return profile
    known = registry.protocol(profile.tunnel.protocol).sign_in_methods
    if args.sign_in not in known:
        raise UsageError(f"--sign-in {args.sign_in!r:.40} is not one of {', '.join(known)}")
    return replace(profile, sign_in=replace(profile.sign_in, method=args.sign_in))


def _reach(args: Namespace, profile: Profile) -> Profile:
    gateway = profile.gateway
    if args.port is not None and not 1 <= args.port <= 65535:
        raise UsageError(f"--port {args.port} is not between 1 and 65535")
    if args.order:
        gateway = replace(gateway, order=args.order)
    tunnel = profile.tunnel
    for name in ("mtu", "dscp", "clamp_tcp_mss"):
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
    if args.behind is not None:
        traffic = replace(traffic, behind=_networks("--behind", args.behind, "none", ()))
    if args.local_networks is not None:
        named = _networks("--local-networks", args.local_networks, "none", ())
        traffic = replace(traffic, local_networks=named)
    if args.name_servers is not None:
        traffic = replace(traffic, name_servers=_addresses("--name-servers", args.name_servers, "gateway"))
    return replace(profile, gateway=gateway, tunnel=tunnel, traffic=traffic, proxy=_proxy(args, profile.proxy))


def _proxy(args: Namespace, before: Proxy | None) -> Proxy | None:
    """What the options say of a proxy; what they leave is as before."""
    made = before
    if args.proxy is not None:
        made = None
        if args.proxy != "none":
            found = urlsplit(args.proxy)
            try:
                port = found.port
            except ValueError:
                port = None
            if found.scheme not in PROXY_KINDS or not found.hostname or not port or found.username or found.path:
                example = "For example http://proxy.example:3128; name and password are credentials of their own."
                raise UsageError(f"--proxy {args.proxy!r:.80} is no proxy", next_step=example)
            made = Proxy(found.scheme, found.hostname, port, before.sign_in if before else False)
    if args.proxy_sign_in is not None:
        if made is None:
            raise UsageError("--proxy-sign-in needs a proxy", next_step="Name one with --proxy.")
        made = replace(made, sign_in=args.proxy_sign_in)
    return made


def _addresses(option: str, words: str, word: str) -> tuple[Address, ...]:
    if words.strip() == word:
        return ()
    try:
        return tuple(ip_address(one.strip()) for one in words.split(","))
    except ValueError as problem:
        raise UsageError(f"{option}: {problem}", next_step=f"For example 192.0.2.53, or {word}.") from None


def _networks(option: str, words: str, word: str, meaning: tuple[Network, ...]) -> tuple[Network, ...]:
    """Networks with commas between them, or a word for some of them."""
    return meaning if words.strip() == word else network_list(option, words)


def _told(profile: Profile) -> str:
    gateway, traffic = profile.gateway, profile.traffic
    shown = "everything" if traffic.networks == EVERYTHING else ", ".join(map(str, traffic.networks))
    shown += f" except {', '.join(map(str, traffic.left_out))}" if traffic.left_out else ""
    if traffic.local_networks:
        shown += f"; local networks: {', '.join(map(str, traffic.local_networks))}"
    if traffic.behind:
        shown += f"; behind this machine: {', '.join(map(str, traffic.behind))}"
    known = words_of(profile)
    if profile.proxy is not None:
        known.append(f"by the proxy {profile.proxy}")
        known += ["which gets its name and password unencrypted"] if profile.proxy.sign_in else []
    parts = [profile.tunnel.protocol, *known, f"through the tunnel: {shown}"]
    if traffic.name_servers:
        parts.append(f"name servers {', '.join(map(str, traffic.name_servers))}")
    elif profile.lacks_name_servers:
        parts.append("no name servers: name some with --name-servers")
    parts.append(f"addresses {gateway.order}, {', '.join(profile.tunnel.particulars)}")
    return "; ".join(parts)
