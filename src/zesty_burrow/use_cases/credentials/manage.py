"""Stored credentials: list, change, forget and try them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.core.scope import CredentialsKind, Scope
from zesty_burrow.errors import UsageError
from zesty_burrow.nearest import nearest
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.credentials.ask import ask_credentials
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.store.store import Store


@dataclass(frozen=True, slots=True)
class CredentialsOf:
    """Whose credentials: a ``label`` (usually the provider's name) or one ``profile``'s, and one ``device``'s."""

    label: str = ""
    profile: str = ""
    device: str = ""

    def scope(self, store: Store) -> Scope:
        """The scope in the store. Raises :class:`UsageError`, :class:`NotFound`."""
        if bool(self.label) == bool(self.profile):
            raise UsageError(
                "whose credentials?", next_step="Say a label, as `zesty credentials list` shows it; or --profile."
            )
        if not self.profile:
            return Scope(self.label, self.device)
        profile = store.find_profile(self.profile)[0]
        return Scope(profile.credentials_label, self.device, profile.name)


@dataclass(frozen=True, slots=True)
class KeptCredentials:
    """An entry, or a label without one (``kind`` is empty). ``profiles``: names of those that use it."""

    label: str
    scope: str
    profiles: tuple[str, ...]
    device: str = ""
    profile: str = ""
    kind: str = ""
    domain: str = ""
    worked_at: str = ""
    sealed_at: str = ""
    origin: str = ""


def list_credentials(workspace: Workspace) -> tuple[KeptCredentials, ...]:
    """Every entry with its users, then labels that profiles need and that have no entry. No secret is in here."""
    with workspace.store() as store:
        labels = store.labels()
        kept = store.list_credentials()

    def users(label: str) -> tuple[str, ...]:
        return tuple(sorted(name for name, other in labels.items() if other == label))

    rows = [
        KeptCredentials(
            entry.label,
            str(entry.scope),
            (entry.profile,) if entry.profile else users(entry.label),
            entry.device,
            entry.profile,
            entry.kind,
            entry.domain,
            entry.worked_at,
            entry.imported_at,
            entry.origin,
        )
        for entry in kept
    ]
    missing = sorted(set(labels.values()) - {entry.label for entry in kept})
    return (*rows, *(KeptCredentials(label, label, users(label)) for label in missing))


@dataclass(frozen=True, slots=True)
class ChangedCredentials:
    """``is_used``: whether a profile uses them; if not, ``meant`` may be the label. ``slips``: possible paste slips."""

    scope: str
    is_used: bool
    meant: str
    slips: tuple[str, ...]


def change_credentials(
    whose: CredentialsOf, kind: CredentialsKind, workspace: Workspace, source: str = "", domain: str = ""
) -> ChangedCredentials:
    """Replace credentials for all profiles that use them. ``source``: as :func:`ask_credentials` takes it."""
    with workspace.store() as store:
        scope = whose.scope(store)
        value, slips = ask_credentials(str(scope), kind, workspace.interaction, source, domain)
        store.take_kit([], [(scope, value, source or "typed in")], what=f"change the credentials for {scope}")
        labels = set(store.labels().values())
    is_used = bool(whose.profile) or scope.label in labels
    meant = next(iter(nearest(scope.label, sorted(labels))), "")
    return ChangedCredentials(str(scope), is_used, "" if is_used else meant, tuple(slips))


def forget_credentials(
    whose: CredentialsOf, kind: str, workspace: Workspace, *, for_good: bool = False
) -> tuple[str, int]:
    """The scope, and how many entries were removed. ``kind``: empty for all. ``for_good``: undo cannot restore them."""
    with workspace.store() as store:
        scope = whose.scope(store)
        return str(scope), store.forget_credentials(scope, kind, for_good=for_good)


@dataclass(frozen=True, slots=True)
class TryRequest:
    """``unprotected``: also over a protocol that protects next to nothing. ``ask``: for credentials.

    ``device``: whose credentials. ``timeout``: seconds for the gateway.
    """

    name: str
    device: str = ""
    unprotected: bool = False
    ask: bool = False
    timeout: float = 15.0


@dataclass(frozen=True, slots=True)
class Accepted:
    """A gateway has accepted credentials. ``address``: the gateway's; ``credentials``: which ones, in words."""

    profile: str
    address: str
    credentials: str


def try_credentials(request: TryRequest, workspace: Workspace) -> Accepted:
    """Negotiate, let the gateway prove itself, sign in, sign out. Opens no tunnel and changes nothing.

    Raises :class:`SignInRefused`, :class:`GatewayNotProven`, :class:`GatewayUnreachable`, :class:`NotFound`.
    """
    from zesty_burrow.carrier.attempt import Attempt
    from zesty_burrow.profiles.policy import restrict
    from zesty_burrow.use_cases.credentials.choose import choose, explained, note_sign_in

    with workspace.layered_store() as layered_store:
        stored = layered_store.find_profile(request.name)[0]
        profile = restrict(workspace.policy(), stored, unprotected=request.unprotected)
        chosen = choose(profile, layered_store, workspace, ask=request.ask, device=request.device)
    with explained(chosen):
        address = Attempt(profile, chosen.secrets, request.timeout, workspace.interaction.step).run()
    note_sign_in(chosen, workspace)
    return Accepted(profile.name, address, chosen.words)
