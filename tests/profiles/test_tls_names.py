"""Names of TLS: short forms, wrong ones, strength, an organisation's policy; the judgement of ways to a gateway."""

from __future__ import annotations

from dataclasses import replace
from itertools import permutations

import pytest

from zesty_burrow.core.policy.policy import DEFAULT, Policy, judge_suite
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.policy.tls_names import CIPHER_SUITES, GROUPS, opinion_of, read_name, suite_of
from zesty_burrow.core.profile import Gateway, Profile, SignIn, TunnelSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import ProfileInvalid, UsageError
from zesty_burrow.profiles.change_protocol import with_protocol
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.profiles.ways import WayAnswer, best_way, every_way
from zesty_burrow.protocols.connect_ip.facets.choices import read_list
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings
from zesty_burrow.protocols.ikev2.settings import IkeSettings


@pytest.mark.parametrize(
    ("text", "name"),
    [("tls_aes_256_gcm_sha384", "TLS_AES_256_GCM_SHA384"), ("AES-256-GCM", "TLS_AES_256_GCM_SHA384"),
     ("TLS-CHACHA20-POLY1305-SHA256", "TLS_CHACHA20_POLY1305_SHA256"), ("chacha20-poly1305", "TLS_CHACHA20_POLY1305_SHA256")],
)  # fmt: skip
def test_cipher_suites(text, name):
    assert read_name(text, CIPHER_SUITES) == name


@pytest.mark.parametrize(
    ("text", "name"), [("X25519", "x25519"), ("P-256", "secp256r1"), ("x25519mlkem768", "X25519MLKEM768")]
)
def test_groups(text, name):
    assert read_name(text, GROUPS) == name


def test_a_wrong_name_gets_the_nearest():
    with pytest.raises(ValueError, match="is TLS_AES_128_GCM_SHA256 meant"):
        read_name("TLS_AES_128_GCM_SHA265", CIPHER_SUITES)
    with pytest.raises(UsageError, match="--key-exchange"):
        read_list("key_exchange", "x25519,x25520", DEFAULT)


@pytest.mark.parametrize(
    ("cipher", "group", "bits"),
    [("TLS_AES_256_GCM_SHA384", "X25519MLKEM768", 192), ("TLS_AES_256_GCM_SHA384", "x25519", 128),
     ("TLS_AES_128_GCM_SHA256", "secp521r1", 128), ("TLS_CHACHA20_POLY1305_SHA256", "x448", 224),
     ("TLS_NULL_WITH_NULL_NULL", "x25519", 0)],
)  # fmt: skip
def test_strength(cipher, group, bits):
    """The weakest part counts; of a suite that is not known nothing is believed."""
    made = suite_of(cipher, group)
    assert suite_strength(made) == bits
    assert str(made) == f"{cipher}, {group}"
    assert bool(judge_suite(DEFAULT, made, "TLS")) == (bits < DEFAULT.strength)


def test_a_policy():
    """Forbidden by name, allowed by name, or too weak; what is left is offered, and nothing else."""
    strict = Policy("Tidewrack Survey", 192, frozenset({"TLS_CHACHA20_POLY1305_SHA256"}), frozenset({"x25519"}))
    said = {name: opinion_of(strict, name).good for name in (*CIPHER_SUITES, *GROUPS)}
    assert [name for name, good in said.items() if good] == ["TLS_AES_256_GCM_SHA384", "X25519MLKEM768", "x25519", "x448",
                                                             "secp384r1", "secp521r1"]  # fmt: skip
    kept = ConnectIpSettings().restrict(strict, "lisbon")
    assert kept.cipher_suites == ("TLS_AES_256_GCM_SHA384",)
    assert kept.key_exchange == ("X25519MLKEM768", "x25519", "secp384r1")
    own = ConnectIpSettings(cipher_suites=("TLS_AES_128_GCM_SHA256",))
    assert [one.code.slug for one in own.judge(strict, "lisbon")] == ["policy-algorithm"]
    with pytest.raises(ProfileInvalid, match="leaves nothing to offer"):
        own.restrict(strict, "lisbon")
    with pytest.raises(UsageError, match="cannot be chosen"):
        read_list("cipher_suites", "aes-128-gcm", strict)


