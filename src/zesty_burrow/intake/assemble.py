"""Puts together what belongs together in a kit, by what it is: keys, certificates, authorities, profiles, secrets."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.names import canonical, same_name
from zesty_burrow.core.certificates.revocation import list_problem, revocation_findings
from zesty_burrow.core.credentials import ClientKey, Credentials, RawKey, Scope, kind_of
from zesty_burrow.core.credentials import Kind as CredentialsKind
from zesty_burrow.core.finding import finding
from zesty_burrow.core.profile import PEM_MARK, Profile
from zesty_burrow.errors import Malformed
from zesty_burrow.intake.kit import FoundCredentials, FoundProfile
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.reader import RawProfile, RawSecret, Reader
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
from zesty_burrow.intake.readers.keys import FoundKey, public_octets
from zesty_burrow.intake.readers.places import place_in_name
from zesty_burrow.intake.recognise import Kind
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.text import content_digest, write_profile


def join(reader: Reader) -> tuple[list[FoundProfile], list[FoundCredentials]]:
    """Profiles that stand on their own, and credentials with whom they are for; the reader hears of the rest."""
    joining = _Joining(reader)
    joining.match_keys()
    for raw in reader.profiles:
        joining.finish(raw)
    joining.tell_certificates()
    joining.tell_lists()
    return joining.profiles, joining.label()


class _Joining:
    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.profiles: list[FoundProfile] = []
        self._by_path: dict[str, FoundProfile] = {}
        self._names: dict[str, str] = {}
        self._by_label: dict[tuple[str, CredentialsKind], set[Credentials]] | None = None
        self._kinds: set[CredentialsKind] = set()
        self._at = {path: path for path in reader.certificates}
        self._at |= {path: first for path, first in reader.copies.items() if first in reader.certificates}
        self._by_file_name: dict[str, set[str]] = {}
        for path, first in self._at.items():
            self._by_file_name.setdefault(path.rpartition("/")[2].casefold(), set()).add(first)
        self._contents: dict[str, str] = {}
        self._used: set[str] = set()
        self._certificates = list(
            dict.fromkeys(one for entry in reader.certificates.values() for one in entry.certificates)
        )
        issuing = {
            path: [one for one in entry.certificates if trust.is_authority(one)]
            for path, entry in reader.certificates.items()
        }
        self._issuing = {
            path: b"".join(one.public_bytes(Encoding.PEM) for one in found).decode()
            for path, found in issuing.items()
            if found
        }
        self._anchors = [one for one in self._certificates if trust.is_authority(one)]
        self._lists: list[tuple[str, x509.CertificateRevocationList]] = []
        self._attached: set[str] = set()
        self._judged: set[x509.Certificate] = set()
        for member, entry in reader.lists:
            problem = list_problem(entry, self._anchors, reader.now)
            if problem:
                reader.leave(member, Kind.REVOCATION, "revocation-list-unusable", problem)
            else:
                self._lists.append((member.path, entry))

    # Keys and the certificates that they fit.

    def match_keys(self) -> None:
        """Each private key with its certificate, and the path above it."""
        reader = self.reader
        leaves = [one for one in self._certificates if not trust.is_authority(one)]
        by_key = {public_octets(one.public_key()): one for one in leaves}
        wants_raw = any(raw.profile.sign_in.method == "raw-public-key" for raw in reader.profiles)
        for member, key in reader.keys:
            own = by_key.get(key.public)
            if own is not None:
                self._take_client_key(member, key, own)
            elif wants_raw:
                reader.secrets.append(RawSecret(member, RawKey(key.secret)))
            elif leaves:
                reader.leave(member, Kind.KEY, "key-mismatch", f"{key.kind}; {_count(leaves)}")
            else:
                reader.leave(member, Kind.KEY, "key-without-certificate", key.kind)
        self._kinds = {kind_of(secret.value) for secret in reader.secrets}

    def _take_client_key(self, member: KitFile, key: FoundKey, own: x509.Certificate) -> None:
        reader = self.reader
        now = reader.now
        path = trust.find_path(own, self._certificates, self._anchors) or [own]
        between = [one for one in path[1:] if not same_name(one.subject, one.issuer)]
        chain = tuple(one.public_bytes(Encoding.PEM).decode() for one in (own, *between))
        reader.secrets.append(RawSecret(member, ClientKey(key.secret, chain)))
        reader.findings += [*trust.date_findings(own, now), *trust.strength_findings(own), *trust.client_findings(own)]
        lists = [entry for _, entry in self._lists]
        if len(path) > 1:
            reader.findings += trust.path_findings(path, now, lists)
        for at, entry in reader.certificates.items():
            if own in entry.certificates:
                self._used.add(at)

    # Profiles.

    def finish(self, raw: RawProfile) -> None:
        """Authorities and revocation lists inside, place and name settled, judged."""
        reader = self.reader
        named = replace(
            raw.profile, authorities=tuple(self._authority(raw.member, one) for one in raw.profile.authorities)
        )
        profile = self._settle(raw, self._with_lists(self._attach(raw, named)))
        text = write_profile(profile)
        content = content_digest(profile, text)
        if content in self._contents:
            reader.leave(raw.member, Kind.PROFILE, "kit-same-content", f"the same as {self._contents[content]}")
            return
        self._contents[content] = raw.path
        if profile.name in self._names:
            profile = replace(profile, name=_unique(profile.name, self._names))
            text = write_profile(profile)
            reader.findings.append(finding("profile-renamed", raw.path, f"it is now {profile.name}"))
        self._names[profile.name] = raw.path
        reader.findings += check_profile(profile, reader.now)
        reader.keep(raw.path, Kind.PROFILE, profile.place)
        found = FoundProfile(raw.path, profile, text, content)
        self._by_path[raw.path] = found
        self.profiles.append(found)

    def _settle(self, raw: RawProfile, profile: Profile) -> Profile:
        """What the settings leave open: the place by the file's or the gateway's name, the sign-in by what came."""
        if not profile.country:
            place = place_in_name(raw.member.path)
            if not place.country and profile.gateway.addresses:
                place = place_in_name(profile.gateway.addresses[0].partition(".")[0])
            if place.country and (not profile.city or place.city in ("", profile.city)):
                profile = replace(profile, country=place.country, city=profile.city or place.city)
                self.reader.findings.append(finding("place-from-name", raw.path, profile.place))
        open_method = raw.by_template and profile.sign_in.method == "eap-mschapv2"
        only_keys = CredentialsKind.CLIENT_KEY in self._kinds and CredentialsKind.NAME_PASSWORD not in self._kinds
        if open_method and only_keys:
            profile = replace(profile, sign_in=replace(profile.sign_in, method="certificate"))
        return profile

    def _attach(self, raw: RawProfile, profile: Profile) -> Profile:
        """The kit's own authorities, for a profile that names none (a sheet or a table cannot)."""
        if profile.authorities or profile.sign_in.gateway != "certificate":
            return profile
        if self._issuing:
            self._used |= set(self._issuing)
            self.reader.findings.append(finding("authority-attached", raw.path, ", ".join(self._issuing)))
        return replace(profile, authorities=tuple(dict.fromkeys(self._issuing.values())))

    def _with_lists(self, profile: Profile) -> Profile:
        """Revocation lists by the authorities that the profile trusts."""
        own = list(profile.revocation_lists)
        if not self._lists:
            return profile
        anchors = _loaded(profile.authorities)
        for path, entry in self._lists:
            pem = entry.public_bytes(Encoding.PEM).decode()
            if any(same_name(one.subject, entry.issuer) for one in anchors) and pem not in own:
                own.append(pem)
                self._attached.add(path)
        return replace(profile, revocation_lists=tuple(own))

    def _authority(self, member: KitFile, entry: str) -> str:
        """The PEM text for an entry of trust.authorities; the entry itself where the file is nowhere."""
        if PEM_MARK in entry:
            return entry
        beside = f"{member.folder}/{entry}" if member.folder else entry
        by_name = self._by_file_name.get(entry.casefold(), set())
        path = self._at.get(beside) or (next(iter(by_name)) if len(by_name) == 1 else "")
        if path:
            self._used.add(path)
            return self.reader.certificates[path].pem
        data = self.reader.given.neighbour(entry)
        if data is None:
            return entry
        try:
            certificates = read_certificates_untrusted(data)
        except Malformed as problem:
            self.reader.findings.append(finding("kit-unreadable", entry, str(problem)))
            return entry
        return b"".join(one.public_bytes(Encoding.PEM) for one in certificates).decode()

    # What is left.

    def tell_certificates(self) -> None:
        """Each file of certificates: the profiles' authority, this side's own, the gateway's own, or unused."""
        key_files = {member.path for member, _ in self.reader.keys}
        for path, entry in self.reader.certificates.items():
            if path in key_files:
                continue
            if path in self._issuing and path in self._used:
                self.reader.keep(path, Kind.CERTIFICATE, "the profiles' authority")
            elif path in self._used:
                self.reader.keep(path, Kind.CERTIFICATE, "part of a path of certificates")
            elif trust.is_authority(entry.certificates[0]) or not self._is_gateways_own(path):
                self.reader.leave(entry.member, Kind.CERTIFICATE, "kit-certificate-unused")

    def _is_gateways_own(self, path: str) -> bool:
        """Judge a gateway's own certificate against the profiles of the kit."""
        entry = self.reader.certificates[path]
        leaf = entry.certificates[0]
        if not self.profiles or not trust.names_hosts(leaf) or trust.usage_findings(leaf):
            return False
        if leaf in self._judged:
            self.reader.leave(entry.member, Kind.CERTIFICATE, "gateway-certificate")
            return True
        self._judged.add(leaf)
        fitting = [one.profile for one in self.profiles if trust.holds_name(leaf, one.profile.gateway_identity)]
        if not fitting:
            wanted = self.profiles[0].profile.gateway_identity.value
            words = f"no profile's gateway is called so, {wanted} for one"
            self.reader.findings.append(finding("certificate-wrong-name", trust.subject_name(leaf), words))
        else:
            lists = [one for _, one in self._lists]
            others = [*entry.certificates[1:], *self._certificates]
            self.reader.findings += trust.judge_path(
                leaf, others, _loaded(fitting[0].authorities), self.reader.now, lists
            )
        self.reader.leave(entry.member, Kind.CERTIFICATE, "gateway-certificate")
        return True

    def tell_lists(self) -> None:
        """Each revocation list, and the authorities that it speaks of."""
        by_name = {canonical(one.subject): one for one in self._anchors}
        issuers = ((one, by_name.get(canonical(one.issuer))) for one in self._anchors)
        pairs = [(one, issuer) for one, issuer in issuers if issuer is not None and issuer is not one]
        for path, entry in self._lists:
            if path in self._attached:
                count = len(entry)
                self.reader.keep(path, Kind.REVOCATION, f"{count} certificates" if count != 1 else "one certificate")
            else:
                member = next(member for member, one in self.reader.lists if one is entry)
                self.reader.leave(member, Kind.REVOCATION, "kit-certificate-unused", "no profile trusts its authority")
            for anchor, issuer in pairs:
                self.reader.findings += revocation_findings(anchor, issuer, [entry], self.reader.now)

    # Credentials.

    def label(self) -> list[FoundCredentials]:
        """Credentials with whom they are for: what was named, else the profile's label that they came with."""
        reader = self.reader
        given = reader.given
        labels = {entry.profile.credentials_label for entry in self.profiles}
        common = reader.provider or (next(iter(labels)) if len(labels) == 1 else "")
        result = list(reader.labelled)
        taken: dict[tuple[Scope, CredentialsKind], Credentials] = {}
        for secret in self._in_order():
            kind = kind_of(secret.value)
            scope = self._scope(secret, kind, common)
            item = Kind.KEY if isinstance(secret.value, ClientKey | RawKey) else Kind.CREDENTIALS
            if scope is None:
                reader.items.append(reader.item(secret.member.path, item, "say whose with --provider or --profile"))
            elif taken.get((scope, kind), secret.value) != secret.value:
                reader.leave(secret.member, item, "kit-several-credentials", f"more than one {kind} for {scope}")
            elif (scope, kind) not in taken:
                taken[scope, kind] = secret.value
                reader.keep(secret.member.path, item, f"for {scope}")
                result.append(FoundCredentials(secret.member.path, scope, secret.value))
        if self.profiles and not result and not given.profile:
            reader.findings.append(finding("kit-no-credentials", reader.origin))
        return result

    def _in_order(self) -> Iterable[RawSecret]:
        """Those that came by themselves first: they are meant for all."""
        return sorted(self.reader.secrets, key=lambda one: bool(one.owner))

    def _scope(self, secret: RawSecret, kind: CredentialsKind, common: str) -> Scope | None:
        given = self.reader.given
        owner = self._by_path.get(secret.owner)
        if given.profile:
            return Scope(common, given.device, given.profile)
        if owner is None:
            return Scope(common, given.device) if common else None
        label = owner.profile.credentials_label
        alone = len(self._values().get((label, kind), set()) | self._values().get(("", kind), set())) == 1
        return Scope(label, given.device) if alone else Scope(label, given.device, owner.profile.name)

    def _values(self) -> dict[tuple[str, CredentialsKind], set[Credentials]]:
        """All values of a kind by the label that they came with; without one, those that came by themselves."""
        if self._by_label is None:
            self._by_label = {}
            for one in self.reader.secrets:
                key = (self._label_of(one.owner) if one.owner else ""), kind_of(one.value)
                self._by_label.setdefault(key, set()).add(one.value)
        return self._by_label

    def _label_of(self, path: str) -> str:
        owner = self._by_path.get(path)
        return owner.profile.credentials_label if owner else ""


def _loaded(authorities: Iterable[str]) -> list[x509.Certificate]:
    found: list[x509.Certificate] = []
    for entry in authorities:
        if PEM_MARK in entry:
            try:
                found += trust.load_pem_certificates_untrusted(entry.encode())
            except Malformed:
                continue
    return found


def _count(leaves: list[x509.Certificate]) -> str:
    names = ", ".join(trust.subject_name(one) for one in leaves[:3])
    return f"the certificates are for {names}"


def _unique(name: str, taken: dict[str, str]) -> str:
    number = 2
    while f"{name[:60]}-{number}" in taken:
        number += 1
    return f"{name[:60]}-{number}"
