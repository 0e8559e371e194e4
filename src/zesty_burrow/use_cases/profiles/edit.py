"""Change profiles: keys, tags, names; remove them; take changes back."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from unicodedata import normalize

from zesty_burrow.core.profile import NAME, RESERVED_NAMES, TAG, Profile
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.profiles.compare import Difference, differences
from zesty_burrow.profiles.edit import with_changes
from zesty_burrow.profiles.text import write_profile
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.store.history import ChangeRow, described
from zesty_burrow.use_cases.profiles.find import ProfileFilter
from zesty_burrow.use_cases.workspace import Workspace

SHOWN = 8


@dataclass(frozen=True, slots=True)
class ChangedProfile:
    """A profile before and after a change."""

    before: Profile
    after: Profile

    @property
    def is_changed(self) -> bool:
        """Whether anything differs."""
        return self.before != self.after

    @property
    def differences(self) -> tuple[Difference, ...]:
        """Key by key."""
        return tuple(differences(write_profile(self.before), write_profile(self.after)))


@dataclass(frozen=True, slots=True)
class ChangeRequest:
    """``keys``: new values by the keys of docs/profile.md, None for the default; or ``edit``: makes the new profile.

    ``all_matching``: more than one profile may match.
    """

    wanted: ProfileFilter
    keys: Mapping[str, str | None] = field(default_factory=dict)
    edit: Callable[[Profile], Profile] | None = None
    all_matching: bool = False
    dry_run: bool = False


def change_profiles(request: ChangeRequest, workspace: Workspace) -> tuple[ChangedProfile, ...]:
    """All matching profiles, before and after. All are changed, or none.

    Raises :class:`NotFound`, :class:`UsageError` for several profiles, :class:`ProfileInvalid` for a key or value.
    """
    wanted = request.wanted
    with workspace.store() as store:
        names = [row.name for row in store.list_profiles(wanted.words, **wanted.where)]
        if len(wanted.words) == 1 and wanted.words[0] in names:
            # A name that is part of other names means itself.
            names = list(wanted.words)
        if not names:
            known = [row.name for row in store.list_profiles()]
            missing = NotFound("no profile matches", next_step="See `zesty list`.")
            raise missing.meaning(wanted.words[0] if wanted.words else "", known)
        if len(names) > 1 and (request.edit or not request.all_matching):
            shown = ", ".join(names[:SHOWN]) + (" …" if len(names) > SHOWN else "")
            step = "Name one." if request.edit else "Say more precisely which, or add --all for all of them."
            raise UsageError(f"{len(names)} profiles match: {shown}", next_step=step)
        profiles = [store.find_profile(name)[0] for name in names]
        make = request.edit or (lambda before: with_changes(before, request.keys))
        rows = tuple(ChangedProfile(before, make(before)) for before in profiles)
        if not request.dry_run:
            _store(rows, "change", store.change_profiles)
    return rows


def _store(rows: tuple[ChangedProfile, ...], what: str, write: Callable[..., object]) -> None:
    changed = [row.after for row in rows if row.is_changed]
    if changed:
        write(changed, what=described(what, [profile.name for profile in changed]))


def tag_profiles(
    names: tuple[str, ...], workspace: Workspace, add: tuple[str, ...] = (), drop: tuple[str, ...] = ()
) -> tuple[Profile, ...]:
    """The profiles with their tags after the change. Raises :class:`UsageError` for a text that cannot be a tag."""
    add, drop = (tuple(normalize("NFC", tag).lower() for tag in tags) for tags in (add, drop))
    for tag in add:
        if not TAG.fullmatch(tag):
            raise UsageError(f"{tag!r} is not a tag", why="letters, digits and hyphens, up to 32")
    with workspace.store() as store:
        profiles = [store.find_profile(name)[0] for name in dict.fromkeys(names)]
        rows = tuple(ChangedProfile(profile, _tagged(profile, add, drop)) for profile in profiles)
        _store(rows, "tag", store.change_profiles)
    return tuple(row.after for row in rows)


def _tagged(profile: Profile, add: tuple[str, ...], drop: tuple[str, ...]) -> Profile:
    tags = dict.fromkeys((*profile.tags, *add))
    return replace(profile, tags=tuple(tag for tag in tags if tag not in drop))


def rename_profile(name: str, new_name: str, workspace: Workspace) -> str:
    """The name that the profile had. Raises :class:`UsageError`, :class:`NotFound`, :class:`Clash`."""
    if not NAME.fullmatch(new_name):
        raise UsageError(f"{new_name!r} is not a name", why="lower-case letters, digits, dots, hyphens, up to 64")
    if new_name in RESERVED_NAMES:
        raise UsageError(f"no profile can be called {new_name!r}", why="commands use this word for something else")
    with workspace.store() as store:
        old = store.find_profile(name)[1].name
        store.rename_profile(old, new_name)
    return old


@dataclass(frozen=True, slots=True)
class RemoveRequest:
    """Profiles by ``names``, or all of one ``provider``. ``for_good``: nothing is kept to bring them back.

    ``confirm``: called with the number of profiles and the scopes of credentials that would be forgotten.
    """

    names: tuple[str, ...] = ()
    provider: str = ""
    for_good: bool = False
    confirm: Callable[[int, tuple[str, ...]], bool] = field(default=lambda _count, _scopes: True)


@dataclass(frozen=True, slots=True)
class Removed:
    """``profiles``: their names; ``forgotten``: scopes of credentials that no other profile used."""

    profiles: tuple[str, ...]
    forgotten: tuple[str, ...]


def remove_profiles(request: RemoveRequest, workspace: Workspace) -> Removed:
    """Secrets go when the last profile that uses them goes. Raises :class:`UsageError`, :class:`NotFound`."""
    if bool(request.names) == bool(request.provider):
        raise UsageError("name profiles, or a provider with --provider", why="one of the two is needed")
    with workspace.store() as store:
        labels = store.labels()
        if request.provider:
            names = [row.name for row in store.list_profiles() if row.provider == request.provider]
            if not names:
                known = [row.provider for row in store.list_profiles()]
                what = f"there is no profile of a provider {request.provider!r}"
                raise NotFound(what).meaning(request.provider, known)
        else:
            names = list(dict.fromkeys(request.names))
            unknown = [name for name in names if name not in labels]
            if unknown:
                raise NotFound(f"there is no profile {unknown[0]!r}").meaning(unknown[0], labels)
        leaving = set(names)
        staying = {label for name, label in labels.items() if name not in leaving}
        kept = store.list_credentials()
        orphaned = {row.label for row in kept if row.label in {labels[name] for name in names}} - staying
        scopes = {str(row.scope) for row in kept if row.label in orphaned or row.profile in leaving}
        forgotten = tuple(sorted(scopes))
        if not request.confirm(len(names), forgotten):
            raise UsageError("nothing was removed", why="you have said no")
        what = f"remove {request.provider}" if request.provider else described("remove", names)
        store.remove_profiles(names, forget_labels=sorted(orphaned), what=what, for_good=request.for_good)
    return Removed(tuple(names), forgotten)


# Taking back.


@dataclass(frozen=True, slots=True)
class TakenBack:
    """``what``: the change; ``number``: under which the taking back itself can be taken back."""

    what: str
    number: int


def list_changes(workspace: Workspace) -> tuple[ChangeRow, ...]:
    """Changes that can be taken back, the newest first."""
    with workspace.store() as store:
        return tuple(store.list_changes())


def forget_changes(workspace: Workspace) -> int:
    """Forget everything that could be taken back, for good. The number of changes."""
    with workspace.store() as store:
        return store.forget_changes()


def take_back(workspace: Workspace, number: int | None = None) -> TakenBack:
    """Take one change back, the last one by default. Raises :class:`NotFound`, :class:`Clash` if changed since."""
    with workspace.store() as store:
        row = _change(store.list_changes(), number)
        store.take_back(row.number, row.what)
        return TakenBack(row.what, store.list_changes()[0].number)


def _change(rows: list[ChangeRow], number: int | None) -> ChangeRow:
    if number is None:
        # What was taken back, and the taking back, are passed over: the next call goes on further back.
        candidates = [row for row in rows if not row.undone and not row.what.startswith("undo: ")]
        if not candidates:
            raise NotFound("there is nothing to take back", next_step="See `zesty undo --list`.")
        return candidates[0]
    change = next((row for row in rows if row.number == number), None)
    if change is None:
        raise NotFound(f"there is no change {number}", next_step="See `zesty undo --list`.")
    if change.undone:
        raise NotFound(f"change {number} was taken back already", next_step="See `zesty undo --list`.")
    return change
