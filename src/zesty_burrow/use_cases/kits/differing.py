"""What becomes of credentials that differ from the stored ones: a stale password never replaces one that works."""

from __future__ import annotations

from zesty_burrow.core.credentials import kind_of
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError
from zesty_burrow.intake.import_plan import KEEP, REPLACE, CredentialsDifference
from zesty_burrow.intake.kit import Kit
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.workspace import Workspace

PATIENCE = 15.0
"""Seconds for the gateway at which they are tried."""


@dataclass(frozen=True, slots=True)
class DifferingRequest:
    """``keep``, ``replace``: without asking. ``try_them``: sign in with the new ones first. ``ask``: ask the user."""

    keep: bool = False
    replace: bool = False
    try_them: bool = False
    ask: bool = False


class DifferingCredentials:
    """Decides by the request, by what a gateway has accepted before, by trying, or by asking the user."""

    def __init__(self, kit: Kit, request: DifferingRequest, workspace: Workspace) -> None:
        self._kit, self._request, self._workspace = kit, request, workspace

    def decide(self, difference: CredentialsDifference) -> str:
        """``KEEP`` or ``REPLACE``."""
        if self._request.keep:
            return KEEP
        if self._request.replace:
            return REPLACE
        if self._request.try_them:
            return self._tried(difference)
        if not difference.worked_at:
            return REPLACE
        if not self._request.ask:
            return KEEP
        interaction = self._workspace.interaction
        interaction.note(
            f"The kit has other credentials for {difference.entry.scope}: {difference.words}. Those that are stored "
            f"were accepted by a gateway on {difference.worked_at[:10]}."
        )
        answers = {"k": lambda: KEEP, "r": lambda: REPLACE, "t": lambda: self._tried(difference)}
        while True:
            answer = (
                interaction.ask("Keep the stored ones, replace them, or try the new ones first? k, r, t [t] ") or "t"
            )
            if chosen := answers.get(answer.casefold()[:1]):
                return chosen()

    def _tried(self, difference: CredentialsDifference) -> str:
        """Sign in with the new ones for real, over a profile that uses them; no tunnel is opened."""
        from zesty_burrow.carrier.attempt import Attempt

        interaction, entry = self._workspace.interaction, difference.entry
        profile = self._profile(entry.scope.label, entry.scope.profile)
        if profile is None:
            interaction.note(f"There is no profile to try the credentials for {entry.scope} with.")
            return KEEP
        interaction.pause()
        try:
            Attempt(profile, {kind_of(entry.value): entry.value}, PATIENCE, interaction.step).run()
        except BurrowError as problem:
            interaction.note(f"The new credentials for {entry.scope} did not work with {profile.name}: {problem}")
            return KEEP
        return REPLACE

    def _profile(self, label: str, name: str) -> Profile | None:
        """One of the kit's, else one that is stored."""
        for profile in self._kit.profiles:
            if name in ("", profile.profile.name) and profile.profile.credentials_label == label:
                return profile.profile
        with self._workspace.layered_store() as layered_store:
            rows = [row for _, row in layered_store.list_profiles() if row.label == label and name in ("", row.name)]
            return layered_store.find_profile(rows[0].name)[0] if rows else None
