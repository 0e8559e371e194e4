"""The text form of a tunnel profile: TOML. Reading what was written gives the same profile."""

from __future__ import annotations

import hashlib
import ipaddress
import tomllib
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any, TypeVar
from unicodedata import category

import tomli_w

from zesty_burrow.core import profile as model
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.net import Address, Network
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, TransformType
from zesty_burrow.core.profile import (
    KEY_MARK,
    LIST_MARK,
    PEM_MARK,
    AlgorithmChoice,
    Algorithms,
    Gateway,
    Profile,
    ProposalChoice,
    SignIn,
    Traffic,
    Tunnel,
)
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.profiles import toml

MAX_TEXT = 1 << 20
MAX_LIST = 256
V = TypeVar("V")

_PROPOSAL_KEYS = {
    "encryption": TransformType.ENCR,
    "integrity": TransformType.INTEG,
    "prf": TransformType.PRF,
    "key_exchange": TransformType.KE,
    "additional_key_exchange": TransformType.ADDKE1,
    "sequence_numbers": TransformType.ESN,
}


class _Table:
    """Takes keys out of a TOML table, checks their types, and knows what nobody took."""

    def __init__(self, label: str, values: dict[str, Any], origin: str) -> None:
        self.label, self.values, self.origin = label, dict(values), origin

    def invalid(self, key: str, why: str) -> ProfileInvalid:
        """An error that names the key."""
        return ProfileInvalid(f"{self.origin}: {self.label}.{key}" if self.label else f"{self.origin}: {key}", why=why)

    def take(self, key: str, kind: type[V], default: V) -> V:
        """A value of a TOML type, or the default."""
        value = self.values.pop(key, default)
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            raise self.invalid(key, f"a {_TYPE_NAMES[kind]} is wanted, not {value!r:.60}")
        return value

    def text(self, key: str, default: str = "", allowed: Sequence[str] = ()) -> str:
        """A line of text, perhaps one of several words."""
        value = self.take(key, str, default)
        if allowed and value not in allowed:
            raise self.invalid(key, f"{value!r} is not one of {', '.join(allowed)}")
        if not value.isprintable() and any(category(letter) == "Cc" for letter in value):
            raise self.invalid(key, "control characters and line ends are not allowed")
        return value

    def items(self, key: str, convert: Callable[[str], V], default: tuple[V, ...] = ()) -> tuple[V, ...]:
        """A list of text, each entry converted; a ``ValueError`` of the conversion becomes ours."""
        if key not in self.values:
            return default
        entries = self.take(key, list, [])
        if len(entries) > MAX_LIST:
            raise self.invalid(key, f"more than {MAX_LIST} entries")
        result = []
        for entry in entries:
            if not isinstance(entry, str):
                raise self.invalid(key, f"a list of text is wanted, not {entry!r:.60}")
            try:
                result.append(convert(entry))
            except ValueError as problem:
                raise self.invalid(key, str(problem)) from None
        return tuple(result)

    def number(self, key: str, default: int, low: int, high: int) -> int:
        """A whole number within bounds."""
        value = self.take(key, int, default)
        if not low <= value <= high:
            raise self.invalid(key, f"{value} is not between {low} and {high}")
        return value

    def number_or(self, key: str, word: str, meaning: V, bounds: tuple[int, int, int]) -> int | V:
        """A whole number within bounds, its default first; or a word that stands for something else."""
        value = self.values.get(key)
        if isinstance(value, str):
            self.text(key, allowed=(word,))
            return meaning
        return self.number(key, *bounds)


_TYPE_NAMES: dict[type, str] = {str: "text", int: "whole number", list: "list", dict: "table", bool: "true or false"}


