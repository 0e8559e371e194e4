"""Instance data of the YANG model for IKE and IPsec (RFC 9061 §5.2, the IKE case), JSON as RFC 7951 has it.

It is the one open standard for such settings. What maps is read and written; what does not is told.
"""

from __future__ import annotations

import base64
import ipaddress
import json
from collections.abc import Iterator, Mapping
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.revocation import load_revocation_list_untrusted
from zesty_burrow.core.credentials import ClientKey, Credentials, NamePassword, PreSharedKey
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.net import Network
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, BY_NUMBER, TransformType
from zesty_burrow.core.profile import PEM_MARK, Gateway, Profile, SignIn, Traffic
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError, Malformed, ProfileInvalid
from zesty_burrow.protocols.facets.instance_data import ConnectionEntry, KeyTools
from zesty_burrow.protocols.ikev2.settings import (
    ANY_TRANSPORT,
    DEFAULTS,
    PORTS,
    TCP_TRANSPORT,
    UDP_TRANSPORT,
    AlgorithmChoice,
    IkeSettings,
    ProposalChoice,
    settings_of,
)

MODULE = "ietf-i2nsf-ike:ipsec-ike"
TCP_WORD, UDP_WORD = "espintcp", "espinudp"
EAP_MSCHAPV2 = 26
MAX_ENTRIES = 10_000
IDENTITIES = {
    "ipv4-address": IdType.ID_IPV4_ADDR,
    "ipv6-address": IdType.ID_IPV6_ADDR,
    "fqdn-string": IdType.ID_FQDN,
    "rfc822-address-string": IdType.ID_RFC822_ADDR,
    "dnx509": IdType.ID_DER_ASN1_DN,
    "id-key": IdType.ID_KEY_ID,
}
UNMAPPED = {
    "autostartup": "when it starts",
    "initial-contact": "initial contact",
    "fragmentation": "fragmentation",
    "ike-sa-lifetime-soft": "lifetimes",
    "ike-sa-lifetime-hard": "lifetimes",
    "half-open-ike-sa-timer": "limits of a gateway",
    "half-open-ike-sa-cookie-threshold": "limits of a gateway",
    "child-sa-info": "lifetimes and groups of child SAs",
}
"""Parts of a conn-entry that no profile can hold."""


