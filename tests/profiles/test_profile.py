"""The tunnel profile: text and values are the same thing, and errors name the key."""

from __future__ import annotations

import json
import tomllib
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_network
from pathlib import Path

import jsonschema
import pytest
import tomli_w
from hypothesis import given
from hypothesis import strategies as st

from support import AUTHORITY
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.policy.algorithms import ALGORITHMS, TransformType, describe
from zesty_burrow.core.profile import Gateway, Profile, SignIn, Traffic, TunnelSettings
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.compare import differences
from zesty_burrow.profiles.text import digest, read_profile, write_profile
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings
from zesty_burrow.protocols.ikev2.settings import DEFAULTS, AlgorithmChoice, IkeSettings, ProposalChoice, offers_of

ROOT = Path(__file__).parents[2]
SCHEMA = json.loads((ROOT / "docs" / "profile.schema.json").read_text())
NOW = datetime.now(UTC)
BEHIND = Traffic(behind=(ip_network("10.99.1.0/24"), ip_network("fd99:1::/64")))
LISBON = place_profile(story.PLACES[0])
T = TransformType

line = st.text(st.characters(min_codepoint=32, exclude_characters="\x7f", exclude_categories=["Cs", "Cc"]), max_size=20)
hosts = st.from_regex(r"[a-z][a-z0-9-]{0,10}\.example", fullmatch=True)
identities = st.none() | hosts.map(Identity.of) | st.just(Identity(IdType.ID_IPV6_ADDR, "2001:db8::1"))
profiles = st.builds(
    Profile,
    name=st.from_regex(r"[a-z0-9]([a-z0-9.-]{0,20}[a-z0-9])?", fullmatch=True),
    gateway=st.builds(
        Gateway,
        st.lists(hosts, min_size=1, max_size=3).map(tuple),
        st.sampled_from(["listed", "random"]),
    ),
    provider=line,
    country=st.sampled_from(["", "PT", "NZ"]),
    city=line,
    tunnel=st.builds(
        TunnelSettings,
        st.just("ikev2"),
        st.just(0) | st.integers(1280, 9000),
        st.none() | st.integers(0, 63),
        st.booleans(),
    ),
    sign_in=st.builds(SignIn, st.just("certificate"), st.just("eap-mschapv2"), line),
    settings=st.builds(
        IkeSettings,
        port=st.integers(1, 65535),
        identity=identities,
        own_identity=identities,
        outer_identity=line,
        additional_key=st.sampled_from(["none", "optional", "required"]),
        child_seconds=st.integers(60, 604800),
        child_octets=st.integers(1 << 20, 1 << 60),
        ike_seconds=st.integers(300, 2592000),
        ike=st.sampled_from([(), DEFAULTS.ike]),
        esp=st.sampled_from([(), DEFAULTS.esp]),
    ),
    authorities=st.sampled_from([(), ("quillwort-authority.pem",), (AUTHORITY.pem().decode(),)]),
    traffic=st.sampled_from(
        [Traffic(), Traffic(ipv6="block", local_network="inside", suffixes=("office.example",)), BEHIND]
    ),
    unknown=st.sampled_from([{}, {"tunnel": {"colour": "blue"}}, {"": {"extra": [1, 2]}, "traffic": {"x": {"y": 1}}}]),
)


@given(profiles)
def test_write_then_read(profile):
    """What is written is read back the same, unknown keys and all, and fits the schema."""
    text = write_profile(profile)
    assert read_profile(text) == profile
    assert write_profile(read_profile(text)) == text
    jsonschema.validate(tomllib.loads(text), SCHEMA)


@given(st.text(max_size=300))
def test_arbitrary_text(text):
    """A stranger's text is a profile or ``ProfileInvalid``."""
    for candidate in (text, f"format = 1\n{text}", write_profile(LISBON) + text):
        try:
            read_profile(candidate, "kit.toml")
        except ProfileInvalid as problem:
            assert "kit.toml" in str(problem)


