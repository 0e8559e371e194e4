"""Policies: what they say of algorithms, profiles and suites; their file; what they leave of a profile's offers."""

from __future__ import annotations

import itertools
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.policy.algorithms import ALGORITHMS, TransformType
from zesty_burrow.core.policy.policy import DEFAULT, judge_suite, opinion, parts_of
from zesty_burrow.core.policy.strength import BITS, strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Gateway, Profile, SignIn, Traffic
from zesty_burrow.errors import InputError, ProfileInvalid
from zesty_burrow.profiles.advising.advice import advise
from zesty_burrow.profiles.advising.clients import DEVICES
from zesty_burrow.profiles.policy import judge_profile, read_policy, restrict
from zesty_burrow.protocols.ikev2.probe import IkeCapabilities
from zesty_burrow.protocols.ikev2.settings import AlgorithmChoice, IkeSettings, ProposalChoice, offers_of

T = TransformType
STRICT = """
format = 1
[policy]
name = "Tidewrack Survey"
strength = 128
[algorithms]
forbidden = ["ENCR_AES_CBC", "ENCR_CHACHA20_POLY1305"]
allowed = ["2048-bit MODP Group"]
[sign_in]
methods = ["certificate"]
gateway = ["certificate"]
additional_key = true
[traffic]
ipv6 = ["tunnel", "block"]
"""


def read(kind, *names):
    return tuple(AlgorithmChoice.read(kind, name) for name in names)


def profile(ciphers, groups, method="certificate", **changes):
    proposal = ProposalChoice(
        read(T.ENCR, *ciphers),
        read(T.INTEG, "AUTH_HMAC_SHA2_256_128") if "CBC" in ciphers[0] else (),
        read(T.PRF, "PRF_HMAC_SHA2_256"),
        read(T.KE, *groups),
    )
    settings = IkeSettings(additional_key="required", ike=(proposal,))
    return Profile("office", Gateway(("a.example",)), sign_in=SignIn(method=method), settings=settings, **changes)


def test_the_default_is_what_the_rfcs_say():
    """Nothing with a NOT is good; everything that MUST be there is, and says so with its source."""
    for entry in ALGORITHMS:
        if entry.type is T.ESN or entry.name in ("NONE", "ENCR_NULL"):
            continue
        for bits in entry.bits or (0,):
            said = opinion(DEFAULT, entry.type, entry.number, bits)
            if entry.weak:
                assert not said.good
                assert "NOT" in said.why
                assert "RFC" in said.source
            if "MUST" in (entry.ike_status, entry.esp_status):
                assert said.good, entry.name
    assert not opinion(DEFAULT, T.ENCR, 9999).good
    assert not opinion(DEFAULT, 99, 1).good


def test_every_algorithm_has_a_strength():
    """By number or by the length of its key."""
    for entry in ALGORITHMS:
        if entry.type is not T.ESN:
            assert (entry.type, entry.number) in BITS or entry.bits, entry.name
    assert strength(T.ENCR, 20, 192) == 192
    assert strength(T.KE, 14) == 112


def test_a_policy_of_ones_own():
    policy = read_policy(STRICT, "policy.toml")
    assert opinion(policy, T.ENCR, 20, 256).good
    assert opinion(policy, T.ENCR, 12, 256).source == "Tidewrack Survey"
    assert opinion(policy, T.KE, 14).why == "the policy allows it"
    assert opinion(policy, T.KE, 16).good
    assert not opinion(read_policy("format = 1\n[policy]\nstrength = 192\n", "p"), T.KE, 31).good
    loose = read_policy('format = 1\n[algorithms]\nallowed = ["1024-bit MODP Group"]\n', "p")
    assert opinion(loose, T.KE, 2).good
    assert not opinion(loose, T.KE, 1).good


