"""What is handed over, in the order in which a device takes it: certificates, settings, credentials."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from cryptography import x509

from zesty_burrow.core.credentials import ClientKey, Credentials, NamePassword, PreSharedKey, ProxyPassword, RawKey
from zesty_burrow.core.profile import Profile
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.profiles.text import write_profile

PEM = "-----BEGIN CERTIFICATE-----"


def earliest_end(profile: Profile, credentials: Iterable[Credentials]) -> str:
    """When the first certificate ends (RFC 3339); empty if none can be read."""
    pems = [authority for authority in profile.authorities if PEM in authority]
    for value in credentials:
        pems += value.certificates if isinstance(value, ClientKey) else ()
    ends = []
    for pem in pems:
        try:
            found = x509.load_pem_x509_certificates(pem.encode())
        except ValueError:
            continue
        ends += [one.not_valid_after_utc.strftime(TIME) for one in found]
    return min(ends, default="")


def files_of(profile: Profile, credentials: Mapping[str, Credentials]) -> dict[str, bytes]:
    """As files for a device without this program, by their names: certificates, settings, credentials.

    An additional key (RFC 8784) is left out: such a device takes none.
    """
    found: dict[str, bytes] = {}
    pems = [authority.strip() for authority in profile.authorities if PEM in authority]
    if pems:
        found[f"{profile.name}-authorities.pem"] = ("\n".join(pems) + "\n").encode()
    found[f"{profile.name}.toml"] = write_profile(profile).encode()
    for value in credentials.values():
        if isinstance(value, ClientKey):
            found[f"{profile.name}-certificate.pem"] = "\n".join(value.certificates).encode()
            found[f"{profile.name}-key.pem"] = value.key.octets()
        elif isinstance(value, NamePassword):
            found[f"{profile.name}-credentials.txt"] = f"{value.account}\n{value.password.text()}\n".encode()
        elif isinstance(value, ProxyPassword):
            found[f"{profile.name}-proxy.txt"] = f"{value.name}\n{value.password.text()}\n".encode()
        elif isinstance(value, PreSharedKey):
            found[f"{profile.name}-shared-key.txt"] = value.key.octets() + b"\n"
        elif isinstance(value, RawKey):
            found[f"{profile.name}-raw-key.pem"] = value.key.octets()
    return found
