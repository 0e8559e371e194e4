"""What ``zesty choose`` can say of one protocol's own settings; what another protocol has is refused by name."""

from __future__ import annotations

from argparse import Namespace
from dataclasses import replace
from typing import Any

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile, ProtocolSettings
from zesty_burrow.errors import UsageError
from zesty_burrow.protocols.connect_ip import choice as connect_ip
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings
from zesty_burrow.protocols.ikev2.choice import LISTS, read_list, summary, with_algorithms, with_suite
from zesty_burrow.protocols.ikev2.settings import LIFETIMES, PORTS, IkeSettings
from zesty_burrow.protocols.l2tp_ipsec import choice as l2tp
from zesty_burrow.protocols.l2tp_ipsec.settings import LIFETIMES as L2TP_LIFETIMES
from zesty_burrow.protocols.l2tp_ipsec.settings import LISTS as L2TP_LISTS
from zesty_burrow.protocols.l2tp_ipsec.settings import L2tpSettings

ALL_LISTS = tuple(dict.fromkeys((*LISTS, *connect_ip.LISTS)))
"""Options that are lists of algorithms, of any protocol."""


def with_options(args: Namespace, profile: Profile, policy: Policy, given: list[str]) -> ProtocolSettings:
    """A profile's settings as the options ask for them; ``given``: those of ``ALL_LISTS`` that were used."""
    own = profile.settings
    if args.weak_algorithms is not None and not isinstance(own, L2tpSettings):
        _refuse_foreign(profile, ["weak_algorithms"])
    if isinstance(own, IkeSettings):
        return _ike(args, profile, own, policy, given)
    if isinstance(own, ConnectIpSettings):
        return _connect_ip(args, profile, own, policy, given)
    if isinstance(own, L2tpSettings):
        return _l2tp(args, profile, own, policy, given)
    return own


def words_of(profile: Profile) -> list[str]:
    """A profile's own settings in words."""
    own = profile.settings
    if isinstance(own, IkeSettings):
        return summary(own)
    if isinstance(own, ConnectIpSettings):
        return connect_ip.summary(own)
    if isinstance(own, L2tpSettings):
        return [f"sign-in by {profile.sign_in.method}", *l2tp.summary(own)]
    return []


def _ike(args: Namespace, profile: Profile, settings: IkeSettings, policy: Policy, given: list[str]) -> IkeSettings:
    _refuse_foreign(profile, [name for name in given if name not in LISTS])
    if args.transport and args.transport != settings.transport:
        settings = replace(settings, transport=args.transport, port=PORTS[args.transport])
    if args.port is not None:
        settings = replace(settings, port=args.port)
    for name in LIFETIMES:
        if (value := getattr(args, name)) is not None:
            settings = replace(settings, **{name: value})
    if args.best:
        return _best(args, replace(profile, settings=settings), settings, policy)
    if args.defaults:
        return replace(settings, ike=(), esp=())
    chosen = {name: read_list(name, getattr(args, name), policy) for name in given}
    return with_algorithms(settings, chosen, args.of) if chosen else settings


def _refuse_foreign(profile: Profile, names: list[str]) -> None:
    """Options that only another protocol has."""
    if names:
        raise UsageError(f"--{names[0].replace('_', '-')} is nothing that {profile.tunnel.protocol} has")


def _connect_ip(
    args: Namespace, profile: Profile, settings: ConnectIpSettings, policy: Policy, given: list[str]
) -> ConnectIpSettings:
    own = replace(settings, transport=args.transport or settings.transport, port=args.port or settings.port)
    lifetimes = [name for name in LIFETIMES if name != "peer_seconds" and getattr(args, name) is not None]
    best = ["best"] if args.best else []
    _refuse_foreign(profile, [*(name for name in given if name not in connect_ip.LISTS), *lifetimes, *best])
    if args.peer_seconds is not None:
        own = replace(own, peer_seconds=args.peer_seconds)
    if args.defaults:
        return replace(own, cipher_suites=(), key_exchange=())
    chosen: dict[str, Any] = {name: connect_ip.read_list(name, getattr(args, name), policy) for name in given}
    return replace(own, **chosen)


def _l2tp(args: Namespace, profile: Profile, settings: L2tpSettings, policy: Policy, given: list[str]) -> L2tpSettings:
    own = replace(settings, port=args.port or settings.port)
    if args.weak_algorithms is not None:
        own = replace(own, weak_algorithms=args.weak_algorithms)
    lifetimes = {name: value for name in LIFETIMES if (value := getattr(args, name)) is not None}
    foreign = [name for name in given if name not in L2TP_LISTS] + [
        one for one in lifetimes if one not in L2TP_LIFETIMES
    ]
    foreign += ["best"] if args.best else []
    foreign += ["transport"] if args.transport not in (None, "udp") else []
    _refuse_foreign(profile, foreign)
    own = replace(own, **{name: value for name, value in lifetimes.items() if name in L2TP_LIFETIMES})
    if args.defaults:
        return replace(own, encryption=(), integrity=(), key_exchange=(), weak_algorithms=False)
    chosen: dict[str, Any] = {
        name: l2tp.read_list(name, getattr(args, name), policy, weak=own.weak_algorithms) for name in given
    }
    return replace(own, **chosen)


def _best(args: Namespace, profile: Profile, settings: IkeSettings, policy: Policy) -> IkeSettings:
    """What advice says, from a gateway that has answered."""
    from zesty_burrow.carrier.costs import measure_costs
    from zesty_burrow.carrier.probe import probe_gateways
    from zesty_burrow.profiles.advising.advice import advise
    from zesty_burrow.profiles.advising.clients import DEVICES

    asked = probe_gateways([profile], args.timeout, lambda _: None)[0]
    advice = advise(
        profile, policy, DEVICES["workstation"], measure_costs(), asked.capabilities, asked=True, gateway=asked.address
    )
    suite = advice.should
    if asked.capabilities is None or suite is None:
        why = asked.why or "the gateway, this program and the policy have nothing in common"
        raise UsageError(f"there is no advice for {profile.name}", why=why, next_step="See `zesty advise`.")
    return with_suite(settings, suite)
