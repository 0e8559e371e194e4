"""Which credentials a connection uses, and the explanation if a gateway refuses them."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime

from zesty_burrow.core.credentials import Credentials, NamePassword
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import BurrowError, NotFound, SignInRefused, UsageError
from zesty_burrow.intake.readers.credentials import paste_slips
from zesty_burrow.records import dataclass
from zesty_burrow.store.layered_store import CredentialsAtOnce, LayeredStore
from zesty_burrow.store.store import CredentialsRow
from zesty_burrow.use_cases.credentials.ask import ASKED, ask_credentials
from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True)
class Chosen:
    """What a profile signs in with, by kind, and where it comes from, in words.

    ``rows``: the entries, each with whose store it is in.
    """

    secrets: Mapping[CredentialsKind, Credentials]
    words: str
    rows: tuple[tuple[CredentialsRow, str], ...] = ()


def choose(
    profile: Profile,
    layered_store: LayeredStore | CredentialsAtOnce,
    workspace: Workspace,
    *,
    ask: bool,
    device: str = "",
) -> Chosen:
    """What a profile signs in with: asked for, or the most specific that is kept. :class:`NotFound` without any."""
    kinds = profile.needs
    if ask:
        if any(kind not in ASKED for kind in kinds):
            raise UsageError("a key cannot be entered by hand", next_step="Import it: zesty import FILE")
        label = profile.credentials_label
        asked = {kind: ask_credentials(label, kind, workspace.interaction)[0] for kind in kinds}
        return Chosen(asked, "those just entered")
    kept = layered_store.choose_credentials(profile, device or workspace.device())
    secrets: dict[CredentialsKind, Credentials] = {}
    words = []
    rows = []
    for kind in (*kinds, *profile.useful):
        row, whom = kept.get(kind, (None, ""))
        if row is None and kind not in kinds:
            continue
        if row is None:
            raise _missing(profile, kind)
        secrets[kind] = layered_store.open_credentials(row, whom)
        rows.append((row, whom))
        words.append(f"those for {row.scope}, from {row.origin}, {_age(row.imported_at, workspace.now())}")
    return Chosen(secrets, "; ".join(dict.fromkeys(words)), tuple(rows))


def note_sign_in(chosen: Chosen, workspace: Workspace) -> None:
    """A gateway has accepted them: newer ones from a kit do not replace them without asking."""
    try:
        with workspace.layered_store() as layered_store:
            for row, whom in chosen.rows:
                layered_store.note_sign_in(row, whom)
    except BurrowError as problem:
        logging.getLogger(__name__).debug("the sign-in was not noted: %s", problem)


def _missing(profile: Profile, kind: CredentialsKind) -> NotFound:
    label = profile.credentials_label
    ways = {
        CredentialsKind.NAME_PASSWORD: f"Import the two lines: zesty import FILE --provider {label!r}; or --ask.",
        CredentialsKind.PRE_SHARED_KEY: f"Enter it: zesty credentials change {label!r} --kind pre-shared-key",
        CredentialsKind.PROXY_PASSWORD: f"Enter them: zesty credentials change {label!r} --kind proxy-name-password",
    }
    way = ways.get(kind, f"Import the key with its certificate: zesty import FILE … --provider {label!r}")
    why = f"profile {profile.name} needs a {kind}"
    return NotFound(f"there are no credentials for {label!r}", why=why, next_step=way)


def _age(imported_at: str, now: datetime) -> str:
    then = datetime.strptime(imported_at, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC)
    days = (now - then).days
    return "from today" if days <= 0 else "one day old" if days == 1 else f"{days} days old"


@contextmanager
def explained(chosen: Chosen) -> Iterator[None]:
    """A refusal tells which credentials were used, from where, how old, and what slips to look for."""
    try:
        yield
    except SignInRefused as refusal:
        words = [refusal.why] if refusal.why else []
        words.append(f"the credentials used were {chosen.words}")
        for value in chosen.secrets.values():
            if isinstance(value, NamePassword):
                said = f"their login domain is {value.domain!r}" if value.domain else "they have no login domain"
                words.append(said)
            words += [f"the {part} {slip}" for part, slip in slips(value)]
        refusal.why = "; ".join(words)
        refusal.next_step = (
            "Those for the provider's web page are usually not the ones for manual set-up: look for these on its page. "
            "Then `zesty credentials change`, and `zesty credentials try` to see whether they work."
        )
        raise


def slips(value: Credentials) -> list[tuple[str, str]]:
    """What is worth a look in what was refused; never the values themselves."""
    if not isinstance(value, NamePassword):
        return []
    found = [("name", slip) for slip in paste_slips(value.name)]
    found += [("password", slip) for slip in paste_slips(value.password.text())]
    if "@" in value.name:
        found.append(("name", "looks like the mail address of a web page's account"))
    if value.name == value.password.text():
        found.append(("password", "is the same as the name"))
    return found