@pytest.mark.parametrize(
    ("key", "value", "why"),
    [
        ("transport", "quic", "is not one of"),
        ("path", "no-slash", "begin with /"),
        ("path", "/{user}", "no variable"),
        ("http_versions", ["3"], "is not one of"),
        ("http_versions", [], "at least one"),
        ("cipher_suites", ["RC4"], "is not an IANA name"),
        ("authority", "https://x", "host name or address"),
        ("keep_alive_seconds", 1, "between"),
    ],
)
def test_settings_that_are_none(key, value, why):
    made = Profile("x", Gateway(("192.0.2.9",)), settings=ConnectIpSettings(), sign_in=SignIn("certificate", "basic"))
    text = write_profile(replace(made, tunnel=TunnelSettings(protocol="connect-ip")))
    before = "port = 443" if key != "transport" else 'transport = "tcp"'
    with pytest.raises(ProfileInvalid, match=f"connect-ip.{key}") as caught:
        read_profile(text.replace(before, f"{key} = {value!r}"))
    assert why in caught.value.why


def test_another_protocol_and_back():
    """Gateway, trust, place and credentials stay; a sign-in that the other one does not have is refused."""
    ike = Profile("lisbon", Gateway(("lisbon.quillwort.example",)), settings=IkeSettings())
    http = with_protocol(ike, "connect-ip")
    assert (http.tunnel.protocol, http.sign_in.method, http.needs) == ("connect-ip", "basic", ike.needs)
    assert with_protocol(http, "ikev2") == ike
    assert read_profile(write_profile(http)) == http
    shared = read_profile(write_profile(ike).replace('method = "eap-mschapv2"', 'method = "pre-shared-key"'))
    with pytest.raises(ProfileInvalid, match="cannot go over connect-ip"):
        with_protocol(shared, "connect-ip")


@pytest.mark.parametrize("way", list(permutations(["connect-ip", "l2tp-ipsec", "pptp"])), ids="-".join)
def test_round_by_every_protocol(way):
    """The shared key that L2TP wants proves no gateway of IKEv2, nor is it asked for where it is not needed."""
    ike = profile = Profile("lisbon", Gateway(("lisbon.quillwort.example",)), settings=IkeSettings())
    for name in way:
        profile = with_protocol(profile, name)
        assert read_profile(write_profile(profile)) == profile
        wanted = {CredentialsKind.NAME_PASSWORD} | ({CredentialsKind.PRE_SHARED_KEY} if name == "l2tp-ipsec" else set())
        assert set(profile.needs) == wanted
    assert with_protocol(profile, "ikev2") == ike


def test_variants():
    """``any`` stands for UDP and TCP; a port of its own holds for both."""
    made = Profile("lisbon", Gateway(("192.0.2.9",)), settings=IkeSettings(transport="any"))
    assert [(one.settings.transport, one.settings.port) for one in made.variants] == [("udp", 500), ("tcp", 4500)]
    own = IkeSettings(transport="any", port=443)
    assert [(one.transport, one.port) for one in own.variants()] == [("udp", 443), ("tcp", 443)]
    assert len(IkeSettings().variants()) == 1
    assert [f"{one.tunnel.protocol} {one.settings.over()}" for one in every_way(made)] == [
        "ikev2 UDP", "ikev2 TCP", "connect-ip UDP", "connect-ip TCP", "l2tp-ipsec UDP", "pptp GRE"]  # fmt: skip


def test_the_best_way():
    """In the order of preference, of those that can be used."""
    suite = Suite(20, 256, prf=5, group=31)
    ways = [WayAnswer(name, over, 1, True, suite=suite) for name in ("ikev2", "connect-ip") for over in ("UDP", "TCP")]
    assert best_way(ways)[0].name == "ikev2 over UDP"
    assert best_way(ways[1:])[0].name == "connect-ip over TCP"
    unusable = [WayAnswer("ikev2", "UDP", 1, False), WayAnswer("ikev2", "TCP", 1, True, against="no"), WayAnswer("connect-ip", "TCP", 1, True, known=False)]  # fmt: skip
    assert best_way(unusable) is None