def read_profile(text: str, origin: str = "profile", *, name: str = "") -> Profile:
    """A profile from its text; raises only :class:`ProfileInvalid`, which names ``origin`` and the key.

    ``name`` is what a profile without a name of its own is called.
    """
    if len(text) > MAX_TEXT:
        raise ProfileInvalid(origin, why=f"longer than {MAX_TEXT} characters")
    try:
        document = toml.parse(text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as problem:
        raise ProfileInvalid(f"{origin} is not TOML", why=str(problem) or "it is nested too deeply") from None
    top = _Table("", document, origin)
    number = top.take("format", int, 0)
    if number != model.FORMAT:
        raise top.invalid("format", f"format {number} is not known; this program reads format {model.FORMAT}")
    tables = {
        label: _Table(label, top.take(label, dict, {}), origin)
        for label in ("profile", "gateway", "tunnel", "sign_in", "algorithms", "trust", "traffic")
    }
    head = tables["profile"]
    if name:
        head.values.setdefault("name", name)
    profile = Profile(
        name=_name(head),
        edition=head.text("edition"),
        tags=head.items("tags", _tag),
        provider=head.text("provider"),
        country=_country(head),
        city=head.text("city"),
        gateway=_gateway(tables["gateway"]),
        tunnel=_tunnel(tables["tunnel"]),
        sign_in=_sign_in(tables["sign_in"]),
        algorithms=_algorithms(tables["algorithms"]),
        authorities=tables["trust"].items("authorities", _authority),
        gateway_keys=tables["trust"].items("gateway_keys", _public_key),
        revocation_lists=tables["trust"].items("revocation_lists", _revocation_list),
        traffic=_traffic(tables["traffic"]),
    )
    left = {table.label: table.values for table in (top, *tables.values()) if table.values}
    return replace(profile, unknown=left) if left else profile


def _name(table: _Table) -> str:
    name = table.text("name")
    if not model.NAME.fullmatch(name):
        raise table.invalid("name", f"{name!r} is not a name: lower-case letters, digits, dots and hyphens, up to 64")
    return name


def _tag(text: str) -> str:
    if not model.TAG.fullmatch(text):
        raise ValueError(f"{text!r:.60} is not a tag: lower-case letters, digits and hyphens, up to 32")
    return text


def _country(table: _Table) -> str:
    code = table.text("country")
    if code and not (len(code) == 2 and code.isascii() and code.isalpha() and code.isupper()):
        raise table.invalid("country", f"{code!r} is not an ISO 3166-1 code of two capital letters")
    return code


def _host(text: str) -> str:
    good = 0 < len(text) <= 253 and all(letter.isalnum() or letter in "-.:_" for letter in text)
    if not good:
        raise ValueError(f"{text!r} is neither a host name nor an IP address")
    return text


def _gateway(table: _Table) -> Gateway:
    addresses = table.items("addresses", _host)
    if not addresses:
        raise table.invalid("addresses", "at least one host name or IP address is needed")
    return Gateway(
        addresses,
        table.text("order", "listed", model.ORDERS),
        table.number("port", 500, 1, 65535),
        _identity(table),
    )


def _identity(table: _Table) -> Identity | None:
    """The key ``identity`` of a table: a type and a value (RFC 7296 §3.5)."""
    if "identity" not in table.values:
        return None
    inner = _Table(f"{table.label}.identity", table.take("identity", dict, {}), table.origin)
    allowed = [kind.name for kind in IdType if kind is not IdType.ID_DER_ASN1_GN]
    identity = Identity(IdType[inner.text("type", allowed=allowed)], inner.text("value"))
    try:
        identity.octets()
    except ValueError as problem:
        raise inner.invalid("value", str(problem)) from None
    if not identity.value:
        raise inner.invalid("value", "the identity is missing")
    return identity


def _tunnel(table: _Table) -> Tunnel:
    usual = Tunnel()
    return Tunnel(
        table.text("protocol", "ikev2", model.PROTOCOLS),
        table.text("transport", "udp", model.TRANSPORTS),
        table.number_or("mtu", model.FROM_ROUTE, 0, (model.DEFAULT_MTU, model.MIN_MTU, model.MAX_MTU)),
        table.number_or("dscp", model.AS_INNER, None, (0, 0, model.MOST_DSCP)),
        table.take("clamp_segment_size", bool, False),
        **{name: table.number(name, getattr(usual, name), *bounds) for name, bounds in model.LIFETIMES.items()},
    )


def _sign_in(table: _Table) -> SignIn:
    made = SignIn(
        table.text("gateway", "certificate", model.GATEWAY_PROOFS),
        table.text("method", "eap-mschapv2", model.SIGN_IN_METHODS),
        table.text("credentials"),
        table.text("outer_identity"),
        _identity(table),
        table.text("additional_key", "none", model.ADDITIONAL_KEY),
    )
    if made.gateway == "eap" and made.method != "eap-tls":
        why = "only a method that proves both sides may stand alone (RFC 5998 §4): eap-tls"
        raise table.invalid("gateway", why)
    return made


def _algorithms(table: _Table) -> Algorithms:
    found: dict[str, tuple[ProposalChoice, ...]] = {}
    for key, for_ike in (("ike", True), ("esp", False)):
        entries = table.take(key, list, [])
        if len(entries) > 16 or not all(isinstance(entry, dict) for entry in entries):
            raise table.invalid(key, "a list of up to 16 tables is wanted")
        rows = [
            _proposal(_Table(f"algorithms.{key}[{index}]", entry, table.origin), for_ike)
            for index, entry in enumerate(entries)
        ]
        found[key] = tuple(rows)
    return Algorithms(found["ike"], found["esp"])


def _proposal(table: _Table, for_ike: bool) -> ProposalChoice:
    lists = {
        key: table.items(key, lambda text, kind=kind: AlgorithmChoice.read(kind, text))  # type: ignore[misc]
        for key, kind in _PROPOSAL_KEYS.items()
    }
    if table.values:
        raise table.invalid(next(iter(table.values)), "a proposal has only " + ", ".join(_PROPOSAL_KEYS))
    choice = ProposalChoice(**lists)
    if not choice.encryption:
        raise table.invalid("encryption", "at least one encryption algorithm is needed")
    combined = {one.number in AEAD_NUMBERS for one in choice.encryption}
    if len(combined) > 1:
        raise table.invalid(
            "encryption", "combined-mode ciphers and others cannot share a proposal (RFC 7296 §3.3): make two"
        )
    if combined == {True} and any(one.number for one in choice.integrity):
        raise table.invalid("integrity", "a combined-mode cipher takes no integrity algorithm (RFC 5282 §8)")
    if combined == {False} and not any(one.number for one in choice.integrity):
        raise table.invalid("integrity", "this cipher needs an integrity algorithm (RFC 8221 §4)")
    if for_ike and not (choice.prf and choice.key_exchange):
        raise table.invalid("prf" if not choice.prf else "key_exchange", "the IKE SA needs one (RFC 7296 §3.3.3)")
    if for_ike and choice.sequence_numbers:
        raise table.invalid("sequence_numbers", "only ESP has them (RFC 7296 §3.3.3)")
    if not for_ike and choice.additional_key_exchange:
        raise table.invalid("additional_key_exchange", "the first child SA has none (RFC 9370 §2.2.4)")
    if not for_ike and (choice.prf or choice.key_exchange):
        raise table.invalid("prf" if choice.prf else "key_exchange", "the first child SA has none (RFC 7296 §1.2)")
    return choice


def _authority(text: str) -> str:
    if PEM_MARK in text:
        return text.strip() + "\n"
    if "/" in text or "\\" in text or text in ("", ".", "..") or len(text) > 255 or not text.isprintable():
        raise ValueError(f"{text!r:.60} is neither a certificate in PEM nor the name of a file beside the profile")
    return text


def _public_key(text: str) -> str:
    if not text.strip().startswith(KEY_MARK):
        raise ValueError(f"{text!r:.60} is not a public key in PEM")
    return text.strip() + "\n"


def _revocation_list(text: str) -> str:
    if not text.strip().startswith(LIST_MARK):
        raise ValueError(f"{text!r:.60} is not a revocation list in PEM")
    return text.strip() + "\n"


@lru_cache(maxsize=256)
def _network(text: str) -> Network:
    return ipaddress.ip_network(text)


def _address(text: str) -> Address:
    return ipaddress.ip_address(text)


def _suffix(text: str) -> str:
    good = 0 < len(text) <= 253 and all(letter.isalnum() or letter in "-._" for letter in text)
    if not good:
        raise ValueError(f"{text!r} is not a domain name")
    return text.lower().rstrip(".")


def _traffic(table: _Table) -> Traffic:
    networks = table.items("networks", _network, model.EVERYTHING)
    if not networks:
        raise table.invalid("networks", "a tunnel that carries nothing is of no use")
    return Traffic(
        networks,
        table.text("ipv6", "tunnel", model.IPV6_HANDLING),
        table.text("local_network", "outside", model.LOCAL_NETWORK),
        table.items("name_servers", _address),
        table.items("suffixes", _suffix),
        table.items("netbios_name_servers", _address),
        table.items("left_out", _network),
    )


def write_profile(profile: Profile) -> str:
    """The text of a profile. Every key that is of use is written, so that a reader sees what is in force.

    The profiles of a kit share most of their sections; what was written once is not written anew.
    """
    if profile.unknown:
        document: dict[str, Any] = {"format": model.FORMAT}
        document.update({label: make(profile) for label, make in _SECTIONS.items()})
        for label, values in profile.unknown.items():
            (document[label] if label else document).update(values)
        return tomli_w.dumps(document, multiline_strings=True)
    trust = (profile.authorities, profile.gateway_keys, profile.revocation_lists)
    shared = _shared_text(profile.tunnel, profile.sign_in, profile.algorithms, trust, profile.traffic)
    own = {"format": model.FORMAT, "profile": _profile_out(profile), "gateway": _gateway_out(profile)}
    return f"{tomli_w.dumps(own)}\n{shared}"


@lru_cache(maxsize=64)
def _shared_text(
    tunnel: Tunnel,
    sign_in: SignIn,
    algorithms: Algorithms,
    trust: tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]],
    traffic: Traffic,
) -> str:
    """The sections that are alike in many profiles."""
    authorities, gateway_keys, lists = trust
    profile = Profile(
        "shared",
        Gateway(()),
        tunnel=tunnel,
        sign_in=sign_in,
        algorithms=algorithms,
        authorities=authorities,
        gateway_keys=gateway_keys,
        revocation_lists=lists,
        traffic=traffic,
    )
    document = {label: make(profile) for label, make in _SECTIONS.items() if label not in ("profile", "gateway")}
    return tomli_w.dumps(document, multiline_strings=True)