class _Connection:
    """Reads one conn-entry with the two PAD entries that it names."""

    def __init__(
        self, connection: Mapping[str, Any], pads: Mapping[str, Mapping[str, Any]], where: str, tools: KeyTools
    ) -> None:
        self.connection, self.where, self.tools = connection, where, tools
        self.local = pads[connection["local"]["local-pad-entry-name"]]
        self.remote = pads[connection["remote"]["remote-pad-entry-name"]]
        self.left_out = list(dict.fromkeys(words for key, words in UNMAPPED.items() if key in connection))
        self.credentials: list[Credentials] = []

    def read(self) -> ConnectionEntry:
        version = self.connection.get("version", "ikev2")
        if version != "ikev2":
            raise ProfileInvalid(f"{self.where}: version", why=f"{version!r:.40} is not available; ikev2 is")
        policies = [one["ipsec-policy-config"] for one in self.connection["spd"]["spd-entry"]]
        protected = [policy for policy in policies if policy["processing-info"].get("action", "discard") == "protect"]
        if not protected:
            raise ProfileInvalid(f"{self.where}: spd", why="no entry of it protects anything")
        if len(protected) < len(policies):
            self.left_out.append("policies that discard or bypass")
        settings = protected[0]["processing-info"]["ipsec-sa-cfg"]
        if settings.get("mode", "transport") != "tunnel":
            raise ProfileInvalid(f"{self.where}: mode", why="transport mode is not available; tunnel mode is")
        transport, port = self._encapsulation()
        identity = _identity(self.remote)
        address = str(settings["tunnel"]["remote"])
        if ipaddress.ip_address(address).is_unspecified:
            address = identity.value
        networks = tuple(
            dict.fromkeys(
                ipaddress.ip_network(one["traffic-selector"]["remote-prefix"], strict=False) for one in protected
            )
        )
        sign_in, own, authorities, lists = self._proofs()
        profile = Profile(
            name="connection",
            gateway=Gateway((address,)),
            sign_in=sign_in,
            settings=IkeSettings(
                identity=identity,
                own_identity=own,
                transport=transport,
                port=port,
                ike=self._ike(),
                esp=self._esp(settings.get("esp-algorithms", {})),
            ),
            authorities=authorities,
            revocation_lists=lists,
            traffic=Traffic(networks=networks),
        )
        return ConnectionEntry(str(self.connection["name"]), profile, self.credentials, self.left_out)

    def _encapsulation(self) -> tuple[str, int]:
        """The transport and its port (RFC 9061 §5.2): UDP's are the standard's own."""
        table = self.connection.get("encapsulation-type", {})
        if table.get("espencap") == TCP_WORD:
            return TCP_TRANSPORT, int(table.get("dport", PORTS[TCP_TRANSPORT]))
        if table and table.get("espencap") != UDP_WORD:
            self.left_out.append("the encapsulation (without TCP it is always UDP)")
        return UDP_TRANSPORT, PORTS[UDP_TRANSPORT]

    def _ike(self) -> tuple[ProposalChoice, ...]:
        integrity = [int(one) for one in self.connection.get("ike-sa-intr-alg", [12])]
        group = int(self.connection.get("dh-group", 14))
        rows = self.connection["ike-sa-encr-alg"]
        encryption = [(int(row.get("algorithm-type", 12)), int(row.get("key-length", 128))) for row in rows]
        prfs = DEFAULTS.ike[0].prf
        return self._proposals(encryption, integrity, prf=prfs, key_exchange=self._known(TransformType.KE, [group]))

    def _esp(self, table: Mapping[str, Any]) -> tuple[ProposalChoice, ...]:
        rows = table.get("encryption", [])
        encryption = [(int(row.get("algorithm-type", 20)), int(row.get("key-length", 128))) for row in rows]
        return self._proposals(encryption, [int(one) for one in table.get("integrity", [])])

    def _proposals(
        self, encryption: list[tuple[int, int]], integrity: list[int], **rest: tuple[AlgorithmChoice, ...]
    ) -> tuple[ProposalChoice, ...]:
        """Combined-mode ciphers and others in proposals of their own (RFC 7296 §3.3)."""
        found = []
        for combined in (True, False):
            numbers = [row for row in encryption if (row[0] in AEAD_NUMBERS) is combined]
            ciphers = self._ciphers(numbers)
            checks = () if combined else self._known(TransformType.INTEG, [one for one in integrity if one])
            if ciphers and (combined or checks):
                found.append(ProposalChoice(ciphers, checks, **rest))
        return tuple(found)

    def _ciphers(self, rows: list[tuple[int, int]]) -> tuple[AlgorithmChoice, ...]:
        found = []
        for number, bits in rows:
            entry = BY_NUMBER.get((TransformType.ENCR, number))
            if entry is None or (entry.bits and bits not in entry.bits):
                self.left_out.append(f"encryption algorithm {number} with {bits} bits")
            else:
                found.append(AlgorithmChoice(TransformType.ENCR, number, bits if entry.bits else 0))
        return tuple(found)

    def _known(self, kind: TransformType, numbers: list[int]) -> tuple[AlgorithmChoice, ...]:
        unknown = [number for number in numbers if (kind, number) not in BY_NUMBER]
        self.left_out += [f"transform {kind.name} {number}" for number in unknown]
        return tuple(AlgorithmChoice(kind, number) for number in numbers if number not in unknown)

    def _proofs(self) -> tuple[SignIn, Identity | None, tuple[str, ...], tuple[str, ...]]:
        theirs, ours = self.remote["peer-authentication"], self.local["peer-authentication"]
        signature = theirs.get("digital-signature", {})
        authorities = tuple(_certificate(one) for one in signature.get("ca-data", []))
        lists: tuple[str, ...] = ()
        if "crl-data" in signature:
            found = load_revocation_list_untrusted(base64.b64decode(signature["crl-data"]))
            lists = (found.public_bytes(Encoding.PEM).decode(),)
        self.left_out += [key for key in ("crl-uri", "oscp-uri", "raw-public-key") if key in signature]
        own, method = _identity(self.local), ours.get("auth-method", "pre-shared")
        gateway = "pre-shared-key" if theirs.get("auth-method", "pre-shared") == "pre-shared" else "certificate"
        if gateway == "pre-shared-key":
            self._keep(_pre_shared(theirs))
        if method == "digital-signature":
            self._client_key(ours.get("digital-signature", {}))
            return SignIn(gateway, "certificate"), own, authorities, lists
        if method == "eap":
            self._password(ours, own)
            return SignIn(gateway, "eap-mschapv2"), None, authorities, lists
        if method != "pre-shared":
            raise ProfileInvalid(f"{self.where}: auth-method", why=f"{method!r:.40} is not available")
        self._keep(_pre_shared(ours))
        return SignIn(gateway, "pre-shared-key"), own, authorities, lists

    def _keep(self, value: Credentials | None) -> None:
        if value is not None and value not in self.credentials:
            self.credentials.append(value)

    def _password(self, ours: Mapping[str, Any], own: Identity) -> None:
        kind = int(ours.get("eap-method", {}).get("eap-type", EAP_MSCHAPV2))
        if kind != EAP_MSCHAPV2:
            raise ProfileInvalid(f"{self.where}: eap-type", why=f"EAP method {kind} is not available; 26 is")
        secret = _pre_shared(ours)
        if secret is not None:
            self._keep(NamePassword(own.value, Secret(secret.key.octets().decode())))

    def _client_key(self, table: Mapping[str, Any]) -> None:
        if "private-key" not in table or "cert-data" not in table:
            return
        secret = self.tools.read_private_key(base64.b64decode(table["private-key"]), self.where)
        self._keep(ClientKey(secret, (_certificate(table["cert-data"]),)))


