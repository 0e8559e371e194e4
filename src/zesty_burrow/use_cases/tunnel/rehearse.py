"""Go through profiles for real, without any rights and without a change to this machine."""

from __future__ import annotations

import json
from collections.abc import Callable

from zesty_burrow.carrier.probe import probe_gateways
from zesty_burrow.carrier.rehearse import Part, Stage
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.rehearsal import Fitness, Rehearsal, StepTime
from zesty_burrow.errors import BurrowError, NotFound, RightsMissing, UsageError
from zesty_burrow.extras import require
from zesty_burrow.observe.inside import Outside
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.store.verifications.run_store import ObservationRow
from zesty_burrow.use_cases.credentials.choose import choose
from zesty_burrow.use_cases.observatories import observatories
from zesty_burrow.use_cases.profiles.find import ProfileFilter
from zesty_burrow.use_cases.workspace import Workspace

ROLE = "rehearsal"
MOST_AT_ONCE = 256


@dataclass(frozen=True, slots=True)
class RehearseRequest:
    """``at_once``: how many at one time, 1 to 256. ``observatory``: URL, empty: from the settings.

    ``check_exits``: needs an observatory. ``timeout``: seconds for each gateway to answer.
    """

    wanted: ProfileFilter = field(default_factory=ProfileFilter)
    unprotected: bool = False
    at_once: int = 16
    observatory: str = ""
    check_exits: bool = True
    timeout: float = 5.0


MOST_MEASURED = 64
"""Gateways whose round trip is measured once more, each alone."""


@dataclass(frozen=True, slots=True)
class Rehearsed:
    """``wanted``: how many there were to go through. ``interrupted``: by Ctrl-C; the others have been gone through."""

    rehearsals: tuple[Rehearsal, ...]
    wanted: int
    interrupted: bool


def rehearse(
    request: RehearseRequest, workspace: Workspace, on_done: Callable[[Rehearsal], None] = lambda _: None
) -> Rehearsed:
    """Rehearse all profiles that match, and keep the results, so that ``nearest`` and the like are known.

    ``on_done`` is called for each. Raises :class:`NotFound`, :class:`UsageError`.
    """
    if not 1 <= request.at_once <= MOST_AT_ONCE:
        raise UsageError(f"--at-once {request.at_once} is not between 1 and {MOST_AT_ONCE}")
    parts = _parts(request, workspace)
    outside = _outside(request, workspace) if request.check_exits else None
    with workspace.interaction.progress("rehearsing") as progress:
        count = 0

        def done(rehearsal: Rehearsal) -> None:
            nonlocal count
            count += 1
            on_done(rehearsal)
            progress(count, len(parts))

        stage = Stage(request.at_once, request.timeout, outside, done)
        rehearsals = stage.run(parts)
    rehearsals = _one_by_one(rehearsals, {part.profile.name: part.profile for part in parts}, request.timeout)
    if rehearsals:
        _remember(rehearsals, workspace)
    return Rehearsed(tuple(rehearsals), len(parts), stage.interrupted)


def _one_by_one(seen: list[Rehearsal], profiles: dict[str, Profile], timeout: float) -> list[Rehearsal]:
    """With round trips that were measured one after the other: with many at once noise decides which is nearest."""
    fit = [one for one in seen if one.verdict is not Fitness.FAILED]
    if len(fit) < 2:
        return seen
    measured = {}
    for one in fit[:MOST_MEASURED]:
        answer = probe_gateways((), timeout, lambda _: None, [profiles[one.profile]])[0].capabilities
        if answer is not None and answer.round_trip:
            measured[one.profile] = answer.round_trip
    return [replace(one, round_trip=measured.get(one.profile, one.round_trip)) for one in seen]


def _remember(seen: list[Rehearsal], workspace: Workspace) -> None:
    """For ``connect nearest``. Where the store is somebody else's, the results are shown and not kept."""
    document = json.dumps([one.document() for one in seen])
    row = ObservationRow(workspace.now().strftime("%Y-%m-%dT%H:%M:%SZ"), ROLE, "", _overall(seen), document)
    try:
        with workspace.store() as store:
            store.runs.add_observation(row)
    except RightsMissing as problem:
        workspace.interaction.note(f"The results were not stored: {problem}.")


def _parts(request: RehearseRequest, workspace: Workspace) -> list[Part]:
    parts = []
    policy = workspace.policy()
    with workspace.layered_store() as layered_store:
        wanted = request.wanted
        rows = layered_store.list_profiles(wanted.words, **wanted.where)
        if not rows:
            known = [row.name for _, row in layered_store.list_profiles()]
            raise NotFound("no profile matches").meaning(wanted.words[0] if wanted.words else "", known)
        kept = layered_store.credentials_at_once()
        for row, text, whom in layered_store.profile_texts(rows):
            profile = read_profile(text, f"profile {row.name} ({whom})")
            try:
                require(*protocol(profile.tunnel.protocol).extras(profile))
                secrets = choose(profile, kept, workspace, ask=False).secrets
                parts.append(Part(restrict(policy, profile, unprotected=request.unprotected), secrets))
            except BurrowError as problem:
                parts.append(Part(profile, missing=problem))
    return parts


def _outside(request: RehearseRequest, workspace: Workspace) -> Outside:
    asked = observatories(workspace, request.observatory)
    if not asked:
        raise UsageError(
            "no observatory is configured, so the exits cannot be checked",
            next_step="Name one with --observatory URL, or leave the exits out with --no-exit.",
        )
    outside = Outside(asked[0])
    outside.prepare()
    return outside


def latest_rehearsals(workspace: Workspace) -> tuple[str, list[Rehearsal]]:
    """When the latest one was, and what of it a choice needs; empty where there was none."""
    with workspace.store() as store:
        row = store.runs.latest_observation(ROLE)
    if row is None:
        return "", []
    return row.taken_at, [
        Rehearsal(
            profile=entry["profile"],
            steps=(StepTime("", entry["seconds"]),),
            round_trip=entry["round_trip"],
            carries_outside=entry["carries_outside"],
            strength=entry["strength"],
            verdict=Fitness(entry["verdict"]),
        )
        for entry in json.loads(row.document)
    ]


def _overall(seen: list[Rehearsal]) -> str:
    order = list(Fitness)
    return str(max((one.verdict for one in seen), key=order.index))