def _with_rare(table: dict[str, Any], **rare: Any) -> dict[str, Any]:
    """A section with those of its rare keys that say something."""
    return {**table, **{key: value for key, value in rare.items() if value}}


def _profile_out(profile: Profile) -> dict[str, Any]:
    place = {"provider": profile.provider, "country": profile.country, "city": profile.city}
    return _with_rare({"name": profile.name, **place}, edition=profile.edition, tags=list(profile.tags))


def _tunnel_out(profile: Profile) -> dict[str, Any]:
    tunnel = profile.tunnel
    usual = model.Tunnel()
    table: dict[str, Any] = {"protocol": tunnel.protocol, "transport": tunnel.transport}
    table["mtu"] = tunnel.mtu or model.FROM_ROUTE
    for name in ("dscp", "clamp_segment_size", *model.LIFETIMES):
        value = getattr(tunnel, name)
        if value != getattr(usual, name):
            table[name] = model.AS_INNER if value is None else value
    return table


def _sign_in_out(profile: Profile) -> dict[str, Any]:
    sign_in = profile.sign_in
    table = {
        "gateway": sign_in.gateway,
        "method": sign_in.method,
        "credentials": sign_in.credentials,
        "outer_identity": sign_in.outer_identity,
    }
    additional = sign_in.additional_key if sign_in.additional_key != "none" else ""
    return _with_rare(table, additional_key=additional, identity=_identity_out(sign_in.identity))


