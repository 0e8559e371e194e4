"""The text form of a tunnel profile: TOML, format 2. Reading what was written gives the same profile."""

from __future__ import annotations

import ipaddress
import tomllib
from collections.abc import Mapping
from functools import lru_cache
from typing import Any, TypeVar

from zesty_burrow.core import profile as model
from zesty_burrow.core.net import Address, Network
from zesty_burrow.core.outside.reach import read_target
from zesty_burrow.core.profile import (
    KEY_MARK,
    LIST_MARK,
    PEM_MARK,
    Gateway,
    Profile,
    Proxy,
    SignIn,
    Traffic,
    TunnelSettings,
)
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.profiles import format1, toml
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.registry import TunnelProtocol
from zesty_burrow.records import replace

MAX_TEXT = 1 << 20
TABLES = ("profile", "gateway", "tunnel", "sign_in", "trust", "traffic", "proxy")


def read_profile(text: str, origin: str = "profile", *, name: str = "") -> Profile:
    """A profile from its text; raises only :class:`ProfileInvalid`, which names ``origin`` and the key.

    ``name`` is what a profile without a name of its own is called. Format 1 is read too.
    """
    return read_document(parse_profile(text, origin), origin, name=name)


def parse_profile(text: str, origin: str) -> dict[str, Any]:
    """The TOML document of a profile."""
    if len(text) > MAX_TEXT:
        raise ProfileInvalid(origin, why=f"longer than {MAX_TEXT} characters")
    try:
        return toml.parse(text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as problem:
        raise ProfileInvalid(f"{origin} is not TOML", why=str(problem) or "it is nested too deeply") from None


def read_document(document: dict[str, Any], origin: str, *, name: str = "") -> Profile:
    """A profile from its TOML document, which is used up; see :func:`read_profile`."""
    top = Table("", document, origin)
    number = top.take("format", int, 0)
    if number == format1.FORMAT:
        top.values = format1.converted(top.values)
    elif number != model.FORMAT:
        why = f"format {number} is not known; this program reads formats {format1.FORMAT} and {model.FORMAT}"
        raise top.invalid("format", why)
    tables = {label: Table(label, top.take(label, dict, {}), origin) for label in TABLES}
    head = tables["profile"]
    if name:
        head.values.setdefault("name", name)
    tunnel = _tunnel(tables["tunnel"])
    protocol = registry.protocol(tunnel.protocol)
    own = tables[protocol.name] = Table(protocol.name, top.take(protocol.name, dict, {}), origin)
    profile = Profile(
        name=_name(head),
        edition=head.text("edition"),
        tags=head.items("tags", _tag),
        provider=head.text("provider"),
        country=_country(head),
        city=head.text("city"),
        gateway=_gateway(tables["gateway"]),
        tunnel=_same(tunnel),
        sign_in=_same(_sign_in(tables["sign_in"], protocol)),
        settings=protocol.read_settings(own),
        proxy=_proxy(tables["proxy"]),
        authorities=tables["trust"].items("authorities", _authority),
        gateway_keys=tables["trust"].items("gateway_keys", _public_key),
        revocation_lists=tables["trust"].items("revocation_lists", _revocation_list),
        revocation_status=tables["trust"].text("revocation_status", "reported", model.REVOCATION_STATUS),
        traffic=_same(_traffic(tables["traffic"])),
    )
    if profile.proxy is not None and not profile.variants:
        why = "a proxy carries TCP, and one of socks5 UDP too: the protocol's transport has to be one of them"
        raise tables["proxy"].invalid("kind", why)
    left = {table.label: table.values for table in (top, *tables.values()) if table.values}
    return replace(profile, unknown=left) if left else profile


Section = TypeVar("Section", TunnelSettings, SignIn, Traffic)


@lru_cache(maxsize=256)
def _same(section: Section) -> Section:
    """The first one that was equal: the profiles of a kit share most of their sections."""
    return section


def _name(table: Table) -> str:
    name = table.text("name")
    if not model.NAME.fullmatch(name):
        raise table.invalid("name", f"{name!r} is not a name: lower-case letters, digits, dots and hyphens, up to 64")
    return name


def _tag(text: str) -> str:
    if not model.TAG.fullmatch(text):
        raise ValueError(f"{text!r:.60} is not a tag: lower-case letters, digits and hyphens, up to 32")
    return text


def _country(table: Table) -> str:
    code = table.text("country")
    if code and not (len(code) == 2 and code.isascii() and code.isalpha() and code.isupper()):
        raise table.invalid("country", f"{code!r} is not an ISO 3166-1 code of two capital letters")
    return code


def _host(text: str) -> str:
    good = 0 < len(text) <= 253 and all(letter.isalnum() or letter in "-.:_" for letter in text)
    if not good:
        raise ValueError(f"{text!r} is neither a host name nor an IP address")
    return text


def _gateway(table: Table) -> Gateway:
    addresses = table.items("addresses", _host)
    if not addresses:
        raise table.invalid("addresses", "at least one host name or IP address is needed")
    return Gateway(addresses, table.text("order", "listed", model.ORDERS))


def _tunnel(table: Table) -> TunnelSettings:
    return TunnelSettings(
        table.text("protocol", registry.DEFAULT, registry.names()),
        table.number_or("mtu", model.FROM_ROUTE, 0, (model.DEFAULT_MTU, model.MIN_MTU, model.MAX_MTU)),
        table.number_or("dscp", model.AS_INNER, None, (0, 0, model.MAX_DSCP)),
        table.take("clamp_tcp_mss", bool, False),
    )


def _sign_in(table: Table, protocol: TunnelProtocol) -> SignIn:
    proofs, methods = protocol.gateway_proofs, protocol.sign_in_methods
    made = SignIn(
        table.text("gateway", proofs[0], proofs),
        table.text("method", methods[0], methods),
        table.text("credentials"),
    )
    why = protocol.refuse_sign_in(made)
    if why:
        raise table.invalid("gateway", why)
    return made


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


def _network_behind(text: str) -> Network:
    network = ipaddress.ip_network(text)
    if not network.prefixlen or network.is_multicast or network.is_loopback or network.is_link_local:
        raise ValueError(f"{network} cannot be a network behind this machine")
    return network


def _address(text: str) -> Address:
    return ipaddress.ip_address(text)


def _suffix(text: str) -> str:
    good = 0 < len(text) <= 253 and all(letter.isalnum() or letter in "-._" for letter in text)
    if not good:
        raise ValueError(f"{text!r} is not a domain name")
    return text.lower().rstrip(".")


def _target(text: str) -> str:
    read_target(text)
    return text


def _proxy(table: Table) -> Proxy | None:
    if not table.values:
        return None
    address = table.text("address")
    if not address or len(address) > 255 or any(letter in address for letter in " /@?#[]"):
        raise table.invalid("address", "a host name or an IP address is needed")
    kind = table.text("kind", "", model.PROXY_KINDS)
    return Proxy(kind, address, table.number("port", 0, 1, 65535), table.take("sign_in", bool, False))


def _traffic(table: Table) -> Traffic:
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
        table.items("behind", _network_behind),
        table.items("local_networks", _network),
        table.items("reach", _target),
    )


