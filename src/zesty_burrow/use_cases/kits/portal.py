"""A provider's portal: its places, and the kits that it offers."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.credentials.ask import ask_credentials
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.gather.portal import PortalClient, PortalPlace


@dataclass(frozen=True, slots=True)
class PortalRequest:
    """``account``: a file of two lines, account and password; empty: ask. ``authority``: a file with the portal's CA.

    ``places``: only their settings; empty: all.
    """

    account: str = ""
    authority: str = ""
    places: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class PortalPlaces:
    """``recommended``: a place's name, and why."""

    places: tuple[PortalPlace, ...]
    recommended: str
    reason: str


def list_places(url: str, request: PortalRequest, workspace: Workspace) -> PortalPlaces:
    """What a portal offers. Raises :class:`OutsideError`, :class:`SignInRefused`."""
    client = _signed_in(url, request, workspace)
    places = tuple(client.places())
    return PortalPlaces(places, *client.recommendation())


def fetch_kit_files(url: str, request: PortalRequest, workspace: Workspace) -> tuple[str, list[KitFile]]:
    """The portal's host, and the kits of the wanted places with the credentials for manual set-up.

    Raises :class:`NotFound` for a place that the portal does not have.
    """
    client = _signed_in(url, request, workspace)
    host = urlsplit(url).hostname or url
    wanted = list(dict.fromkeys(request.places)) or ["all"]
    if request.places:
        known = {place.name for place in client.places()}
        missing = [name for name in wanted if name not in known]
        if missing:
            there = ", ".join(sorted(known)[:20])
            raise NotFound(
                f"the portal has no place {missing[0]!r}", why=f"it has {there}", next_step="See `zesty portal`."
            )
    files = []
    for place in wanted:
        with workspace.interaction.progress(f"Fetching {place}") as progress:
            files.append(KitFile(f"{host}/{place}.zip", client.kit(place, progress), 0o600))
    account, _ = client.credentials()
    text = f"{account.name}\n{account.password.text()}\n"
    files.append(KitFile(f"{host}/credentials.txt", text.encode(), 0o600))
    return host, files


def _signed_in(url: str, request: PortalRequest, workspace: Workspace) -> PortalClient:
    from zesty_burrow.gather.portal import PortalClient

    client = PortalClient(url, Path(request.authority) if request.authority else None)
    host = urlsplit(url).hostname or url
    account, _ = ask_credentials(host, CredentialsKind.NAME_PASSWORD, workspace.interaction, request.account)
    if not isinstance(account, NamePassword):
        raise UsageError("an account and a password are needed")
    client.sign_in(account)
    return client