@pytest.mark.parametrize(
    ("text", "key"),
    [
        ("", "format"),
        ("format = 2", "format"),
        ("format = 1\nname = 'x'", "name"),
        ("format = 1\n[police]\n", "police"),
        ("format = 1\n[policy]\nbits = 1", "policy.bits"),
        ("format = 1\n[policy]\nstrength = '1'", "policy.strength"),
        ("format = 1\n[policy]\nstrength = true", "policy.strength"),
        ("format = 1\n[policy]\nstrength = 300", "policy.strength"),
        ("format = 1\n[algorithms]\nforbidden = ['AES']", "algorithms.forbidden"),
        ("format = 1\n[algorithms]\nallowed = [[]]", "algorithms.allowed"),
        ("format = 1\n[sign_in]\nmethods = ['smoke']", "sign_in.methods"),
        ("format = 1\n[sign_in]\nadditional_key = 'yes'", "sign_in.additional_key"),
        ("format = [", "the file"),
        ("x = " + "[" * 60_000, "the file"),
    ],
)
def test_files_that_are_wrong(text, key):
    with pytest.raises(InputError, match=r"policy\.toml: ") as caught:
        read_policy(text, "policy.toml")
    assert caught.value.what == f"policy.toml: {key}"


@given(st.text(max_size=80))
def test_strangers_policies(text):
    for head in ("", "format = 1\n", "format = 1\n[policy]\nname = "):
        try:
            read_policy(head + text, "policy.toml")
        except InputError:
            continue


def test_profiles_are_judged():
    policy = read_policy(STRICT, "policy.toml")
    good = profile(["ENCR_AES_GCM_16 256"], ["curve25519"])
    assert judge_profile(policy, good) == []
    codes = [entry.code.slug for entry in judge_profile(policy, profile(["ENCR_AES_CBC 256"], ["curve25519"]))]
    assert codes == ["policy-algorithm"]
    bad = Profile(
        "x",
        Gateway(("a.example",)),
        sign_in=SignIn(gateway="pre-shared-key"),
        settings=IkeSettings(),
        traffic=Traffic(ipv6="outside"),
    )
    codes = [entry.code.slug for entry in judge_profile(policy, bad)]
    assert codes == ["policy-sign-in"] * 3 + ["policy-traffic"]


def test_what_is_offered_under_a_policy():
    """Only what it allows; standard offers are cut as well; where nothing is left that is said, with the reason."""
    policy = read_policy(STRICT, "policy.toml")
    plain = Profile("plain", Gateway(("a.example",)), sign_in=SignIn(method="certificate"),
                    settings=IkeSettings(additional_key="required"))  # fmt: skip
    made = restrict(policy, plain)
    ike, esp = offers_of(made)
    assert {number for offer in (*ike, *esp) for number, _ in offer.encryption} == {20}
    assert {number for offer in ike for number in offer.groups} == {31, 19, 14}
    with pytest.raises(ProfileInvalid, match="leaves nothing"):
        restrict(policy, profile(["ENCR_AES_CBC 256"], ["curve25519"]))
    assert restrict(DEFAULT, made) == made
    with pytest.raises(ProfileInvalid, match="does not allow") as refused:
        restrict(policy, replace(made, sign_in=SignIn()))
    assert refused.value.slug == "policy-sign-in"
    assert "eap-mschapv2" in refused.value.why
    with pytest.raises(ProfileInvalid, match="does not allow") as refused:
        restrict(policy, replace(made, traffic=Traffic(ipv6="outside")))
    assert refused.value.slug == "policy-traffic"


@given(st.sampled_from([(20, 256), (20, 128), (12, 256), (3, 0), (28, 0)]), st.sampled_from([0, 2, 12]),
       st.sampled_from([1, 2, 5, 7]), st.sampled_from([2, 14, 19, 31, 21]))  # fmt: skip
def test_what_was_negotiated_is_judged(cipher, check, prf, group):
    """A finding for each part that the policy would not have offered, and none otherwise."""
    suite = Suite(*cipher, check, prf, group)
    bad = [row for row in parts_of(suite) if not opinion(DEFAULT, *row).good]
    found = judge_suite(DEFAULT, suite, "IKE SA")
    unprotected = cipher[0] in (12, 3) and not check
    assert len(found) == (len(bad) or int(unprotected))
    assert {entry.code.slug for entry in found} <= {"policy-negotiated"}


# Advice.

EVERYTHING = IkeCapabilities(
    chosen=Suite(20, 256, 0, 5, 31),
    ciphers=[(20, 256), (20, 128), (12, 256), (3, 0)],
    checks=[12, 2],
    prfs=[5, 7, 1],
    groups=[31, 19, 14, 2],
    fragments=True,
)
PLAIN = IkeCapabilities(chosen=None, ciphers=[(12, 128)], checks=[12], prfs=[5], groups=[14])


