"""The parts of the lab's devices, without a lab: settings form, trust store, screen."""

from __future__ import annotations

import base64
import os
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.credentials import ClientKey, NamePassword, PreSharedKey
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import Gateway, Profile, SignIn, TunnelSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError, Malformed, StateError
from zesty_burrow.fleet.links.fields import fields_of
from zesty_burrow.fleet.links.link import page_content
from zesty_burrow.lab.authority import issue, make_authority, make_key
from zesty_burrow.lab.devices.phone.settings_form import L2TP, SettingsForm
from zesty_burrow.lab.devices.phone.trust_store import TrustStore
from zesty_burrow.lab.devices.screen import HEIGHT, KEYS, WIDTH, Screen
from zesty_burrow.profiles.advising.clients import PHONE, misfits
from zesty_burrow.protocols.ikev2.settings import IkeSettings
from zesty_burrow.protocols.l2tp_ipsec.settings import L2tpSettings
from zesty_burrow.store.devices import Device

ACCOUNT = NamePassword("tidewrack_heron", Secret("S3a-lark"))
SHARED = PreSharedKey(Secret("a long shared key"))
AUTHORITY = make_authority("Quillwort Relay")


def client_key():
    key = make_key("ecdsa")
    der = issue(AUTHORITY, key, "plover.example", purposes=(ExtendedKeyUsageOID.CLIENT_AUTH,))
    pem = x509.load_der_x509_certificate(der).public_bytes(Encoding.PEM).decode()
    return ClientKey(Secret(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())), (pem,))


def profile_of(settings, sign_in, protocol="ikev2"):
    plain = Profile("lisbon", Gateway(("lisbon.quillwort.example",)), tunnel=TunnelSettings(protocol))
    trusted = (AUTHORITY.pem().decode(),) if sign_in.gateway == "certificate" else ()
    return replace(plain, settings=settings, sign_in=sign_in, authorities=trusted)


WAYS = {
    "name and password": (IkeSettings(), SignIn(), (ACCOUNT,)),
    "with an identity": (IkeSettings(identity=Identity.of("vpn.example")), SignIn(), (ACCOUNT,)),
    "shared key": (
        IkeSettings(own_identity=Identity.of("heron.example")), SignIn("pre-shared-key", "pre-shared-key"), (SHARED,),
    ),
    "certificate": (IkeSettings(), SignIn("certificate", "certificate"), (client_key(),)),
    "L2TP over IPsec": (L2tpSettings(), SignIn("pre-shared-key", "ms-chap-v2"), (ACCOUNT, SHARED)),
}  # fmt: skip


@pytest.mark.parametrize("way", WAYS)
def test_what_a_page_gives_fits_the_form(way):
    """For each way that a phone's client is counted on for: every field, in the form's own order, and nothing is missing."""
    settings, sign_in, secrets = WAYS[way]
    protocol = "l2tp-ipsec" if isinstance(settings, L2tpSettings) else "ikev2"
    profile = profile_of(settings, sign_in, protocol)
    assert misfits(profile, PHONE) == []
    by_kind = {str(number): one for number, one in enumerate(secrets)}
    form, typed = SettingsForm(), fields_of(profile, by_kind)
    for one in typed:
        form.fill(one.key, one.value)
    keys = [one.key for one in typed]
    assert [one for one in form.fields() if one in keys] == keys and form.missing() == ()
    own = next((one for one in secrets if isinstance(one, ClientKey)), None)
    made, kept = form.saved(profile.authorities, own)
    assert (made.tunnel.protocol, made.sign_in.method, made.sign_in.gateway) == (
        protocol, sign_in.method, sign_in.gateway,
    )  # fmt: skip
    assert made.gateway == profile.gateway and made.gateway_identity == profile.gateway_identity
    assert set(kept.values()) == set(secrets) and set(kept) == set(profile.needs)
    assert not any(one.value in str(form.shown()) for one in typed if one.is_secret)


def test_the_form_offers_what_a_phone_is_counted_on_for():
    """And no more: not the algorithms that this program knows besides."""
    form = SettingsForm()
    for one in fields_of(profile_of(IkeSettings(), SignIn()), {"": ACCOUNT}):
        form.fill(one.key, one.value)
    made, _ = form.saved((), None)
    offered = [str(one) for proposal in made.settings.ike for one in proposal.all()]
    assert "ENCR_AES_GCM_16 256" in offered and not any("CHACHA" in one for one in offered)
    assert misfits(made, PHONE) == []


@pytest.mark.parametrize(
    ("filled", "key", "value", "why"),
    [
        ((), "password", "S3a-lark", "it has name, type, server"),
        ((), "type", "IKEv1", "it has IKEv2, L2TP/IPsec"),
        ((), "name", " ", "1 to 255"),
        ((), "server", "a" * 256, "1 to 255"),
        ((), "server", "a\x1b[2J", "1 to 255"),
        ((("type", "IKEv2"),), "sign-in", "MS-CHAPv2", "EAP-MSCHAPv2, pre-shared key, certificate"),
        ((("type", "L2TP/IPsec"),), "remote-identifier", "x.example", "it has name, type, server, sign-in"),
    ],
)
def test_what_the_form_refuses(filled, key, value, why):
    form = SettingsForm()
    for one in filled:
        form.fill(*one)
    before = dict(form.values)
    with pytest.raises(InputError) as problem:
        form.fill(key, value)
    assert why in problem.value.why and form.values == before
    assert "S3a-lark" not in f"{problem.value} {problem.value.why}"