def write_profile(profile: Profile) -> str:
    """The text of a profile. Every key that is of use is written, so that a reader sees what is in force.

    The profiles of a kit share most of their sections; what was written once is not written again.
    """
    own: dict[str, Any] = {"format": model.FORMAT}
    own |= {"profile": _profile_out(profile), "gateway": _gateway_out(profile)}
    if table := profile.settings.written():
        own[profile.tunnel.protocol] = table
    if (proxy := profile.proxy) is not None:
        own["proxy"] = {"kind": proxy.kind, "address": proxy.address, "port": proxy.port, "sign_in": proxy.sign_in}
    trust = (profile.authorities, profile.gateway_keys, profile.revocation_lists, profile.revocation_status)
    if profile.unknown:
        document = {**own, **_shared(profile.tunnel, profile.sign_in, trust, profile.traffic)}
        for label, values in profile.unknown.items():
            (document.setdefault(label, {}) if label else document).update(values)
        return _dumps(document, multiline_strings=True)
    return f"{_dumps(own)}\n{_shared_text(profile.tunnel, profile.sign_in, trust, profile.traffic)}"


def _dumps(document: Mapping[str, Any], *, multiline_strings: bool = False) -> str:
    import tomli_w  # not for showing a profile

    return tomli_w.dumps(document, multiline_strings=multiline_strings)


Trust = tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...], str]


@lru_cache(maxsize=64)
def _shared_text(tunnel: TunnelSettings, sign_in: SignIn, trust: Trust, traffic: Traffic) -> str:
    """The sections that are alike in many profiles."""
    return _dumps(_shared(tunnel, sign_in, trust, traffic), multiline_strings=True)


def _shared(tunnel: TunnelSettings, sign_in: SignIn, trust: Trust, traffic: Traffic) -> dict[str, Any]:
    return {
        "tunnel": _tunnel_out(tunnel),
        "sign_in": {"gateway": sign_in.gateway, "method": sign_in.method, "credentials": sign_in.credentials},
        "trust": _trust_out(trust),
        "traffic": _traffic_out(traffic),
    }


def _with_rare(table: dict[str, Any], **rare: Any) -> dict[str, Any]:
    """A section with those of its rare keys that say something."""
    return {**table, **{key: value for key, value in rare.items() if value}}


def _profile_out(profile: Profile) -> dict[str, Any]:
    place = {"provider": profile.provider, "country": profile.country, "city": profile.city}
    return _with_rare({"name": profile.name, **place}, edition=profile.edition, tags=list(profile.tags))


def _gateway_out(profile: Profile) -> dict[str, Any]:
    return {"addresses": list(profile.gateway.addresses), "order": profile.gateway.order}


def _tunnel_out(tunnel: TunnelSettings) -> dict[str, Any]:
    defaults = TunnelSettings()
    table: dict[str, Any] = {"protocol": tunnel.protocol, "mtu": tunnel.mtu or model.FROM_ROUTE}
    for name in ("dscp", "clamp_tcp_mss"):
        value = getattr(tunnel, name)
        if value != getattr(defaults, name):
            table[name] = model.AS_INNER if value is None else value
    return table


def _trust_out(trust: Trust) -> dict[str, Any]:
    *lists, status = trust
    authorities, keys, revoked = map(list, lists)
    told = status if status != model.REVOCATION_STATUS[0] else ""
    return _with_rare({"authorities": authorities}, gateway_keys=keys, revocation_lists=revoked, revocation_status=told)


def _traffic_out(traffic: Traffic) -> dict[str, Any]:
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
        "behind": [str(entry) for entry in traffic.behind],
        "local_networks": [str(entry) for entry in traffic.local_networks],
        "reach": list(traffic.reach),
    }
    return _with_rare(table, **rare)


def digest(text: str) -> str:
    """SHA-256 over a profile's text."""
    import hashlib  # not for showing a profile

    return hashlib.sha256(text.encode()).hexdigest()


def content_digest(profile: Profile, text: str) -> str:
    """Tells whether two profiles are the same, whatever they are called; ``text`` is its text.

    Tags are not content: they are the administrator's own.
    """
    plain = write_profile(replace(profile, tags=())) if profile.tags else text
    return digest(plain.replace(f'[profile]\nname = "{profile.name}"\n', "[profile]\n", 1))
