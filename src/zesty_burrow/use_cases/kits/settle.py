"""The user decides what a kit leaves open: doubtful labels, bad certificates, and what is missing.

Every question can be left for later. A script decides by the request, and reads the findings.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind, Scope
from zesty_burrow.errors import BurrowError
from zesty_burrow.intake.kit import FoundProfile, Kit
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.text import content_digest, write_profile
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store.rows import described
from zesty_burrow.use_cases.credentials.ask import ASKED, ask_credentials
from zesty_burrow.use_cases.kits.read import read_files_apart
from zesty_burrow.use_cases.workspace import Workspace

TAKE, LEAVE = "take", "leave"
MOST_NAMES = 5
MOST_LABELS = 20
"""Questions for credentials."""
DOUBT, MISSING = "sheet-guessed", "profile-authority-missing"


@dataclass(frozen=True, slots=True)
class SettleRequest:
    """``doubtful``, ``bad_certificates``: ``take`` or ``leave``, empty: ask. ``later``: ask nothing."""

    doubtful: str = ""
    bad_certificates: str = ""
    later: bool = False


def settled(kit: Kit, request: SettleRequest, workspace: Workspace) -> Kit:
    """The kit without what is not wanted, and with the authorities that were missing."""
    asking = is_asked(request, workspace)
    settling = _Settling(kit, workspace, asking=asking)
    settling.doubts(request.doubtful)
    settling.bad_certificates(request.bad_certificates)
    if asking:
        settling.missing_authorities()
    return settling.kit


def is_asked(request: SettleRequest, workspace: Workspace) -> bool:
    """Whether there is somebody to decide."""
    return workspace.interaction.can_ask and not request.later


def missing_credentials(
    profiles: Sequence[Profile], have: Collection[tuple[str, str]], workspace: Workspace
) -> list[tuple[Scope, Credentials, str]]:
    """Asked for: what profiles sign in with and nobody has. ``have``: kinds with their labels."""
    wanted: dict[tuple[CredentialsKind, str], list[str]] = {}
    for profile in profiles:
        for kind in profile.needs:
            label = profile.credentials_label
            if kind in ASKED and (str(kind), label) not in have:
                wanted.setdefault((kind, label), []).append(profile.name)
    found = []
    for (kind, label), names in list(wanted.items())[:MOST_LABELS]:
        question = f"{_named(names)} of {label}: no {kind} is kept. Enter it now? y or n (later) [n] "
        if workspace.interaction.ask(question).casefold()[:1] == "y":
            value, _ = ask_credentials(label, kind, workspace.interaction)
            found.append((Scope(label), value, "typed in"))
    return found


class _Settling:
    def __init__(self, kit: Kit, workspace: Workspace, *, asking: bool) -> None:
        self.kit = kit
        self._workspace, self._interaction, self._asking = workspace, workspace.interaction, asking
        self._for_all: dict[str, str] = {}

    def _decide(self, what: str, said: str, lines: list[str], question: str, default: str) -> str:
        """``said`` by an option, else asked; a capital letter is for all of its kind. Without a terminal: take."""
        if said or not self._asking:
            return said or TAKE
        if what in self._for_all:
            return self._for_all[what]
        for line in lines:
            self._interaction.note(line)
        letters = {"y": TAKE, "n": LEAVE}
        while True:
            answer = (
                self._interaction.ask(f"{question} y or n; in capitals for all of this kind [{default}] ") or default
            )
            if chosen := letters.get(answer.casefold()[:1]):
                if answer[:1].isupper():
                    self._for_all[what] = chosen
                return chosen

    def _paths(self) -> set[str]:
        return {profile.path for profile in self.kit.profiles} | {
            credential.path for credential in self.kit.credentials
        }

    def _drop(self, paths: set[str]) -> None:
        """Leave out what came from some paths."""
        self.kit = replace(
            self.kit,
            profiles=tuple(profile for profile in self.kit.profiles if profile.path not in paths),
            credentials=tuple(credential for credential in self.kit.credentials if credential.path not in paths),
            items=tuple(
                replace(item, taken=False, why="left out, as you have said") if item.path in paths else item
                for item in self.kit.items
            ),
        )

    def doubts(self, said: str) -> None:
        """Labels that may mean something else, file by file."""
        doubtful: dict[str, list[str]] = {}
        for finding in self.kit.findings:
            if finding.code.slug == DOUBT:
                doubtful.setdefault(finding.subject, []).append(finding.detail)
        for path, words in doubtful.items():
            lines = [f"In {path}:", *(f"  {detail}" for detail in words)]
            if self._decide(DOUBT, said, lines, "Take it so?", "y") == LEAVE:
                self._drop({one for one in self._paths() if one == path or one.startswith(f"{path}, ")})

    def bad_certificates(self, said: str) -> None:
        """Profiles whose authorities are expired, weak or not fit, by what is wrong with them."""
        now = self._workspace.now()
        groups: dict[tuple[Finding, ...], list[FoundProfile]] = {}
        seen: dict[tuple[str, ...], tuple[Finding, ...]] = {}
        for profile in self.kit.profiles:
            authorities = profile.profile.authorities
            if authorities not in seen:
                seen[authorities] = _bad(check_profile(profile.profile, now))
            if seen[authorities]:
                groups.setdefault(seen[authorities], []).append(profile)
        for wrong, found in groups.items():
            lines = [f"{_named([one.profile.name for one in found])}:"]
            lines += [f"  {entry.subject}: {entry.code.title} {entry.detail}".rstrip() for entry in wrong]
            if self._decide("certificate", said, lines, "Take them all the same?", "n") == LEAVE:
                self._drop({one.path for one in found})

    def missing_authorities(self) -> None:
        """Profiles whose gateway nothing is there to prove with: a file, or later."""
        lacking: dict[str, list[FoundProfile]] = {}
        for profile in self.kit.profiles:
            if described(profile.profile)[2]:
                lacking.setdefault(profile.profile.provider, []).append(profile)
        for provider, found in lacking.items():
            whose = f" of {provider}" if provider else ""
            self._interaction.note(f"{_named([one.profile.name for one in found])}{whose}: nothing proves the gateway.")
            pems = self._ask_authority()
            if pems:
                fresh = {one.path: _with_authorities(one, pems) for one in found}
                self.kit = replace(
                    self.kit,
                    profiles=tuple(fresh.get(profile.path, profile) for profile in self.kit.profiles),
                    findings=self._judged_again(list(fresh.values())),
                )

    def _judged_again(self, fresh: list[FoundProfile]) -> tuple[Finding, ...]:
        """Findings again, for profiles that have an authority now."""
        names = {one.profile.name for one in fresh}
        kept = [
            finding for finding in self.kit.findings if not (finding.code.slug == MISSING and finding.subject in names)
        ]
        now = self._workspace.now()
        return tuple(dict.fromkeys((*kept, *(found for one in fresh for found in check_profile(one.profile, now)))))

    def _ask_authority(self) -> tuple[str, ...]:
        while True:
            name = self._interaction.ask("File with the authority's certificate; empty: leave it for later [] ").strip()
            if not name:
                return ()
            try:
                pems = read_files_apart([Path(name).expanduser()], self._workspace).authorities
            except BurrowError as problem:
                self._interaction.note(str(problem))
                continue
            if pems:
                return tuple(pem for _, pem in pems)
            self._interaction.note(f"{name} holds no authority's certificate.")


def _bad(findings: list[Finding]) -> tuple[Finding, ...]:
    return tuple(
        one for one in findings if one.severity is Severity.SERIOUS and one.code.slug.startswith("certificate-")
    )


def _named(names: list[str]) -> str:
    return ", ".join(names[:MOST_NAMES]) + (f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else "")


def _with_authorities(found: FoundProfile, pems: tuple[str, ...]) -> FoundProfile:
    profile = replace(found.profile, authorities=tuple(dict.fromkeys((*found.profile.authorities, *pems))))
    text = write_profile(profile)
    return replace(found, profile=profile, text=text, digest=content_digest(profile, text))
