"""An authority's certificate by itself goes into the stored profiles that it fits."""

from __future__ import annotations

import re
from collections.abc import Sequence

from cryptography import x509

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.names import same_name
from zesty_burrow.core.finding import Severity
from zesty_burrow.core.profile import PEM_MARK, Profile
from zesty_burrow.errors import BurrowError, GatewayNotProven, InputError, Malformed, SignInRefused
from zesty_burrow.intake.kit import Kit
from zesty_burrow.intake.readers.places import folded
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store.store import Store
from zesty_burrow.use_cases.credentials.choose import choose
from zesty_burrow.use_cases.profiles.edit import ChangedProfile
from zesty_burrow.use_cases.workspace import Workspace

MOST_ASKED = 20
"""Gateways that are asked."""
MOST_SHOWN = 8
COMMON = frozenset(
    ("root", "authority", "certificate", "certification", "the", "ca", "vpn", "relay", "and", "ltd", "inc")
)
NONE = "it has none"
PATIENCE = 5.0
"""Seconds for a gateway to show its certificate."""


@dataclass(frozen=True, slots=True)
class Fit:
    """A profile that an authority fits, and why."""

    profile: Profile
    why: str


@dataclass(frozen=True, slots=True)
class AuthorityRequest:
    """Where an authority goes: into ``profile``, those of ``provider``, those whose gateways prove it, or ask the user.

    ``bad_certificates``: ``take`` an expired or weak one without asking.
    """

    profile: str = ""
    provider: str = ""
    ask_gateways: bool = False
    bad_certificates: str = ""


def put_in(kit: Kit, request: AuthorityRequest, workspace: Workspace) -> tuple[ChangedProfile, ...]:
    """Put the authorities of a kit that holds nothing else into stored profiles; each before and after.

    Raises :class:`InputError` with the profiles that fit, if nobody says which are meant.
    """
    pems = tuple(dict.fromkeys(pem for _, pem in kit.authorities))
    _judge(pems, request, workspace)
    fits = _fits(pems, request, workspace)
    if not fits:
        raise InputError(
            f"{kit.origin} fits no stored profile",
            why="no profile is without an authority, has an older one of its name, or has a provider of its name",
            next_step="Name the profile: --profile NAME, or the provider: --provider NAME",
            slug="authority-alone",
        )
    chosen = bool(request.profile or request.provider or request.ask_gateways)
    names = ", ".join(one.profile.name for one in fits[:MOST_SHOWN])
    names += f" and {len(fits) - MOST_SHOWN} more" if len(fits) > MOST_SHOWN else ""
    if not chosen and not _agreed(fits, workspace):
        raise InputError(
            f"{kit.origin} is an authority's certificate by itself",
            why=f"it fits {names}",
            next_step="Say where it goes: --profile NAME, --provider NAME, or --ask-gateways to see whom it proves.",
            slug="authority-alone",
        )
    rows = tuple(ChangedProfile(fit.profile, _with(fit.profile, pems)) for fit in fits)
    changed = [row.after for row in rows if row.is_changed]
    if changed:
        with workspace.store() as store:
            store.change_profiles(changed, what=f"import {kit.origin}")
    return rows


def _judge(pems: Sequence[str], request: AuthorityRequest, workspace: Workspace) -> None:
    """Expired or odd ones are the user's decision."""
    probe = read_profile('format = 2\n[profile]\nname = "probe"\n[gateway]\naddresses = ["probe.example"]\n')
    found = check_profile(replace(probe, authorities=tuple(pems)), workspace.now())
    wrong = [one for one in found if one.severity is Severity.SERIOUS and one.code.slug.startswith("certificate-")]
    if not wrong or request.bad_certificates == "take":
        return
    words = "; ".join(f"{one.subject}: {one.code.title}" for one in wrong)
    if not request.bad_certificates and workspace.interaction.can_ask:
        workspace.interaction.note(words)
        if workspace.interaction.ask("Take it all the same? y or n [n] ").casefold()[:1] == "y":
            return
    raise InputError(
        "the authority's certificate was not taken",
        why=words,
        next_step="Ask for a current one; or take it all the same: --bad-certificates take",
        slug=wrong[0].code.slug,
    )


