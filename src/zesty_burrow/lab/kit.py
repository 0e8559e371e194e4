"""The demo kit, as the provider Quillwort Relay would hand it over."""

from __future__ import annotations

import io
import zipfile
from ipaddress import ip_network

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.ike.registry import IdType
from zesty_burrow.core.profile.model import Gateway, Profile, SignIn, Traffic
from zesty_burrow.core.profile.text import write_profile
from zesty_burrow.lab import story

AUTHORITY_FILE = "quillwort-authority.pem"
CREDENTIALS_FILE = "credentials.txt"
READ_ME = f"""{story.PROVIDER}: settings for manual set-up

This archive holds one profile for each of our places, the certificate of our authority, and the credentials that
are meant for manual set-up. They are not the ones for our web page.

Keep the credentials to yourself. Questions: help@{story.DOMAIN}
"""


def place_profile(place: story.Place) -> Profile:
    """The profile of one place; its authority is a file beside it."""
    return Profile(
        name=f"quillwort-{place.name}",
        provider=story.PROVIDER,
        country=place.country,
        city=place.city,
        gateway=Gateway((place.host_name,), identity=Identity(IdType.ID_FQDN, place.host_name)),
        sign_in=SignIn(credentials=story.PROVIDER),
        authorities=(AUTHORITY_FILE,),
    )


def office_files(
    place: story.Place, authority_pem: bytes, account: str, password: str, *, everything: bool
) -> dict[str, str]:
    """What her own office's gateway exports for an account: for the office's network alone, or for all traffic."""
    traffic = Traffic() if everything else Traffic(networks=(ip_network(story.OFFICE_NETWORK),))
    profile = Profile(
        name="office-everything" if everything else "office",
        provider=place.provider,
        country=place.country,
        city=place.city,
        gateway=Gateway((place.host_name,), identity=Identity(IdType.ID_FQDN, place.host_name)),
        authorities=("office-authority.pem",),
        traffic=traffic,
    )
    return {
        f"{profile.name}.toml": write_profile(profile),
        "office-authority.pem": authority_pem.decode(),
        CREDENTIALS_FILE: f"{account}\n{password}\n",
    }


def kit_files(authority_pem: bytes, password: str) -> dict[str, bytes]:
    """The files of the kit by path."""
    files = {
        "README.txt": READ_ME.encode(),
        AUTHORITY_FILE: authority_pem,
        CREDENTIALS_FILE: f"{story.ACCOUNT}\n{password}\n".encode(),
    }
    for place in story.PLACES:
        files[f"profiles/quillwort-{place.name}.toml"] = write_profile(place_profile(place)).encode()
    return files


def kit_archive(files: dict[str, bytes]) -> bytes:
    """The files as a ZIP archive; the same files give the same octets."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in sorted(files.items()):
            entry = zipfile.ZipInfo(name, (2026, 11, 1, 9, 0, 0))
            entry.external_attr = 0o100600 << 16
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, data)
    return stream.getvalue()