def changed(path, value):
    """Lisbon's profile with one key changed."""
    document = tomllib.loads(write_profile(LISBON))
    *folders, last = path.split(".")
    table = document
    for name in folders:
        table = table[name]
    if value is None:
        del table[last]
    else:
        table[last] = value
    return document


GCM = {"encryption": ["ENCR_AES_GCM_16 256"], "prf": ["PRF_HMAC_SHA2_256"], "key_exchange": ["curve25519"]}
INVALID = [
    ("format", 3, "format 3 is not known"),
    ("format", "1", "whole number"),
    ("profile.name", "Lisbon!", "lower-case letters"),
    ("profile.name", "", "is not a name"),
    ("profile.country", "Portugal", "ISO 3166-1"),
    ("profile.city", 5, "text is needed"),
    ("profile.city", "Lis\nbon", "control characters"),
    ("gateway.addresses", [], "at least one"),
    ("gateway.addresses", ["two words"], "neither a host name"),
    ("gateway.addresses", "lisbon.quillwort.example", "list is needed"),
    ("gateway.order", "fastest", "listed, random"),
    ("ikev2.port", 0, "between 1 and 65535"),
    ("ikev2.port", True, "whole number"),
    ("ikev2.gateway_identity", {"type": "ID_DER_ASN1_GN", "value": "x"}, "ID_FQDN"),
    ("ikev2.gateway_identity", {"type": "ID_IPV4_ADDR", "value": "lisbon"}, "ikev2.gateway_identity.value"),
    ("ikev2.gateway_identity", {"type": "ID_FQDN", "value": ""}, "missing"),
    ("tunnel.protocol", "carrier-pigeon", "ikev2"),
    ("tunnel.mtu", 900, "between 1280"),
    ("tunnel.mtu", "wide", "not one of route"),
    ("tunnel.dscp", 64, "between 0 and 63"),
    ("tunnel.dscp", "outer", "not one of inner"),
    ("tunnel.clamp_tcp_mss", 1, "true or false"),
    ("ikev2.child_seconds", 59, "between 60"),
    ("ikev2.child_octets", 5, "between 1048576"),
    ("ikev2.ike_seconds", True, "whole number"),
    ("sign_in.method", "trust-me", "eap-mschapv2"),
    ("ikev2.ike", [{"encryption": ["AES"]}], "is not an IANA name"),
    ("ikev2.ike", [{**GCM, "encryption": ["ENCR_AES_GCM_16"]}], "needs a key length"),
    ("ikev2.ike", [{**GCM, "encryption": ["ENCR_AES_GCM_16 512"]}], "no key length of 512"),
    ("ikev2.ike", [{**GCM, "encryption": ["ENCR_AES_GCM_16 256", "ENCR_AES_CBC 256"]}], "cannot share"),
    ("ikev2.ike", [{**GCM, "integrity": ["AUTH_HMAC_SHA2_256_128"]}], "RFC 5282"),
    ("ikev2.ike", [{**GCM, "encryption": ["ENCR_AES_CBC 256"]}], "RFC 8221"),
    ("ikev2.ike", [{"encryption": ["ENCR_AES_GCM_16 256"]}], "the IKE SA needs one"),
    ("ikev2.esp", [GCM], "first child SA has none"),
    ("ikev2.esp", [{"encryption": ["ENCR_AES_GCM_16 256"], "hash": ["x"]}], "ikev2.esp[0].hash"),
    ("trust.authorities", ["../../etc/passwd"], "beside the profile"),
    ("traffic.networks", [], "carries nothing"),
    ("traffic.networks", ["10.0.0.1/8"], "host bits"),
    ("traffic.behind", ["0.0.0.0/0"], "cannot be a network behind this machine"),
    ("traffic.behind", ["224.0.0.0/8"], "cannot be a network behind this machine"),
    ("traffic.ipv6", "maybe", "tunnel, block, outside"),
    ("traffic.name_servers", ["ns.example"], "traffic.name_servers"),
    ("traffic.suffixes", ["a b"], "not a domain name"),
]