def _fits(pems: Sequence[str], request: AuthorityRequest, workspace: Workspace) -> list[Fit]:
    certificates = [
        pem_certificate for pem in pems for pem_certificate in trust.load_pem_certificates_untrusted(pem.encode())
    ]
    words = {word for certificate in certificates for word in _words(certificate.subject.rfc4514_string())}
    with workspace.store() as store:
        if request.profile:
            return [Fit(store.find_profile(request.profile)[0], "named")]
        if request.provider:
            names = [row.name for row in store.list_profiles(provider=request.provider)]
            return [Fit(profile, f"of {request.provider}") for profile in _read(store, names)]
        rows = store.list_profiles()
        near = [row.name for row in rows if row.lacks or words & _words(f"{row.provider} {row.name}")]
        profiles = _read(store, near)
    fits = [Fit(profile, why) for profile in profiles if (why := _why(profile, certificates, words))]
    fits = [fit for fit in fits if fit.why != NONE] or fits
    if not request.ask_gateways:
        return fits
    return [fit for fit in fits[:MOST_ASKED] if _proves(fit.profile, pems, workspace)]


def _read(store: Store, names: Sequence[str]) -> list[Profile]:
    texts = store.profile_texts(names)
    return [read_profile(text, f"profile {name}") for name, text in zip(names, texts, strict=True)]


def _words(text: str) -> set[str]:
    return set(re.findall(r"[a-z0-9]{3,}", folded(text))) - COMMON


def _why(profile: Profile, certificates: Sequence[x509.Certificate], words: set[str]) -> str:
    """Why an authority may be a profile's, in words; empty without a reason."""
    if profile.sign_in.gateway not in ("certificate", "eap"):
        return ""
    own = []
    for pem in profile.authorities:
        if PEM_MARK in pem:
            try:
                own += trust.load_pem_certificates_untrusted(pem.encode())
            except Malformed:
                continue
    if any(same_name(one.subject, other.subject) for one in own for other in certificates):
        return "it has one of the same name"
    if words & _words(f"{profile.provider} {profile.name}"):
        return "its provider is called so"
    return "" if own else NONE


def _proves(profile: Profile, pems: Sequence[str], workspace: Workspace) -> bool:
    """Whether the gateway proves itself with these authorities alone: asked for real, with the kept credentials."""
    from zesty_burrow.carrier.attempt import Attempt

    alone = replace(profile, authorities=tuple(pems))
    try:
        with workspace.layered_store() as layered_store:
            chosen = choose(profile, layered_store, workspace, ask=False)
        Attempt(alone, chosen.secrets, PATIENCE, workspace.interaction.step).run()
    except SignInRefused:
        # It has proven itself before anything was sent.
        return True
    except GatewayNotProven:
        return False
    except BurrowError as problem:
        workspace.interaction.note(f"{profile.name} could not be asked: {problem}")
        return False
    return True


def _agreed(fits: list[Fit], workspace: Workspace) -> bool:
    if not workspace.interaction.can_ask:
        return False
    for fit in fits[:MOST_SHOWN]:
        workspace.interaction.note(f"  {fit.profile.name}: {fit.why}")
    if len(fits) > MOST_SHOWN:
        workspace.interaction.note(f"  and {len(fits) - MOST_SHOWN} more")
    return workspace.interaction.ask("Put the authority into these profiles? y or n [n] ").casefold()[:1] == "y"


def _with(profile: Profile, pems: Sequence[str]) -> Profile:
    return replace(profile, authorities=tuple(dict.fromkeys((*profile.authorities, *pems))))
