"""Which credentials a connection uses, and what is said when a gateway refuses them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime

from zesty_burrow.commands.asking import ask_name_password
from zesty_burrow.commands.context import Context
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.errors import NotFound, SignInRefused
from zesty_burrow.intake.credentials import paste_slips
from zesty_burrow.store.shelves import Shelves


@dataclass(frozen=True)
class Chosen:
    """Name and password with where they come from, in words."""

    value: NamePassword
    words: str


def choose(profile: Profile, shelves: Shelves, context: Context, *, ask: bool, device: str = "") -> Chosen:
    """What a profile signs in with: asked for, or the most specific that is kept. :class:`NotFound` without any."""
    if ask:
        return Chosen(ask_name_password(profile.credentials_label)[0], "those that were typed in just now")
    kind = profile.sign_in.needs[0]
    row, whom = shelves.choose_credentials(profile, device or context.device()).get(kind, (None, ""))
    if row is None:
        label = profile.credentials_label
        raise NotFound(
            f"there are no credentials for {label!r}",
            why=f"profile {profile.name} needs a {kind}",
            next_step=f"Import the two-line credentials file: zesty import FILE --provider {label!r}; or say --ask.",
        )
    value = shelves.open_credentials(row, whom)
    if not isinstance(value, NamePassword):
        raise NotFound(f"the credentials for {row.scope} are of another kind", why=f"{kind} is needed")
    return Chosen(value, f"those for {row.scope}, from {row.origin}, {_age(row.imported_at, context.now())}")


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
        words += [f"the {part} {slip}" for part, slip in slips(chosen.value)]
        refusal.why = "; ".join(words)
        refusal.next_step = (
            "Those for the provider's web page are usually not the ones for manual set-up: look for these on its page. "
            "Then `zesty credentials change`, and `zesty credentials try` to see whether they work."
        )
        raise


def slips(value: NamePassword) -> list[tuple[str, str]]:
    """What is worth a look in a name and a password that were refused; never the values themselves."""
    found = [("name", slip) for slip in paste_slips(value.name)]
    found += [("password", slip) for slip in paste_slips(value.password.text())]
    if "@" in value.name:
        found.append(("name", "looks like the mail address of a web page's account"))
    if value.name == value.password.text():
        found.append(("password", "is the same as the name"))
    return found