@pytest.mark.parametrize(("path", "value", "words"), INVALID)
def test_errors_name_the_key(path, value, words):
    """Each broken rule is told with the key and what would be right; the schema refuses the same documents."""
    document = changed(path, value)
    with pytest.raises(ProfileInvalid) as caught:
        read_profile(tomli_w.dumps(document), "lisbon.toml")
    assert "lisbon.toml" in str(caught.value)
    assert path.split(".")[-1] in str(caught.value)
    assert words in str(caught.value)


@pytest.mark.parametrize(
    ("path", "value"), [row[:2] for row in INVALID if row[0] in ("format", "profile.name", "gateway.order", "ikev2.port", "tunnel.mtu", "traffic.ipv6", "gateway.addresses", "profile.country", "tunnel.protocol") and row[1] not in (["two words"],)]
)  # fmt: skip
def test_the_schema_refuses_what_the_reader_refuses(path, value):
    """The JSON Schema in the documents is in step with the reader."""
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(changed(path, value), SCHEMA)


FORMAT_1 = """
format = 1
[profile]
name = "lisbon"
[gateway]
addresses = ["lisbon.quillwort.example"]
port = 4500
identity = { type = "ID_FQDN", value = "lisbon.quillwort.example" }
colour = "blue"
[tunnel]
protocol = "ikev2"
transport = "udp"
mtu = 1300
clamp_segment_size = true
child_seconds = 900
[sign_in]
method = "certificate"
identity = { type = "ID_KEY_ID", value = "heron" }
outer_identity = "nobody@x.example"
additional_key = "optional"
[algorithms]
esp = [{ encryption = ["ENCR_AES_GCM_16 256"] }]
spice = "pepper"
"""


def test_format_1_is_read_without_loss():
    """Every key of it is found in format 2, unknown ones too; what is written is format 2 and reads the same."""
    profile = read_profile(FORMAT_1)
    settings = profile.settings
    assert (settings.port, settings.child_seconds, settings.additional_key) == (4500, 900, "optional")
    assert (settings.identity.value, settings.own_identity.value) == ("lisbon.quillwort.example", "heron")
    assert settings.outer_identity == "nobody@x.example" and len(settings.esp) == 1 and profile.tunnel.mtu == 1300
    assert profile.tunnel.clamp_tcp_mss
    assert profile.unknown == {"gateway": {"colour": "blue"}, "": {"algorithms": {"spice": "pepper"}}}
    text = write_profile(profile)
    assert "format = 2" in text and read_profile(text) == profile


@given(profiles)
def test_format_1_of_any_profile(profile):
    """Written as format 1 had it, every profile is the same when it is read."""
    document = tomllib.loads(write_profile(replace(profile, unknown={})))
    own = document.pop("ikev2")
    for (label, key), name in {("gateway", "port"): "port", ("gateway", "identity"): "gateway_identity",
                               ("tunnel", "transport"): "transport", ("tunnel", "child_seconds"): "child_seconds",
                               ("tunnel", "child_octets"): "child_octets", ("tunnel", "ike_seconds"): "ike_seconds",
                               ("sign_in", "identity"): "own_identity", ("sign_in", "outer_identity"): "outer_identity",
                               ("sign_in", "additional_key"): "additional_key", ("algorithms", "ike"): "ike",
                               ("algorithms", "esp"): "esp"}.items():  # fmt: skip
        if name in own:
            document.setdefault(label, {})[key] = own.pop(name)
    assert own == {}
    assert read_profile(tomli_w.dumps({**document, "format": 1})) == replace(profile, unknown={})


def test_not_toml():
    """A text that is no TOML, or nested without end, gives one error with the place."""
    for text in ("format = ", "a = " + "[" * 5000, "\x00"):
        with pytest.raises(ProfileInvalid, match="is not TOML|format 0"):
            read_profile(text)