def test_a_form_that_is_not_full():
    """It cannot be saved, and says what is missing; another type takes away what it has no field for."""
    form = SettingsForm((L2TP,))
    with pytest.raises(InputError, match="not filled: name, type, server"):
        form.saved((), None)
    with pytest.raises(InputError, match="no choice 'IKEv2'"):
        form.fill("type", "IKEv2")
    form = SettingsForm()
    for one in fields_of(profile_of(IkeSettings(), SignIn()), {"": ACCOUNT}):
        form.fill(one.key, one.value)
    form.fill("type", L2TP)
    assert set(form.values) == {"name", "type", "server", "sign-in"}
    form.fill("sign-in", "MS-CHAPv2")
    assert form.missing() == ("account", "password", "shared-key")


def now():
    return datetime.now(UTC)


def test_the_trust_store_asks():
    """Nothing is trusted before its owner has agreed, and nothing by an answer to no question."""
    store, der = TrustStore(now), AUTHORITY.certificate.public_bytes(Encoding.DER)
    with pytest.raises(StateError, match="has asked nothing"):
        store.answer(agreed=True)
    asked = store.open(der)
    assert "Quillwort Relay" in asked["subject"] and (asked["note"], store.authorities) == ("", [])
    store.answer(agreed=False)
    with pytest.raises(StateError):
        store.answer(agreed=True)
    assert store.authorities == []
    for _ in range(2):
        store.open(der)
        store.answer(agreed=True)
    assert store.authorities == [AUTHORITY.certificate.public_bytes(Encoding.PEM).decode()]


@pytest.mark.parametrize(("days", "note"), [(-400, "not valid yet"), (0, ""), (40000, "not valid any more")])
def test_the_trust_store_tells_the_time(days, note):
    store = TrustStore(lambda: now() + timedelta(days=days))
    found = store.open(AUTHORITY.certificate.public_bytes(Encoding.DER))["note"]
    assert note in found and bool(note) == bool(found)


@given(st.binary(max_size=300))
def test_the_trust_store_opens_no_nonsense(octets):
    """One error for everything that is no certificate, and no question then; the same for keys."""
    store = TrustStore(now)
    with pytest.raises(Malformed):
        store.open(octets)
    with pytest.raises(InputError):
        store.install_key(octets, "x")
    with pytest.raises(StateError):
        store.answer(agreed=True)


def test_a_key_of_the_phones_own():
    """As the page gives it: under the passphrase beside it, and no other."""
    key = client_key()
    profile = profile_of(IkeSettings(), SignIn("certificate", "certificate"))
    content = page_content(Device("plover", "phone"), profile, {"k": key}, os.urandom, "")
    octets = base64.b64decode(content["identity"]["der"])
    passphrase = next(one["value"] for one in content["fields"] if one["key"] == "identity-passphrase")
    store = TrustStore(now)
    with pytest.raises(InputError, match="passphrase is wrong"):
        store.install_key(octets, f"{passphrase}x")
    assert store.own is None and "plover.example" in store.install_key(octets, passphrase)
    assert store.own == key
    form = SettingsForm()
    for one in content["fields"]:
        if one["key"] != "identity-passphrase":
            form.fill(one["key"], one["value"])
    with pytest.raises(InputError, match="no certificate of this phone's own"):
        form.saved((), None)
    assert form.saved((), store.own)[1][CredentialsKind.CLIENT_KEY] == key


MENU = [(f"Entry {number}", f"act{number}") for number in range(6)]


@given(st.lists(st.sampled_from(KEYS)), st.lists(st.text(max_size=60), max_size=8))
def test_a_screen_shows_all_that_fits(keys, lines):
    """Whatever is pressed and shown: four lines of twenty characters, one entry chosen, every line of a text reached."""
    screen = Screen(MENU)
    for key in keys:
        screen.press(key)
        shown = screen.lines()
        assert [len(line) for line in shown] == [WIDTH] * HEIGHT
        assert [line[2:].strip() for line in shown if line[0] == ">"] == [MENU[screen.cursor][0]]
    screen.show(lines, "agreed")
    seen = set()
    for _ in range(len(screen.text) + 1):
        seen |= {line.strip() for line in screen.lines()}
        screen.press("down")
    assert {line.strip() for line in screen.text} <= seen
    assert screen.press("ok") == ("agreed" if screen.text or lines else MENU[screen.cursor][1]) and not screen.text


def test_keys():
    """A choice, a text that is agreed to or not, and no such key."""
    screen = Screen(MENU)
    assert [screen.press(key) for key in ("up", "down", "down", "ok")] == ["", "", "", "act2"]
    screen.show(["Take it?"], "take")
    assert screen.press("back") == "" and screen.lines()[2].startswith("> Entry 2")
    screen.show(["Take it?"], "take")
    assert screen.press("ok") == "take"
    with pytest.raises(ValueError, match="enter"):
        screen.press("enter")
