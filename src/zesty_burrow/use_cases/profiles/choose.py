"""Choose a profile's protocol, algorithms, and how its gateway is reached."""

from __future__ import annotations

from zesty_burrow.core.net import Address, Network
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile, Proxy
from zesty_burrow.errors import UsageError
from zesty_burrow.profiles.change_protocol import with_protocol
from zesty_burrow.profiles.choosing import require_suite_support, with_choices
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.facets.choices import Choices
from zesty_burrow.protocols.parts import choices_of
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.store.history import described
from zesty_burrow.use_cases.profiles.edit import ChangedProfile
from zesty_burrow.use_cases.workspace import Workspace

Networks = tuple[Network, ...]


@dataclass(frozen=True, slots=True)
class ReachChoices:
    """What every protocol has; None leaves it as it is.

    ``mtu``: octets, 0 from the route. ``dscp``: "inner" takes the inner packet's. ``without_proxy``: no proxy.
    ``proxy_sign_in``: whether the proxy wants name and password.
    """

    order: str | None = None
    mtu: int | None = None
    dscp: int | str | None = None
    clamp_tcp_mss: bool | None = None
    networks: Networks | None = None
    left_out: Networks | None = None
    behind: Networks | None = None
    local_networks: Networks | None = None
    name_servers: tuple[Address, ...] | None = None
    reach: tuple[str, ...] | None = None
    proxy: Proxy | None = None
    without_proxy: bool = False
    proxy_sign_in: bool | None = None


@dataclass(frozen=True, slots=True)
class ChooseRequest:
    """``choices``: the protocol's own options. ``best``: ask the gateway and take what is advised.

    ``timeout``: seconds to wait for the gateway.
    """

    names: tuple[str, ...]
    protocol: str = ""
    sign_in: str | None = None
    choices: Choices = field(default_factory=Choices)
    reach: ReachChoices = field(default_factory=ReachChoices)
    best: bool = False
    timeout: float = 3.0


def choose(request: ChooseRequest, workspace: Workspace) -> tuple[ChangedProfile, ...]:
    """Each profile before and after. All are changed, or none.

    Raises :class:`UsageError` for an option that the profile's protocol does not have, :class:`ProfileInvalid` for a
    value that no profile may have, :class:`NotFound`.
    """
    policy = workspace.policy()
    with workspace.store() as store:
        profiles = [store.find_profile(name)[0] for name in dict.fromkeys(request.names)]
        rows = tuple(ChangedProfile(profile, chosen(profile, request, policy)) for profile in profiles)
        changed = [row.after for row in rows if row.is_changed]
        if changed:
            store.change_profiles(changed, what=described("choose for", [profile.name for profile in changed]))
    return rows


def chosen(profile: Profile, request: ChooseRequest, policy: Policy) -> Profile:
    """One profile as the request wants it."""
    after = with_protocol(profile, request.protocol) if request.protocol else profile
    after = _with_sign_in(_with_reach(after, request.reach), request.sign_in)
    choices = request.choices
    if request.best:
        require_suite_support(after)
        choices = replace(choices, suite=advised(after, policy, request.timeout))
    after = replace(after, settings=with_choices(after, choices, policy))
    # Reading it again checks it against every rule of a profile, and names the key that breaks one.
    return read_profile(write_profile(after), f"profile {profile.name}")


def summary(profile: Profile) -> list[str]:
    """The profile's own settings of its protocol, in words."""
    return choices_of(profile.tunnel.protocol).summary(profile)


def _with_sign_in(profile: Profile, method: str | None) -> Profile:
    if method is None:
        return profile
    known = registry.protocol(profile.tunnel.protocol).sign_in_methods
    if method not in known:
        raise UsageError(f"--sign-in {method!r:.40} is not one of {', '.join(known)}")
    return replace(profile, sign_in=replace(profile.sign_in, method=method))


def _with_reach(profile: Profile, reach: ReachChoices) -> Profile:
    gateway, tunnel, traffic = profile.gateway, profile.tunnel, profile.traffic
    if reach.order is not None:
        gateway = replace(gateway, order=reach.order)
    if reach.mtu is not None:
        tunnel = replace(tunnel, mtu=reach.mtu)
    if reach.dscp is not None:
        tunnel = replace(tunnel, dscp=reach.dscp if isinstance(reach.dscp, int) else None)
    if reach.clamp_tcp_mss is not None:
        tunnel = replace(tunnel, clamp_tcp_mss=reach.clamp_tcp_mss)
    lists = {
        name: value
        for name in ("networks", "left_out", "behind", "local_networks", "name_servers", "reach")
        if (value := getattr(reach, name)) is not None
    }
    proxy = _proxy(profile.proxy, reach)
    return replace(profile, gateway=gateway, tunnel=tunnel, traffic=replace(traffic, **lists), proxy=proxy)


def _proxy(before: Proxy | None, reach: ReachChoices) -> Proxy | None:
    after = None if reach.without_proxy else before
    if reach.proxy is not None:
        after = replace(reach.proxy, sign_in=before.sign_in if before else False)
    if reach.proxy_sign_in is not None:
        if after is None:
            raise UsageError("--proxy-sign-in needs a proxy", next_step="Name one with --proxy.")
        after = replace(after, sign_in=reach.proxy_sign_in)
    return after


def advised(profile: Profile, policy: Policy, timeout: float = 3.0) -> Suite:
    """What advice recommends to the gateway that has answered. Raises :class:`UsageError` without an answer."""
    from zesty_burrow.carrier.costs import measure_costs
    from zesty_burrow.carrier.probe import probe_gateways
    from zesty_burrow.profiles.advising.advice import advise
    from zesty_burrow.profiles.advising.clients import DEVICES

    answer = probe_gateways([profile], timeout, lambda _: None)[0]
    device, costs = DEVICES["workstation"], measure_costs()
    advice = advise(profile, policy, device, costs, answer.capabilities, asked=True, gateway=answer.address)
    if answer.capabilities is None or advice.should is None:
        why = answer.why or "the gateway, this program and the policy have nothing in common"
        raise UsageError(f"there is no advice for {profile.name}", why=why, next_step="See `zesty advise`.")
    return advice.should