def test_the_digest_tells_contents_apart():
    """The same content has the same digest; any change of it has another."""
    assert digest(write_profile(LISBON)) == digest(write_profile(read_profile(write_profile(LISBON))))
    assert digest(write_profile(LISBON)) != digest(write_profile(replace(LISBON, city="Porto")))


@given(profiles, profiles)
def test_differences(one, two):
    """No difference exactly where the texts are the same; every key that differs is named, certificates by digest."""
    before, after = write_profile(one), write_profile(two)
    found = differences(before, after)
    assert bool(found) == (tomllib.loads(before) != tomllib.loads(after))
    assert not any("BEGIN CERTIFICATE" in str(entry) for entry in found)
    assert {entry.key for entry in found} == {entry.key for entry in differences(after, before)}


def test_differences_in_words():
    """Each key with both values."""
    changed = replace(LISBON, city="Porto", traffic=Traffic(suffixes=("office.example",)))
    assert [str(entry) for entry in differences(write_profile(LISBON), write_profile(changed))] == [
        "profile.city: Lisbon becomes Porto",
        "traffic.suffixes: none becomes office.example",
    ]


def codes(profile, now=NOW):
    return {entry.code.slug for entry in check_profile(profile, now)}


def test_checks():
    """Weak, unavailable, unknown, untrusted, outside: each is found by reading."""
    good = replace(LISBON, authorities=(AUTHORITY.pem().decode(),))
    assert codes(good) == set()
    assert codes(LISBON) == {"profile-authority-missing"}
    assert codes(replace(good, authorities=())) == {"profile-authority-missing"}
    assert codes(replace(good, traffic=Traffic(ipv6="outside"))) == {"ipv6-outside"}
    assert codes(replace(good, traffic=BEHIND)) == {"networks-not-told"}
    assert codes(replace(good, traffic=BEHIND, settings=ConnectIpSettings())) == {"name-servers-missing"}
    assert codes(replace(good, unknown={"tunnel": {"colour": "blue"}})) == {"profile-unknown-key"}
    assert codes(good, NOW + timedelta(days=4000)) == {"certificate-expired"}
    assert codes(good, NOW + timedelta(days=3640)) == {"certificate-expires-soon"}
    read = AlgorithmChoice.read
    weak = ProposalChoice((read(T.ENCR, "ENCR_3DES"),), (read(T.INTEG, "AUTH_HMAC_MD5_96"),))
    rare = ProposalChoice((read(T.ENCR, "ENCR_CAMELLIA_CBC 128"),), (read(T.INTEG, "AUTH_HMAC_SHA2_256_128"),))
    assert codes(replace(good, settings=IkeSettings(esp=(weak,)))) == {"algorithm-weak"}
    assert codes(replace(good, settings=IkeSettings(esp=(rare,)))) == {"algorithm-unavailable"}


def test_offers():
    """What is not implemented is not offered; where nothing is left the profile is refused."""
    ike, esp = offers_of(LISBON)
    assert ike[0].encryption == ((20, 256), (20, 128))
    assert esp[0].esn == (0,)
    read = AlgorithmChoice.read
    rare = ProposalChoice((read(T.ENCR, "ENCR_CAMELLIA_CBC 128"),), (read(T.INTEG, "AUTH_HMAC_SHA2_256_128"),))
    with pytest.raises(ProfileInvalid, match=r"ikev2\.esp leaves nothing"):
        offers_of(replace(LISBON, settings=IkeSettings(esp=(rare,))))


def test_names_of_algorithms():
    """Names are IANA's; no number stands twice."""
    assert describe(1, 20, 256) == "ENCR_AES_GCM_16 256"
    assert describe(9, 1) == "transform 9/1"
    assert len({(row.type, row.number) for row in ALGORITHMS}) == len(ALGORITHMS)
    for row in ALGORITHMS:
        text = f"{row.name} {row.bits[0]}" if row.bits else row.name
        assert AlgorithmChoice.read(row.type, text).number == row.number
