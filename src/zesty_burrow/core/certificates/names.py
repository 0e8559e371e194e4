"""Names in certificates: comparison (RFC 5280 §7.1) and name constraints (RFC 5280 §4.2.1.10)."""

from __future__ import annotations

import ipaddress
import unicodedata
from collections.abc import Iterable
from urllib.parse import urlsplit

from cryptography import x509
from cryptography.x509.oid import NameOID

from zesty_burrow.core.certificates.wrapped import name_of_der_untrusted
from zesty_burrow.core.identity import Identity

Rdn = frozenset[tuple[str, str]]
SUPPORTED = (x509.DirectoryName, x509.DNSName, x509.RFC822Name, x509.UniformResourceIdentifier, x509.IPAddress)


def canonical(name: x509.Name) -> tuple[Rdn, ...]:
    """A name in a form whose equality is that of RFC 5280 §7.1: letters folded, white space collapsed."""
    return tuple(frozenset((one.oid.dotted_string, _prepared(one.value)) for one in rdn) for rdn in name.rdns)


def _prepared(value: str | bytes) -> str:
    if isinstance(value, bytes):
        return value.hex()
    # RFC 4518 §2: mapped, normalised, and white space made insignificant.
    mapped = "".join(letter for letter in value if unicodedata.category(letter) not in ("Cc", "Cf") or letter.isspace())
    return " ".join(unicodedata.normalize("NFKC", mapped).casefold().split())


def same_name(one: x509.Name, other: x509.Name) -> bool:
    """Whether two distinguished names are equal."""
    return one == other or canonical(one) == canonical(other)


def name_matches(name: x509.Name, wanted: Identity) -> bool:
    """Whether a distinguished name is the one that is wanted, or holds the parts that are (RFC 4945 §3.1.5)."""
    own = canonical(name)
    parts = canonical(name_of_der_untrusted(wanted.octets()))
    if not wanted.is_pattern:
        return own == parts
    held = {attribute for rdn in own for attribute in rdn}
    return all(attribute in held for rdn in parts for attribute in rdn)


def names_of(certificate: x509.Certificate) -> list[x509.GeneralName]:
    """What name constraints apply to: the subject, its e-mail addresses, and the alternative names."""
    names: list[x509.GeneralName] = [x509.DirectoryName(certificate.subject)] if certificate.subject.rdns else []
    try:
        alternative = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        names += list(alternative)
    except x509.ExtensionNotFound:
        for attribute in certificate.subject.get_attributes_for_oid(NameOID.EMAIL_ADDRESS):
            names.append(x509.RFC822Name(str(attribute.value)))
    return names


def breaks_constraints(certificate: x509.Certificate, constraints: x509.NameConstraints) -> str:
    """The first name that an authority's constraints do not allow, for people; empty where all are allowed."""
    for name in names_of(certificate):
        allowed = [
            permitted_subtree
            for permitted_subtree in constraints.permitted_subtrees or ()
            if type(permitted_subtree) is type(name)
        ]
        barred = [
            excluded_subtree
            for excluded_subtree in constraints.excluded_subtrees or ()
            if type(excluded_subtree) is type(name)
        ]
        if (allowed and not any(_within(name, one) for one in allowed)) or any(_within(name, one) for one in barred):
            return str(name.value)[:120] if not isinstance(name, x509.DirectoryName) else name.value.rfc4514_string()
    return ""


def not_understood(constraints: x509.NameConstraints) -> bool:
    """Whether there is a kind of name in it that nobody here can compare (RFC 5280 §4.2.1.10: then reject)."""
    every: Iterable[x509.GeneralName] = [
        *(constraints.permitted_subtrees or ()),
        *(constraints.excluded_subtrees or ()),
    ]
    return any(not isinstance(one, SUPPORTED) for one in every)


def _within(name: x509.GeneralName, subtree: x509.GeneralName) -> bool:
    if isinstance(name, x509.DirectoryName) and isinstance(subtree, x509.DirectoryName):
        wanted, own = canonical(subtree.value), canonical(name.value)
        return own[: len(wanted)] == wanted
    if isinstance(name, x509.IPAddress) and isinstance(subtree, x509.IPAddress):
        return _address_within(name.value, subtree.value)
    if isinstance(name, x509.DNSName) and isinstance(subtree, x509.DNSName):
        return _dns_within(name.value, subtree.value)
    if isinstance(name, x509.RFC822Name) and isinstance(subtree, x509.RFC822Name):
        return _mail_within(name.value, subtree.value)
    if isinstance(name, x509.UniformResourceIdentifier) and isinstance(subtree, x509.UniformResourceIdentifier):
        try:
            host = urlsplit(name.value).hostname or ""
        except ValueError:
            return False
        return _host_within(host, subtree.value)
    return False


def _address_within(value: object, network: object) -> bool:
    if not isinstance(value, ipaddress.IPv4Address | ipaddress.IPv6Address):
        return False
    return isinstance(network, ipaddress.IPv4Network | ipaddress.IPv6Network) and (
        value.version == network.version and value in network
    )


def _dns_within(name: str, subtree: str) -> bool:
    """Zero or more labels to the left."""
    name, subtree = name.casefold(), subtree.casefold()
    return not subtree or name == subtree or name.endswith("." + subtree.lstrip("."))


def _host_within(host: str, subtree: str) -> bool:
    """A host alone, or with a leading dot everything below it."""
    host, subtree = host.casefold(), subtree.casefold()
    return host.endswith(subtree) and host != subtree.lstrip(".") if subtree.startswith(".") else host == subtree


def _mail_within(address: str, subtree: str) -> bool:
    local, at, host = address.rpartition("@")
    if "@" in subtree:
        own_local, _, own_host = subtree.rpartition("@")
        return local == own_local and host.casefold() == own_host.casefold()
    return bool(at) and _host_within(host, subtree)
