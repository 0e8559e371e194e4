"""Puts together what belongs together in a kit, by what it is: keys, certificates, authorities, profiles, secrets."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.names import canonical, same_name
from zesty_burrow.core.certificates.revocation import revocation_findings, signature_problem
from zesty_burrow.core.credentials import ClientKey, Credentials, RawKey, kind_of
from zesty_burrow.core.finding import finding
from zesty_burrow.core.profile import PEM_MARK, RESERVED_NAMES, Profile
from zesty_burrow.core.scope import CredentialsKind, Scope
from zesty_burrow.errors import BurrowError, Malformed
from zesty_burrow.intake.found import Found, RawProfile, RawSecret, Record
from zesty_burrow.intake.kit import FoundCredentials, FoundProfile, Surroundings
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
from zesty_burrow.intake.readers.keys import FoundKey, public_octets
from zesty_burrow.intake.readers.places import other_spelling, place_in_name
from zesty_burrow.intake.recognise import FileKind
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.text import content_digest, write_profile
from zesty_burrow.records import dataclass, replace


@dataclass(frozen=True, slots=True)
class Assembled:
    """Profiles that are complete, credentials with whom they are for, and what became of the rest."""

    profiles: tuple[FoundProfile, ...]
    credentials: tuple[FoundCredentials, ...]
    record: Record
    authorities: tuple[tuple[str, str], ...] = ()


def assemble(found: Found, origin: str, now: datetime, given: Surroundings) -> Assembled:
    """Put together what belongs together; ``found`` stays as it is."""
    joining = _Assembly(found, origin, now, given)
    joining.match_keys()
    joining.name_providers()
    for raw in found.profiles:
        try:
            joining.finish(raw)
        except BurrowError:
            raise
        except Exception as problem:
            joining.record.fault(raw.member, FileKind.PROFILE, problem)
    joining.tell_certificates()
    joining.tell_lists()
    credentials = joining.label()
    return Assembled(tuple(joining.profiles), tuple(credentials), joining.record, tuple(joining.pool.issuing.items()))


@dataclass(frozen=True, slots=True)
class _Pool:
    """A kit's certificates. ``at``: the file that a path stands for, its own or the first with the same content;
    ``by_file_name``: files by their names alone; ``issuing``: authorities by file, as PEM; ``anchors``: the same.
    """

    at: dict[str, str]
    by_file_name: dict[str, set[str]]
    certificates: list[x509.Certificate]
    anchors: list[x509.Certificate]
    issuing: dict[str, str]

    @classmethod
    def of(cls, found: Found) -> _Pool:
        at = {path: path for path in found.certificates}
        at |= {path: first for path, first in found.copies.items() if first in found.certificates}
        by_file_name: dict[str, set[str]] = {}
        for path, first in at.items():
            by_file_name.setdefault(path.rpartition("/")[2].casefold(), set()).add(first)
        every = list(
            dict.fromkeys(certificate for entry in found.certificates.values() for certificate in entry.certificates)
        )
        issuing = {
            path: b"".join(
                certificate.public_bytes(Encoding.PEM)
                for certificate in entry.certificates
                if trust.is_authority(certificate)
            )
            for path, entry in found.certificates.items()
        }
        texts = {path: pem.decode() for path, pem in issuing.items() if pem}
        return cls(at, by_file_name, every, [one for one in every if trust.is_authority(one)], texts)


class _Assembly:
    def __init__(self, found: Found, origin: str, now: datetime, given: Surroundings) -> None:
        self.record = Record()
        self.profiles: list[FoundProfile] = []
        self._found, self._origin, self._now, self._given = found, origin, now, given
        self._secrets = list(found.secrets)
        self._by_path: dict[str, FoundProfile] = {}
        self._common_provider = ""
        self._names: dict[str, set[str]] = {}
        self._last_number: dict[str, int] = {}
        self._by_label: dict[tuple[str, CredentialsKind], set[Credentials]] | None = None
        self._kinds: dict[str, set[CredentialsKind]] = {}
        self.pool = _Pool.of(found)
        self._contents: dict[str, str] = {}
        self._used: set[str] = set()
        self._lists: list[tuple[str, x509.CertificateRevocationList]] = []
        self._attached: set[str] = set()
        self._judged: set[x509.Certificate] = set()
        for member, entry in found.lists:
            problem = signature_problem(entry, self.pool.anchors)
            if problem:
                self.record.leave(member, FileKind.REVOCATION, "revocation-list-unusable", problem)
            else:
                self._lists.append((member.path, entry))

    # Keys and the certificates that they fit.

    def match_keys(self) -> None:
        """Each private key with its certificate, and the path above it."""
        leaves = [certificate for certificate in self.pool.certificates if not trust.is_authority(certificate)]
        by_key = {public_octets(leave.public_key()): leave for leave in leaves}
        wants_raw = any(raw.profile.sign_in.method == "raw-public-key" for raw in self._found.profiles)
        for member, key in self._found.keys:
            own = by_key.get(key.public)
            if own is not None:
                self._take_client_key(member, key, own)
            elif wants_raw:
                self._secrets.append(RawSecret(member, RawKey(key.secret)))
            elif leaves:
                self.record.leave(member, FileKind.KEY, "key-mismatch", f"{key.kind}; {_count(leaves)}")
            else:
                self.record.leave(member, FileKind.KEY, "key-without-certificate", key.kind)
        for secret in self._secrets:
            self._kinds.setdefault(secret.member.source.group, set()).add(kind_of(secret.value))

    def _kinds_for(self, group: str) -> set[CredentialsKind]:
        """The kinds of secrets that came with a group, or in none; all of them for what is in no group."""
        groups = (group, "") if group else tuple(self._kinds)
        return set().union(*(self._kinds.get(one, set()) for one in groups))

    def _take_client_key(self, member: KitFile, key: FoundKey, own: x509.Certificate) -> None:
        now = self._now
        path = trust.find_path(own, self.pool.certificates, self.pool.anchors) or [own]
        between = [one for one in path[1:] if not same_name(one.subject, one.issuer)]
        chain = tuple(one.public_bytes(Encoding.PEM).decode() for one in (own, *between))
        self._secrets.append(RawSecret(member, ClientKey(key.secret, chain)))
        self.record.findings += [
            *trust.date_findings(own, now),
            *trust.strength_findings(own),
            *trust.client_findings(own),
        ]
        lists = [entry for _, entry in self._lists]
        if len(path) > 1:
            self.record.findings += trust.path_findings(path, now, lists)
        for at, entry in self._found.certificates.items():
            if own in entry.certificates:
                self._used.add(at)

    # Profiles.

    def name_providers(self) -> None:
        """Whose several gateways are that say it nowhere, where credentials came with them: their common domain's."""
        given = self._given
        if (
            given.provider
            or given.profile
            or self._found.providers
            or not any(not secret.owner for secret in self._secrets)
        ):
            return
        open_ones = [raw.profile for raw in self._found.profiles if not raw.profile.provider]
        if len(open_ones) < 2 or len(open_ones) < len(self._found.profiles):
            return
        names = [one.gateway.addresses[0].lower().split(".")[::-1] for one in open_ones]
        common = [labels[0] for labels in zip(*names, strict=False) if len(set(labels)) == 1]
        if len(common) >= 2 and not common[0].isdigit():
            self._common_provider = ".".join(common[::-1])
            self.record.findings.append(finding("provider-from-hosts", self._origin, self._common_provider))

    def finish(self, raw: RawProfile) -> None:
        """Authorities and revocation lists inside, place and name settled, judged."""
        named = replace(
            raw.profile,
            authorities=tuple(self._authority(raw.member, authority) for authority in raw.profile.authorities),
        )
        named = replace(named, provider=named.provider or self._common_provider)
        profile = self._settle(raw, self._with_lists(self._attach(raw, named)))
        text = write_profile(profile)
        content = content_digest(profile, text)
        if content in self._contents:
            self.record.leave(
                raw.member, FileKind.PROFILE, "kit-same-content", f"the same as {self._contents[content]}"
            )
            return
        self._contents[content] = raw.path
        group = raw.member.source.group
        if group in self._names.get(profile.name, ()) or profile.name in RESERVED_NAMES:
            profile = replace(profile, name=self._unique(profile.name))
            text = write_profile(profile)
            self.record.findings.append(finding("profile-renamed", raw.path, f"it is now {profile.name}"))
        # One of another group is a newer or older edition, about which is decided when it is compared with the store.
        self._names.setdefault(profile.name, set()).add(group)
        self.record.findings += check_profile(profile, self._now)
        self.record.keep(raw.path, FileKind.PROFILE, profile.place)
        found = FoundProfile(raw.path, profile, text, content, raw.member.source.name or self._origin)
        self._by_path[raw.path] = found
        self.profiles.append(found)

    def _unique(self, name: str) -> str:
        """The name with the next number that is free. Names are never given back, so lower numbers stay taken."""
        stem = name[:60]
        number = self._last_number.get(stem, 1) + 1
        while f"{stem}-{number}" in self._names:
            number += 1
        self._last_number[stem] = number
        return f"{stem}-{number}"

    def _settle(self, raw: RawProfile, profile: Profile) -> Profile:
        """What the settings leave open: the place by the file's or the gateway's name, the sign-in by what came."""
        if not profile.country:
            place = place_in_name(raw.member.path)
            if not place.country and profile.gateway.addresses:
                place = place_in_name(profile.gateway.addresses[0].partition(".")[0])
            if not place.country and profile.city:
                place = place_in_name(f"{profile.city}.")
            called = other_spelling(profile.city) or profile.city
            if place.country and (not profile.city or place.city in ("", called)):
                profile = replace(profile, country=place.country, city=profile.city or place.city)
                self.record.findings.append(finding("place-from-name", raw.path, profile.place))
        elif not profile.city and profile.gateway.addresses:
            place = place_in_name(profile.gateway.addresses[0].partition(".")[0])
            if place.city and place.country == profile.country:
                profile = replace(profile, city=place.city)
                self.record.findings.append(finding("place-from-name", raw.path, profile.place))
        open_method = raw.by_template and profile.sign_in.method == "eap-mschapv2"
        kinds = self._kinds_for(raw.member.source.group)
        only_keys = CredentialsKind.CLIENT_KEY in kinds and CredentialsKind.NAME_PASSWORD not in kinds
        if open_method and only_keys:
            profile = replace(profile, sign_in=replace(profile.sign_in, method="certificate"))
        return profile

    def _attach(self, raw: RawProfile, profile: Profile) -> Profile:
        """The kit's own authorities, for a profile that names none (a sheet or a table cannot)."""
        if profile.authorities or profile.sign_in.gateway != "certificate":
            return profile
        issuing = self._issuing_for(raw.member.source.group)
        if issuing:
            self._used |= set(issuing)
            self.record.findings.append(finding("authority-attached", raw.path, ", ".join(issuing)))
        return replace(profile, authorities=tuple(dict.fromkeys(issuing.values())))

    def _issuing_for(self, group: str) -> dict[str, str]:
        """The authorities of the profile's own group; those that are in none; else all that came."""
        groups = {path: self._found.certificates[path].member.source.group for path in self.pool.issuing}
        for one in (group, ""):
            own = {path: pem for path, pem in self.pool.issuing.items() if groups[path] == one}
            if own:
                return own
        return self.pool.issuing

    def _beside(self, member: KitFile, name: str) -> bytes | None:
        """A file beside one that was named itself."""
        look = self._given.neighbours.get(member.path)
        return look(name) if look else None

    def _with_lists(self, profile: Profile) -> Profile:
        """Revocation lists by the authorities that the profile trusts."""
        own = list(profile.revocation_lists)
        if not self._lists:
            return profile
        anchors = _loaded(profile.authorities)
        for path, entry in self._lists:
            pem = entry.public_bytes(Encoding.PEM).decode()
            if any(same_name(anchor.subject, entry.issuer) for anchor in anchors) and pem not in own:
                own.append(pem)
                self._attached.add(path)
        return replace(profile, revocation_lists=tuple(own))

    def _authority(self, member: KitFile, entry: str) -> str:
        """The PEM text for an entry of trust.authorities; the entry itself where the file is nowhere."""
        if PEM_MARK in entry:
            return entry
        beside = f"{member.folder}/{entry}" if member.folder else entry
        by_name = self.pool.by_file_name.get(entry.casefold(), set())
        path = self.pool.at.get(beside) or (next(iter(by_name)) if len(by_name) == 1 else "")
        if path:
            self._used.add(path)
            return self._found.certificates[path].pem
        data = self._beside(member, entry)
        if data is None:
            return entry
        try:
            certificates = read_certificates_untrusted(data)
        except Malformed as problem:
            self.record.findings.append(finding("kit-unreadable", entry, str(problem)))
            return entry
        return b"".join(certificate.public_bytes(Encoding.PEM) for certificate in certificates).decode()

    # What is left.

    def tell_certificates(self) -> None:
        """Each file of certificates: the profiles' authority, this side's own, the gateway's own, or unused."""
        key_files = {member.path for member, _ in self._found.keys}
        for path, entry in self._found.certificates.items():
            if path in key_files:
                continue
            if path in self.pool.issuing and path in self._used:
                self.record.keep(path, FileKind.CERTIFICATE, "the profiles' authority")
            elif path in self._used:
                self.record.keep(path, FileKind.CERTIFICATE, "part of a path of certificates")
            elif trust.is_authority(entry.certificates[0]) or not self._is_gateways_own(path):
                self.record.leave(entry.member, FileKind.CERTIFICATE, "kit-certificate-unused")

    def _is_gateways_own(self, path: str) -> bool:
        """Judge a gateway's own certificate against the profiles of the kit."""
        entry = self._found.certificates[path]
        leaf = entry.certificates[0]
        if not self.profiles or not trust.names_hosts(leaf) or trust.usage_findings(leaf):
            return False
        if leaf in self._judged:
            self.record.leave(entry.member, FileKind.CERTIFICATE, "gateway-certificate")
            return True
        self._judged.add(leaf)
        fitting = [
            profile.profile for profile in self.profiles if trust.holds_name(leaf, profile.profile.gateway_identity)
        ]
        if not fitting:
            wanted = self.profiles[0].profile.gateway_identity.value
            words = f"no profile's gateway is called so, {wanted} for one"
            self.record.findings.append(finding("certificate-wrong-name", trust.subject_name(leaf), words))
        else:
            lists = [one for _, one in self._lists]
            others = [*entry.certificates[1:], *self.pool.certificates]
            self.record.findings += trust.judge_path(leaf, others, _loaded(fitting[0].authorities), self._now, lists)
        self.record.leave(entry.member, FileKind.CERTIFICATE, "gateway-certificate")
        return True

    def tell_lists(self) -> None:
        """Each revocation list, and the authorities that it speaks of."""
        by_name = {canonical(one.subject): one for one in self.pool.anchors}
        issuers = ((one, by_name.get(canonical(one.issuer))) for one in self.pool.anchors)
        pairs = [(one, issuer) for one, issuer in issuers if issuer is not None and issuer is not one]
        for path, entry in self._lists:
            if path in self._attached:
                count = len(entry)
                self.record.keep(
                    path, FileKind.REVOCATION, f"{count} certificates" if count != 1 else "one certificate"
                )
            else:
                member = next(member for member, one in self._found.lists if one is entry)
                self.record.leave(
                    member, FileKind.REVOCATION, "kit-certificate-unused", "no profile trusts its authority"
                )
            for anchor, issuer in pairs:
                self.record.findings += revocation_findings(anchor, issuer, [entry], self._now)

    # Credentials.

    def label(self) -> list[FoundCredentials]:
        """Credentials with whom they are for: what was named, else the profile's label that they came with."""
        result = list(self._found.labelled)
        taken: dict[tuple[Scope, CredentialsKind], Credentials] = {}
        for secret in self._in_order():
            kind, member = kind_of(secret.value), secret.member
            scope = self._scope(secret, kind, self._label_for(member.source.group))
            item = FileKind.KEY if isinstance(secret.value, ClientKey | RawKey) else FileKind.CREDENTIALS
            if scope is None:
                self.record.pass_over(member.path, item, "say whose with --provider or --profile")
            elif taken.get((scope, kind), secret.value) != secret.value:
                self.record.leave(member, item, "kit-several-credentials", f"more than one {kind} for {scope}")
            elif (scope, kind) not in taken:
                taken[scope, kind] = secret.value
                self.record.keep(member.path, item, f"for {scope}")
                origin = member.source.name or self._origin
                result.append(FoundCredentials(member.path, scope, secret.value, origin))
        if self.profiles and not result and not self._given.profile:
            self.record.findings.append(finding("kit-no-credentials", self._origin))
        return result

    def _label_for(self, group: str) -> str:
        """Whose credentials are that came by themselves: the provider's that a group's words or profiles name."""
        if self._given.provider or self._found.providers.get(group):
            return self._given.provider or self._found.providers[group]
        groups = {raw.path: raw.member.source.group for raw in self._found.profiles}
        own = {profile.profile.credentials_label for profile in self.profiles if groups.get(profile.path) == group}
        labels = own or {profile.profile.credentials_label for profile in self.profiles}
        if not labels:
            labels = set(self._found.providers.values())
        return next(iter(labels)) if len(labels) == 1 else ""

    def _in_order(self) -> Iterable[RawSecret]:
        """Those that came by themselves first: they are meant for all."""
        return sorted(self._secrets, key=lambda one: bool(one.owner))

    def _scope(self, secret: RawSecret, kind: CredentialsKind, common: str) -> Scope | None:
        given = self._given
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
            for secret in self._secrets:
                key = (self._label_of(secret.owner) if secret.owner else ""), kind_of(secret.value)
                self._by_label.setdefault(key, set()).add(secret.value)
        return self._by_label

    def _label_of(self, path: str) -> str:
        owner = self._by_path.get(path)
        return owner.profile.credentials_label if owner else ""


def _loaded(authorities: Iterable[str]) -> list[x509.Certificate]:
    certificates: list[x509.Certificate] = []
    for entry in authorities:
        if PEM_MARK in entry:
            try:
                certificates += trust.load_pem_certificates_untrusted(entry.encode())
            except Malformed:
                continue
    return certificates


def _count(leaves: list[x509.Certificate]) -> str:
    names = ", ".join(trust.subject_name(leave) for leave in leaves[:3])
    return f"the certificates are for {names}"