def _algorithms_out(profile: Profile) -> dict[str, Any]:
    rows = (("ike", profile.algorithms.ike), ("esp", profile.algorithms.esp))
    return {key: [_proposal_out(entry) for entry in entries] for key, entries in rows if entries}


def _trust_out(profile: Profile) -> dict[str, Any]:
    keys, lists = list(profile.gateway_keys), list(profile.revocation_lists)
    return _with_rare({"authorities": list(profile.authorities)}, gateway_keys=keys, revocation_lists=lists)


def _traffic_out(profile: Profile) -> dict[str, Any]:
    traffic = profile.traffic
    table = {
        "networks": [str(entry) for entry in traffic.networks],
        "ipv6": traffic.ipv6,
        "local_network": traffic.local_network,
        "name_servers": [str(entry) for entry in traffic.name_servers],
        "suffixes": list(traffic.suffixes),
    }
    rare = {
        "netbios_name_servers": [str(entry) for entry in traffic.netbios_name_servers],
        "left_out": [str(entry) for entry in traffic.left_out],
    }
    return _with_rare(table, **rare)


def _gateway_out(profile: Profile) -> dict[str, Any]:
    gateway = profile.gateway
    table = {"addresses": list(gateway.addresses), "order": gateway.order, "port": gateway.port}
    return _with_rare(table, identity=_identity_out(gateway.identity))


_SECTIONS: dict[str, Callable[[Profile], dict[str, Any]]] = {
    "profile": _profile_out,
    "gateway": _gateway_out,
    "tunnel": _tunnel_out,
    "sign_in": _sign_in_out,
    "algorithms": _algorithms_out,
    "trust": _trust_out,
    "traffic": _traffic_out,
}


def _identity_out(identity: Identity | None) -> dict[str, str]:
    return {"type": identity.type.name, "value": identity.value} if identity else {}


def _proposal_out(choice: ProposalChoice) -> dict[str, list[str]]:
    rows = {key: [str(one) for one in getattr(choice, key)] for key in _PROPOSAL_KEYS}
    return {key: names for key, names in rows.items() if names}


def read_label(text: str) -> str:
    """The label under which a profile's credentials are kept, if its text names one; quicker than reading it all."""
    if 'credentials = "' not in text:
        return ""
    label = toml.parse(text).get("sign_in", {}).get("credentials", "")
    return label if isinstance(label, str) else ""


def digest(text: str) -> str:
    """SHA-256 over a profile's text."""
    return hashlib.sha256(text.encode()).hexdigest()


def content_digest(profile: Profile, text: str) -> str:
    """Tells whether two profiles are the same, whatever they are called; ``text`` is its text.

    Tags are not content: they are the administrator's own.
    """
    plain = write_profile(replace(profile, tags=())) if profile.tags else text
    return digest(plain.replace(f'[profile]\nname = "{profile.name}"\n', "[profile]\n", 1))
