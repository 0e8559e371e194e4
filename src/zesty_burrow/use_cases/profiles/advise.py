"""Compare what both ends can negotiate with what they should."""

from __future__ import annotations

from zesty_burrow.carrier.costs import measure_costs
from zesty_burrow.carrier.probe import ProbeResult, probe_gateways
from zesty_burrow.core.profile import Gateway, Profile, TunnelSettings
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.profiles.advising.advice import Advice, advise
from zesty_burrow.profiles.advising.clients import DEVICES
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.profiles.ways import WayAnswer, answer_of, every_way
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.parts import protocols_of
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.use_cases.kits.read import KitRequest, read_kit_sources
from zesty_burrow.use_cases.profiles.find import ProfileFilter
from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True, slots=True)
class AdviseRequest:
    """Stored profiles that are ``wanted``, or those of a ``kit``, or a ``gateway`` without a profile.

    ``device``: the kind of device that will connect. ``ask``: whether gateways are asked. ``timeout``: seconds each.
    """

    wanted: ProfileFilter = field(default_factory=ProfileFilter)
    gateway: str = ""
    kit: str = ""
    device: str = "workstation"
    ask: bool = True
    timeout: float = 3.0


@dataclass(frozen=True, slots=True)
class Advised:
    """``advice``: one for each profile. ``silent``: why a gateway did not answer, by profile.

    ``ways``: of a single gateway, what it answered by each protocol and transport.
    """

    advice: tuple[Advice, ...]
    policy: str
    device: str
    silent: dict[str, str]
    ways: tuple[WayAnswer, ...] = ()


def advise_profiles(request: AdviseRequest, workspace: Workspace) -> Advised:
    """Advice for each profile. Raises :class:`NotFound` if none matches; errors of the kit, if one is named."""
    profiles = _profiles(request, workspace)
    policy = workspace.policy()
    answers = [ProbeResult("", None)] * len(profiles)
    # A single gateway is also asked by every protocol and transport.
    every = every_way(profiles[0]) if len(profiles) == 1 and request.ask else []
    if request.ask:
        number = len(profiles) + len(every)
        with workspace.interaction.progress("asking gateways") as progress:
            answers = probe_gateways(profiles, request.timeout, lambda count: progress(count, number), every)
    costs = measure_costs()
    device = DEVICES[request.device]
    rows: list[Advice] = []
    for profile, answer in zip(profiles, answers, strict=False):
        host = profile.gateway.addresses[0] if profile.gateway.addresses else ""
        gateway = f"{host} ({answer.address})" if answer.address not in ("", host) else host
        rows.append(advise(profile, policy, device, costs, answer.capabilities, asked=request.ask, gateway=gateway))
    known = protocols_of(device)
    pairs = zip(every, answers[len(profiles) :], strict=True)
    ways = tuple(answer_of(way, answer.capabilities, answer.why, policy, known) for way, answer in pairs)
    silent = {profile.name: answer.why for profile, answer in zip(profiles, answers, strict=False) if answer.why}
    return Advised(tuple(rows), policy.name, device.words, silent, ways)


def _profiles(request: AdviseRequest, workspace: Workspace) -> list[Profile]:
    wanted = request.wanted
    if request.gateway:
        if wanted.words or request.kit:
            raise UsageError("--gateway cannot be combined with profiles", why="there is no profile of it")
        return [_unknown_gateway(request.gateway)]
    if request.kit:
        profiles = [entry.profile for entry in read_kit_sources(KitRequest((request.kit,)), workspace).profiles]
        words = [word.casefold() for word in wanted.words]
        profiles = [
            profile
            for profile in profiles
            if all(word in f"{profile.name} {profile.place}".casefold() for word in words)
        ]
    else:
        with workspace.layered_store() as layered_store:
            rows = layered_store.profile_texts(layered_store.list_profiles(wanted.words, **wanted.where))
        profiles = [read_profile(text, f"profile {row.name} ({store})") for row, text, store in rows]
    if not profiles:
        raise NotFound("no profile matches", next_step="See `zesty list`; or name a host: zesty advise --gateway HOST")
    return profiles


def _unknown_gateway(host: str) -> Profile:
    """A profile with all defaults."""
    protocol = registry.protocol(registry.DEFAULT)
    settings = protocol.read_settings(Table(protocol.name, {}, host))
    profile = Profile(host, Gateway((host,)), settings=settings)
    return replace(profile, tunnel=TunnelSettings(protocol.name))