def _identity(pad: Mapping[str, Any]) -> Identity:
    for key, kind in IDENTITIES.items():
        if key in pad:
            value = str(pad[key])
            if kind is IdType.ID_DER_ASN1_DN:
                value = x509.Name.from_rfc4514_string(value).rfc4514_string() if "=" in value[:12] else value
            elif kind is IdType.ID_KEY_ID:
                value = base64.b64decode(value).decode()
            return Identity(kind, value)
    raise ProfileInvalid(f"pad-entry {pad.get('name', '')!r:.60}", why="it has no identity that is known here")


def _pre_shared(table: Mapping[str, Any]) -> PreSharedKey | None:
    text = table.get("pre-shared", {}).get("secret", "")
    return PreSharedKey(Secret(bytes.fromhex(text.replace(":", "")))) if text else None


def _certificate(data: str) -> str:
    found = trust.load_certificate_untrusted(base64.b64decode(data, validate=True))
    return found.public_bytes(Encoding.PEM).decode()


class IkeInstanceData:
    """The IKE case of RFC 9061 (§5.2)."""

    member = MODULE
    standard = "RFC 9061"

    def read(self, text: str, origin: str, tools: KeyTools) -> Iterator[ConnectionEntry | InputError]:
        """Each conn-entry, or why it cannot be taken. Raises :class:`Malformed` for the whole."""
        try:
            top = json.loads(text)[MODULE]
            pads = {entry["name"]: entry for entry in top.get("pad", {}).get("pad-entry", [])}
            connections = list(top.get("conn-entry", []))
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as problem:
            raise Malformed(
                f"{origin} is not RFC 9061 data", why=f"{type(problem).__name__}: {problem}"[:200]
            ) from None
        if not connections or len(connections) > MAX_ENTRIES:
            raise Malformed(
                f"{origin} is not RFC 9061 data", why=f"up to {MAX_ENTRIES} entries of conn-entry are needed"
            )
        for number, connection in enumerate(connections, start=1):
            where = f"{origin}, conn-entry {number}"
            try:
                yield _Connection(connection, pads, where, tools).read()
            except InputError as problem:
                yield problem
            except (KeyError, TypeError, ValueError, AttributeError, IndexError) as problem:
                yield Malformed(f"{where} is malformed", why=f"{type(problem).__name__}: {problem}"[:200])

    def write(self, profiles: Mapping[str, Profile], tools: KeyTools) -> tuple[str, list[str]]:
        """IKEv2 profiles as one JSON document without any secret; and what does not map, a sentence each."""
        pads: list[dict[str, Any]] = []
        connections: list[dict[str, Any]] = []
        unmapped: list[str] = []
        for name, profile in profiles.items():
            pads.append(_pad_out(f"{name}-local", profile, tools, local=True))
            pads.append(_pad_out(f"{name}-remote", profile, tools, local=False))
            connections.append(_connection_out(name, profile, unmapped))
        document = {MODULE: {"pad": {"pad-entry": pads}, "conn-entry": connections}}
        return json.dumps(document, indent=2) + "\n", unmapped


FACET = IkeInstanceData()


def _pad_out(name: str, profile: Profile, tools: KeyTools, *, local: bool) -> dict[str, Any]:
    sign_in = profile.sign_in
    identity = profile.gateway_identity
    if local:
        settings = settings_of(profile)
        fallback = Identity(IdType.ID_RFC822_ADDR, settings.outer_identity or f"anonymous@{identity.value}")
        identity = settings.own_identity or fallback
    key = next(key for key, kind in IDENTITIES.items() if kind is identity.type)
    value = base64.b64encode(identity.value.encode()).decode() if identity.type is IdType.ID_KEY_ID else identity.value
    method = sign_in.method if local else sign_in.gateway
    proof: dict[str, Any] = {
        "auth-method": {"eap-mschapv2": "eap", "pre-shared-key": "pre-shared"}.get(method, "digital-signature")
    }
    if method == "eap-mschapv2":
        proof["eap-method"] = {"eap-type": str(EAP_MSCHAPV2)}
    signature: dict[str, Any] = {}
    if not local:
        authorities = [one for entry in profile.authorities if PEM_MARK in entry for one in _ders(entry)]
        if authorities:
            signature["ca-data"] = authorities
        for pem in profile.revocation_lists[:1]:
            der = load_revocation_list_untrusted(pem.encode()).public_bytes(Encoding.DER)
            signature["crl-data"] = base64.b64encode(der).decode()
        for pem in profile.gateway_keys[:1]:
            signature["raw-public-key"] = base64.b64encode(tools.public_octets(pem)).decode()
    if signature:
        proof["digital-signature"] = signature
    return {"name": name, key: value, "auth-protocol": "ikev2", "peer-authentication": proof}


