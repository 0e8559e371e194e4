"""The demo kit, as the provider Quillwort Relay would hand it over."""

from __future__ import annotations

import csv
import io
import zipfile
from ipaddress import ip_network

from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from cryptography.x509 import load_der_x509_certificate
from cryptography.x509.oid import ExtendedKeyUsageOID

from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.profile import Gateway, Profile, SignIn, Traffic
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import Authority, issue
from zesty_burrow.profiles.text import write_profile
from zesty_burrow.protocols.ikev2.settings import IkeSettings
from zesty_burrow.records import dataclass, replace

AUTHORITY_FILE = "quillwort-authority.pem"
CREDENTIALS_FILE = "credentials.txt"
READ_ME = f"""{story.PROVIDER}: settings for manual set-up

This archive holds one profile for each of our places, the certificate of our authority, and the credentials that
are meant for manual set-up. They are not the ones for our web page.

Keep the credentials to yourself. Questions: help@{story.DOMAIN}
"""


def place_profile(place: story.Site) -> Profile:
    """The profile of one place; its authority is a file beside it."""
    return Profile(
        name=f"quillwort-{place.name}",
        provider=story.PROVIDER,
        country=place.country,
        city=place.city,
        gateway=Gateway((place.host_name,)),
        settings=IkeSettings(identity=Identity(IdType.ID_FQDN, place.host_name)),
        sign_in=SignIn(credentials=story.PROVIDER),
        authorities=(AUTHORITY_FILE,),
    )


L2TP = "l2tp"
SIGN_INS = ("password", "certificate", "shared-key", "raw-key", "eap-tls", "eap-tls-alone", "two-rounds", L2TP)
"""By IKEv2; the last one by L2TP over IPsec."""
_BY_CERTIFICATE = {
    "certificate": SignIn(method="certificate"),
    "eap-tls": SignIn(method="eap-tls"),
    "eap-tls-alone": SignIn("eap", "eap-tls"),
    "two-rounds": SignIn(method="certificate+eap-mschapv2"),
}


@dataclass(frozen=True, slots=True)
class Account:
    """An account at the office's gateway, with what each way to sign in needs."""

    name: str
    password: str
    key: PrivateKey
    gateway_key: PrivateKey
    shared_key: str = ""


def office_files(
    place: story.Site, authority: Authority, account: Account, sign_in: str, *, everything: bool
) -> dict[str, str]:
    """What the office's own gateway exports for an account: for the office's network alone, or for all traffic."""
    traffic = Traffic() if everything else Traffic(networks=(ip_network(story.OFFICE_NETWORK),))
    if sign_in in ("shared-key", L2TP):
        return {"office.txt": _office_sheet(place, account, everything=everything, by_l2tp=sign_in == L2TP)}
    profile = Profile(
        name="office-everything" if everything else "office",
        provider=place.provider,
        country=place.country,
        city=place.city,
        gateway=Gateway((place.host_name,)),
        settings=IkeSettings(identity=Identity(IdType.ID_FQDN, place.host_name)),
        authorities=("office-authority.pem",),
        traffic=traffic,
    )
    key = account.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()
    files = {"office-authority.pem": authority.pem().decode()}
    if sign_in in _BY_CERTIFICATE:
        der = issue(
            authority, account.key, f"{account.name}.{story.OFFICE_SUFFIX}", purposes=(ExtendedKeyUsageOID.CLIENT_AUTH,)
        )
        files["me.pem"] = key + load_der_x509_certificate(der).public_bytes(Encoding.PEM).decode()
        profile = replace(profile, sign_in=_BY_CERTIFICATE[sign_in])
    elif sign_in == "raw-key":
        files = {"me.key": key}
        public = account.gateway_key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode()
        own = Identity(IdType.ID_KEY_ID, account.name)
        profile = replace(
            profile,
            authorities=(),
            gateway_keys=(public,),
            sign_in=SignIn("raw-public-key", "raw-public-key"),
            settings=IkeSettings(identity=profile.settings.gateway_identity, own_identity=own),
        )
    if sign_in in ("password", "two-rounds"):
        files[CREDENTIALS_FILE] = f"{account.name}\n{account.password}\n"
    return {f"{profile.name}.toml": write_profile(profile), **files}


def _office_sheet(place: story.Site, account: Account, *, everything: bool, by_l2tp: bool) -> str:
    """A set-up sheet, as an IT department fills it in."""
    networks = "All traffic: yes" if everything else f"All traffic: no\nOffice networks: {story.OFFICE_NETWORK}"
    secrets = f"Shared secret: {account.password}\n"
    if by_l2tp:
        secrets = f"Protocol: L2TP/IPsec\nPassword: {account.password}\nShared secret: {account.shared_key}\n"
    return (
        f"Connection name: Office\nCompany: {place.provider}\nHost name: {place.host_name}\nCountry: {place.country}\n"
        f"Town: {place.city}\nUser name: {account.name}\n{secrets}{networks}\n"
    )


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


PLACES_FILE, L2TP_FILE = "places.csv", "lisbon-l2tp.txt"
_WAYS = (("IKEv2", "UDP", 500), ("IKEv2", "TCP", 4500), ("CONNECT-IP", "TCP", 443), ("CONNECT-IP", "UDP", 443))


def protocols_kit_files(authority_pem: bytes, password: str, shared_key: str) -> dict[str, bytes]:
    """Each place by each protocol and transport, as a table; the old gateway's built-in one, as a sheet."""
    heads = ["Name", "Provider", "Country", "Town", "Host name", "Protocol", "Transport", "Port", "Name servers"]
    servers = f"{story.RESOLVER4} {story.RESOLVER6}"
    rows = [
        [f"{place.city} {name} {over}", story.PROVIDER, place.country, place.city, place.host_name, name, over, port,
         servers if name != "IKEv2" else ""]
        for place in story.PLACES
        for name, over, port in _WAYS
    ]  # fmt: skip
    table = io.StringIO()
    csv.writer(table, lineterminator="\n").writerows([heads, *rows])
    old = story.PLACES[0]
    sheet = (
        f"Connection name: {old.city} L2TP\nProvider: {story.PROVIDER}\nHost name: {old.host_name}\n"
        f"Country: {old.country}\nTown: {old.city}\nProtocol: L2TP/IPsec\nUser name: {story.ACCOUNT}\n"
        f"Password: {password}\nShared secret: {shared_key}\n"
    )
    return {
        "README.txt": READ_ME.replace("one profile for", "every protocol of").encode(),
        AUTHORITY_FILE: authority_pem,
        PLACES_FILE: table.getvalue().encode(),
        L2TP_FILE: sheet.encode(),
    }


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
