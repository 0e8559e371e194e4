"""Devices, rules, tables and where each stands; which client can use which profile."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.credentials import ClientKey
from zesty_burrow.core.policy.algorithms import TransformType as T
from zesty_burrow.core.profile import Proxy, SignIn, TunnelSettings
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import BurrowError, InputError, Malformed
from zesty_burrow.fleet.client import client_of
from zesty_burrow.fleet.parts import earliest_end, files_of
from zesty_burrow.fleet.standing import TIME, DeviceState, Entered, standings
from zesty_burrow.fleet.table import read_devices
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.profiles.advising.clients import misfits, nearest
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings
from zesty_burrow.protocols.ikev2.settings import AlgorithmChoice, IkeSettings, ProposalChoice
from zesty_burrow.store.devices import (
    CLIENT_OF,
    CONFIRMED,
    FAILED,
    HANDED,
    KINDS,
    WAITING,
    Device,
    Handover,
    Report,
    Rule,
    Rules,
    from_texts,
)
from zesty_burrow.store.store import CredentialsRow

NOW = datetime(2026, 11, 28, 12, tzinfo=UTC)
LISBON, TALLINN = (place_profile(place) for place in story.PLACES[:2])
CURLEW = Device("curlew", "laptop", "Marit Aune", "Koper", tags=("boats", "field"))
PLOVER = Device("plover", "phone", "Marit Aune", tags=("boats",))


# Rules.


@pytest.mark.parametrize(
    ("rules", "profile"),
    [
        ([], None),
        ([Rule(1, "a")], "a"),
        ([Rule(1, "a"), Rule(2, "b", kind="phone")], "b"),
        ([Rule(1, "a", kind="phone"), Rule(2, "b")], "a"),
        ([Rule(1, "a", kind="phone"), Rule(2, "b", tag="boats")], "b"),
        ([Rule(1, "a", kind="phone", tag="boats"), Rule(2, "b", tag="boats")], "a"),
        ([Rule(1, "a", device="plover"), Rule(2, "b", kind="phone", tag="boats", owner="Marit Aune")], "a"),
        ([Rule(1, "a", kind="laptop"), Rule(2, "b", owner="Jon Berg")], None),
        ([Rule(1, "a", owner="marit aune")], "a"),
        ([Rule(1, "a", device="plo")], None),
    ],
)
def test_which_rule_is_followed(rules, profile):
    """By name before more conditions before the newer; in whichever order they are looked at."""
    for order in (rules, rules[::-1]):
        found = Rules(order).of(PLOVER)
        assert (found.profile if found else None) == profile


def test_words_and_conditions():
    assert CURLEW.matches(["MARIT", "boat"]) and not CURLEW.matches(["marit", "phone"])
    assert CURLEW.matches([], kind="laptop", tag="field", place="koper") and not CURLEW.matches([], tag="fiel")
    assert {kind: Device("x", kind).connects_by for kind in KINDS} == CLIENT_OF
    assert CURLEW.runs_program and not PLOVER.runs_program and not replace(CURLEW, folder="/srv/vpn").runs_program


# Tables.


def test_a_table():
    """As spreadsheets write it: with a mark at the start, any of three separators, quotes, empty lines."""
    text = '\ufeffName;Kind;Sign-ins;Tags\r\n"curlew";Laptop;;"boats, field"\r\n;;;\r\nplover;phone;eap-mschapv2;\r\n'
    found = read_devices(text, "d.csv")
    assert found == [
        Device("curlew", "laptop", tags=("boats", "field")),
        Device("plover", "phone", sign_ins=("eap-mschapv2",)),
    ]
    assert read_devices("name\tkind\na\tbox\n", "d.csv") == read_devices("kind,name\nbox,a\n", "d.csv")


@pytest.mark.parametrize(
    ("text", "where", "why"),
    [
        ("", "d.csv: there is no device", ""),
        ("name,kind\n", "d.csv: there is no device", ""),
        ("name,owner\na,b\n", "d.csv: the heading needs", "name, owner"),
        ("name,kind\na,phone\nb,teapot\n", "d.csv, line 3: kind 'teapot' is not one of", ""),
        ("name,kind\n,phone\n", "d.csv, line 2: name is missing", ""),
        ("name,kind\na,phone\na,box\n", "d.csv, line 3: a is there already", ""),
        ("name,kind\na,phone,extra\n", "d.csv, line 2: more cells", "3 instead of 2"),
        ("name,kind,colour\na,phone,red\n", "d.csv, line 2: column 'colour'", ""),
        ("name,kind\n../a,phone\n", "d.csv, line 2: name '../a'", ""),
        ("name,kind\na\x1b[31m,phone\n", "d.csv, line 2: name", ""),
        ("name,kind,owner\na,phone,\x1b[2J\n", "d.csv, line 2: owner: at most 200 printable", ""),
        ("name,kind,reach\na,phone,ssh://\x07\n", "d.csv, line 2: reach: at most 200 printable", ""),
        ("name,kind,tags\na,phone,<b>\n", "d.csv, line 2: tag '<b>'", ""),
        ("name,kind,folder\na,box,tmp\n", "d.csv, line 2: folder 'tmp'", ""),
        ("name,kind,client\na,box,robot\n", "d.csv, line 2: client 'robot'", ""),
        (f"name,kind,owner\na,phone,{'x' * 5000}\n", "d.csv, line 2: owner is longer", ""),
        ('name,kind\n"a,phone\n', "d.csv, line", ""),
    ],
)
def test_tables_that_are_wrong(text, where, why):
    """The place is named; nothing of it is taken."""
    with pytest.raises((Malformed, InputError)) as told:
        read_devices(text, "d.csv")
    assert told.value.what.startswith(where) and why in told.value.why


@given(st.text(alphabet=st.sampled_from('name,kind\n"\r;\taphoneboxé\x00\x1b'), max_size=80))
def test_arbitrary_tables(text):
    for whole in (text, f"name,kind\n{text}"):
        try:
            found = read_devices(whole, "d.csv")
        except BurrowError:
            continue
        assert found and all(one.name.isprintable() and one.kind in KINDS for one in found)


def test_columns_of_a_row():
    assert from_texts({"name": "a", "kind": "BOX", "protocols": "ikev2  l2tp-ipsec"}).protocols == (
        "ikev2",
        "l2tp-ipsec",
    )
    with pytest.raises(ValueError, match="'key' is not one of"):
        from_texts({"name": "a", "kind": "box", "key": "x"})


# Where they stand.


def handed(state=CONFIRMED, profile="lisbon", digest="1", expires="", cause=""):
    return Handover("curlew", profile, digest, "push", state, "2026-11-01T00:00:00Z", cause, "as was told", expires)


def at(days):
    return (NOW + timedelta(days=days)).strftime(TIME)


@pytest.mark.parametrize(
    ("last", "state", "why"),
    [
        (None, DeviceState.NEVER_SET_UP, ""),
        (handed(), DeviceState.IN_DATE, ""),
        (handed(HANDED), DeviceState.NOT_CONFIRMED, "as was told"),
        (handed(WAITING), DeviceState.WAITING, "its owner has to agree"),
        (handed(FAILED), DeviceState.FAILED, "as was told"),
        (handed(digest="0"), DeviceState.OUT_OF_DATE, "has another edition"),
        (handed(profile="tallinn"), DeviceState.OUT_OF_DATE, "has tallinn"),
        (handed(expires=at(31)), DeviceState.IN_DATE, ""),
        (handed(expires=at(29)), DeviceState.EXPIRES_SOON, "a certificate ends 2026-12-27"),
        (handed(expires=at(-1)), DeviceState.EXPIRED, "a certificate ends 2026-11-27"),
        (handed(digest="0", expires=at(-1)), DeviceState.OUT_OF_DATE, "has another edition"),
    ],
)
def test_where_a_device_stands(last, state, why):
    (one,) = standings([CURLEW], [Rule(1, "lisbon")], {"lisbon": "1"}, {"curlew": last} if last else {}, NOW)
    assert (one.state, one.why, one.wanted) == (state, why, "lisbon")
    left = state in (DeviceState.NEVER_SET_UP, DeviceState.WAITING, DeviceState.FAILED, DeviceState.OUT_OF_DATE)
    assert one.is_left == left
    # That it leaks comes first, and takes nothing away from what is left to do.
    report = Report("curlew", 1, at(0), "leaking", "lisbon", "1", (), ("dns-leak",))
    handovers = {"curlew": last} if last else {}
    (leaking,) = standings([CURLEW], [Rule(1, "lisbon")], {"lisbon": "1"}, handovers, NOW, {"curlew": report})
    assert (leaking.state, leaking.handover_state, leaking.is_left) == (DeviceState.LEAKING, state, left)
    assert leaking.why == (f"dns-leak; {why}" if why and state is not DeviceState.NOT_CONFIRMED else "dns-leak")
    assert leaking.has_another == one.has_another


def entered(*rows):
    """Credentials: label, device, profile, kind, when they were entered."""
    known = [CredentialsRow(label, device, profile, kind, "kit", when) for label, device, profile, kind, when in rows]
    return Entered(known, {"lisbon": "Quillwort", "tallinn": "Other"})


@pytest.mark.parametrize(
    ("rows", "changes"),
    [
        ((("Quillwort", "", "", "name-password", "2"),), True),
        ((), True),
        ((("Quillwort", "", "", "name-password", "1"), ("Quillwort", "curlew", "", "name-password", "1")), True),
        ((("Quillwort", "", "", "name-password", "1"), ("Quillwort", "plover", "", "name-password", "2")), False),
        ((("Quillwort", "", "", "name-password", "1"), ("Other", "", "", "name-password", "2")), False),
        ((("Quillwort", "", "", "name-password", "1"), ("Quillwort", "", "tallinn", "name-password", "2")), False),
        ((("Quillwort", "", "lisbon", "name-password", "1"), ("Quillwort", "", "", "name-password", "1")), True),
        ((("Quillwort", "", "", "name-password", "1"), ("Quillwort", "", "", "pre-shared-key", "2")), True),
    ],
)
def test_credentials_that_were_changed_since(rows, changes):
    """What goes to the device is compared, and nothing else; where it is not known what went, nothing is said."""
    before = entered(("Quillwort", "", "", "name-password", "1"))
    last = replace(handed(), credentials=before.of("curlew", "lisbon"))
    known = [CURLEW], [Rule(1, "lisbon")], {"lisbon": "1"}
    (one,) = standings(*known, {"curlew": last}, NOW, entered=entered(*rows))
    wanted = (DeviceState.OUT_OF_DATE, "has other credentials") if changes else (DeviceState.IN_DATE, "")
    assert (one.state, one.why, one.has_other_credentials) == (*wanted, changes)
    (one,) = standings(*known, {"curlew": handed()}, NOW, entered=entered(*rows))
    assert one.state is DeviceState.IN_DATE


def test_the_worst_first():
    """By trouble, then by name; a profile that has gone, and devices for which no rule is."""
    devices = [Device(name, kind) for name, kind in (("d", "box"), ("c", "phone"), ("b", "laptop"), ("a", "laptop"))]
    rules = [Rule(1, "lisbon", kind="laptop"), Rule(2, "gone", kind="phone")]
    last = {"a": replace(handed(), device="a")}
    rows = standings(devices, rules, {"lisbon": "1"}, last, NOW)
    assert [(one.device.name, one.state) for one in rows] == [
        ("c", DeviceState.PROFILE_GONE),
        ("b", DeviceState.NEVER_SET_UP),
        ("d", DeviceState.NO_PROFILE),
        ("a", DeviceState.IN_DATE),
    ]
    assert rows[0].why == "there is no profile gone" and not rows[0].is_left


# What fits.

RARE = ProposalChoice(
    (AlgorithmChoice.read(T.ENCR, "ENCR_AES_CTR 256"),),
    (AlgorithmChoice.read(T.INTEG, "AUTH_HMAC_SHA2_256_128"),),
    (AlgorithmChoice.read(T.PRF, "PRF_HMAC_SHA2_256"),),
    (AlgorithmChoice.read(T.KE, "modp2048"),),
)
BY_HTTP = replace(
    LISBON,
    name="lisbon-http",
    tunnel=TunnelSettings(protocol="connect-ip"),
    settings=ConnectIpSettings(),
    sign_in=SignIn("certificate", "basic"),
)


@pytest.mark.parametrize(
    ("profile", "device", "why"),
    [
        (LISBON, CURLEW, []),
        (BY_HTTP, CURLEW, []),
        (LISBON, PLOVER, []),
        (BY_HTTP, PLOVER, ["goes over connect-ip, which a phone does not know"]),
        (LISBON, Device("shearwater", "box"), ["signs in by eap-mschapv2", "proves itself by certificate"]),
        (LISBON, replace(PLOVER, protocols=("l2tp-ipsec",)), ["goes over ikev2, which its client does not know"]),
        (LISBON, replace(PLOVER, sign_ins=("certificate",)), ["signs in by eap-mschapv2"]),
        (replace(LISBON, proxy=Proxy("http", "proxy.example", 3128)), PLOVER, ["goes by a proxy"]),
        (replace(LISBON, settings=IkeSettings(transport="tcp")), PLOVER, ["goes over ikev2 TCP"]),
        (replace(LISBON, settings=IkeSettings(additional_key="required")), PLOVER, ["additional shared key"]),
        (replace(LISBON, settings=IkeSettings(ike=(RARE,))), PLOVER, ["offers no cipher that a phone knows"]),
        (replace(LISBON, settings=IkeSettings(ike=(RARE,))), CURLEW, []),
        (replace(LISBON, settings=IkeSettings(transport="tcp")), CURLEW, []),
    ],
)
def test_what_a_client_can_use(profile, device, why):
    found = misfits(profile, client_of(device))
    assert len(found) == len(why) and all(part in whole for part, whole in zip(why, found, strict=True))


def test_the_nearest_that_fits():
    """Of the same place before one of the provider; none rather than a stranger's."""
    client = client_of(PLOVER)
    others = [TALLINN, LISBON, BY_HTTP]
    assert nearest(BY_HTTP, client, others) == LISBON.name
    assert nearest(BY_HTTP, client, [TALLINN, BY_HTTP]) == TALLINN.name
    assert nearest(BY_HTTP, client, [replace(TALLINN, provider="Somebody", country="")]) == ""


# What is handed over.


def test_the_first_end_of_a_certificate(authority):
    pem = authority.pem().decode()
    ends = authority.certificate.not_valid_after_utc.strftime(TIME)
    assert earliest_end(replace(LISBON, authorities=(pem,)), []) == ends
    assert earliest_end(replace(LISBON, authorities=()), [ClientKey(Secret("k"), (pem,))]) == ends
    assert earliest_end(replace(LISBON, authorities=("authority.pem",)), []) == ""
    assert earliest_end(replace(LISBON, authorities=("-----BEGIN CERTIFICATE-----\nx",)), []) == ""


def test_files_in_their_order(authority):
    """Certificates, settings, credentials."""
    profile = replace(LISBON, authorities=(authority.pem().decode(),))
    kept = {"client-key": ClientKey(Secret("the key"), ("a certificate",))}
    found = files_of(profile, kept)
    ends = ["authorities.pem", "toml", "certificate.pem", "key.pem"]
    assert [name.removeprefix(LISBON.name).lstrip("-.") for name in found] == ends
    assert found[f"{LISBON.name}-key.pem"] == b"the key" and b"the key" not in found[f"{LISBON.name}.toml"]