def advice(capabilities=EVERYTHING, policy=DEFAULT, device="workstation", of=None):
    own = of or Profile("lisbon", Gateway(("a.example",)))
    return advise(own, policy, DEVICES[device], {}, capabilities, asked=True, gateway="a.example")


def test_the_best_of_both_ends():
    found = advice()
    assert found.should == Suite(20, 256, 0, 5, 31)
    assert found.would == found.should
    assert {entry.code.slug for entry in found.findings} == {"gateway-takes-weak"}
    assert all(reason.source for reason in found.reasons)


def test_a_second_key_exchange_is_not_advised_away():
    hybrid = advice(replace(EVERYTHING, chosen=replace(EVERYTHING.chosen, extra=36)))
    assert hybrid.should == hybrid.would
    assert hybrid.should_bits == 192


def test_a_gateway_without_combined_modes():
    found = advice(PLAIN)
    assert found.should == Suite(12, 128, 12, 5, 14)
    assert found.should_bits == 112
    assert any("parts" in reason.words for reason in found.reasons)


def test_nothing_in_common():
    strict = read_policy("format = 1\n[policy]\nstrength = 128\n", "p")
    found = advice(PLAIN, strict)
    assert found.should is None
    assert found.should_bits == 0
    assert "no cipher, PRF and group" in found.reasons[0].words


def test_what_a_phone_can_not():
    own = Profile(
        "x",
        Gateway(("a.example",)),
        sign_in=SignIn("raw-public-key", "raw-public-key"),
        settings=IkeSettings(additional_key="required"),
    )
    found = advice(device="phone", of=own)
    assert len(found.obstacles) == 3
    assert advice(device="phone").obstacles == ()
    exotic = profile(["ENCR_CHACHA20_POLY1305"], ["curve448"])
    assert any("cipher" in words for words in advice(device="phone", of=exotic).obstacles)
    assert advice(device="phone").should.group == 19


def test_what_a_small_box_can():
    """RFC 7815: a shared key or a raw public key; RFC 8247: what is mandatory, and what is there for its sake."""
    keyed = Profile("x", Gateway(("a.example",)), sign_in=SignIn("pre-shared-key", "pre-shared-key"))
    assert advice(device="box", of=keyed).obstacles == ()
    raw = Profile("x", Gateway(("a.example",)), sign_in=SignIn("raw-public-key", "raw-public-key"))
    assert advice(device="box", of=raw).obstacles == ()
    named = advice(device="box")
    assert [words.partition(",")[0] for words in named.obstacles] == [
        "signs in by eap-mschapv2", "the gateway proves itself by certificate"]  # fmt: skip
    known = {row.name for row in named.rows if row.device}
    assert {"ENCR_AES_CCM_8 128", "PRF_AES128_XCBC", "AUTH_AES_XCBC_96", "2048-bit MODP Group"} <= known
    assert not {"ENCR_CHACHA20_POLY1305", "curve25519", "PRF_HMAC_SHA2_512", "AUTH_HMAC_SHA2_512_256"} & known
    assert advice(device="box").should.group == 14


def test_a_tablet_is_a_phone_to_us():
    phone, tablet = advice(device="phone"), advice(device="tablet")
    assert (phone.should, phone.rows) == (tablet.should, tablet.rows) and tablet.device == "tablet"


def test_a_gateway_that_was_not_asked():
    """Then the best of this program and the policy is advised, and nothing is claimed of the gateway."""
    found = advice(None)
    assert found.would is None
    assert found.should is not None
    assert {row.gateway for row in found.rows} == {None}


def test_advice_holds_to_the_policy():
    """Whatever both ends know, what is advised is allowed, known to both, and at least as strong as asked for."""
    strict = read_policy(STRICT, "p")
    for policy, capabilities, device in itertools.product((DEFAULT, strict), (EVERYTHING, PLAIN, None), DEVICES):
        should = advice(capabilities, policy, device).should
        if should is None:
            continue
        for row in parts_of(should):
            assert opinion(policy, *row).good
            assert capabilities is None or capabilities.has(*row)