def _ders(pem: str) -> list[str]:
    found = trust.load_pem_certificates_untrusted(pem.encode())
    return [base64.b64encode(one.public_bytes(Encoding.DER)).decode() for one in found]


def _connection_out(name: str, profile: Profile, unmapped: list[str]) -> dict[str, Any]:
    settings = settings_of(profile)
    ike, esp = settings.proposals("ike"), settings.proposals("esp")
    groups = list(dict.fromkeys(one.number for row in ike for one in row.key_exchange))
    if len(groups) > 1:
        unmapped.append(f"{name}: key exchange groups after the first one")
    over_tcp = settings.transport == TCP_TRANSPORT
    encapsulation = {"espencap": TCP_WORD, "dport": settings.port} if over_tcp else {"espencap": UDP_WORD}
    remote = next((address for address in profile.gateway.addresses if _is_address(address)), "0.0.0.0")  # noqa: S104
    unmapped += _unmapped(name, profile)
    return {
        "name": name,
        "version": "ikev2",
        "encapsulation-type": encapsulation,
        "ike-sa-intr-alg": list(dict.fromkeys(one.number for row in ike for one in row.integrity)),
        "ike-sa-encr-alg": _encryption_out(ike),
        "dh-group": groups[0],
        "local": {"local-pad-entry-name": f"{name}-local"},
        "remote": {"remote-pad-entry-name": f"{name}-remote"},
        "spd": {
            "spd-entry": [
                {"name": f"{name}-{number}", "ipsec-policy-config": _policy_out(network, esp, remote)}
                for number, network in enumerate(profile.traffic.networks, start=1)
            ]
        },
    }


def _unmapped(name: str, profile: Profile) -> list[str]:
    addresses, settings = profile.gateway.addresses, settings_of(profile)
    given = {
        "the gateway's further addresses": len(addresses) > 1,
        "the gateway's host name (its identity says it)": not _is_address(addresses[0])
        and addresses[0] != profile.gateway_identity.value,
        "provider, place, tags": bool(profile.provider or profile.country or profile.city or profile.tags),
        "name servers and suffixes": bool(profile.traffic.name_servers or profile.traffic.suffixes),
        "IPv6 handling": profile.traffic.ipv6 != "tunnel",
        "local network": profile.traffic.local_network != "outside",
        "the additional shared key": settings.additional_key != "none",
        "TCP as another transport": settings.transport == ANY_TRANSPORT,
        "a port of IKE's own": settings.transport == UDP_TRANSPORT and settings.port != PORTS[UDP_TRANSPORT],
        "the proxy on the way": profile.proxy is not None,
        "keys that are not known here": bool(profile.unknown),
    }
    return [f"{name}: {words}" for words, there in given.items() if there]


def _encryption_out(rows: tuple[ProposalChoice, ...]) -> list[dict[str, int]]:
    ciphers = dict.fromkeys(one for row in rows for one in row.encryption)
    return [
        {"id": number, "algorithm-type": one.number, **({"key-length": one.key_bits} if one.key_bits else {})}
        for number, one in enumerate(ciphers, start=1)
    ]


def _policy_out(network: Network, esp: tuple[ProposalChoice, ...], remote: str) -> dict[str, Any]:
    everything = "::/0" if network.version == 6 else "0.0.0.0/0"
    local = "::" if ":" in remote else "0.0.0.0"  # noqa: S104
    return {
        "traffic-selector": {"local-prefix": everything, "remote-prefix": str(network), "inner-protocol": "any"},
        "processing-info": {
            "action": "protect",
            "ipsec-sa-cfg": {
                "ext-seq-num": False,
                "mode": "tunnel",
                "protocol-parameters": "esp",
                "esp-algorithms": {
                    "integrity": list(dict.fromkeys(one.number for row in esp for one in row.integrity)),
                    "encryption": _encryption_out(esp),
                },
                "tunnel": {"local": local, "remote": remote},
            },
        },
    }


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
