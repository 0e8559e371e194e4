"""Sheets, tables, mails and loose certificates: what people send becomes profiles, credentials and findings."""

from __future__ import annotations

import email.message
import email.policy
from datetime import UTC, datetime

import pytest
from cryptography.hazmat.primitives.serialization import Encoding, pkcs7
from hypothesis import example, given
from hypothesis import strategies as st

from support import AUTHORITY, PASSWORD
from zesty_burrow.errors import InputError, Malformed
from zesty_burrow.intake.containers.mail import looks_like_mail, read_mail_untrusted
from zesty_burrow.intake.documents.page import blocks_of_page
from zesty_burrow.intake.kit import Surroundings
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.read_kit import read_kit
from zesty_burrow.intake.readers import sheet, tables
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted

NOW = datetime.now(UTC)
PEM = AUTHORITY.pem()
DER = AUTHORITY.certificate.public_bytes(Encoding.DER)

SHEET = f"""Your access to the office

Connection name: Tidewrack Office
Host name or IP address: office.tidewrack.example
User name:\ttidewrack_heron
Password: {PASSWORD}
First name server: 10.20.0.53
Second name server: 10.20.0.54
Search suffix: office.tidewrack.example
All traffic: no
Office networks: 10.20.0.0/16, 10.21.0.0/16
Others on this machine: yes
NetBIOS name server: none
Favourite bird: razorbill

Please keep this sheet to yourself.
"""


def kit(*files, provider=""):
    """A kit from (name, octets or text) pairs."""
    members = [KitFile(name, data.encode() if isinstance(data, str) else data, 0o600) for name, data in files]
    return read_kit("kit", members, NOW, Surroundings(provider=provider))


def codes(found):
    return {entry.code.slug for entry in found.findings}


def test_a_set_up_sheet():
    """A filled-in sheet: every understood line has its effect, the others are named."""
    found = kit(("sheet.txt", SHEET), ("ca.pem", PEM), provider="Tidewrack Survey")
    profile = found.profiles[0].profile
    assert (profile.name, profile.provider) == ("tidewrack-office", "Tidewrack Survey")
    assert profile.gateway.addresses == ("office.tidewrack.example",)
    assert [str(one) for one in profile.traffic.networks] == ["10.20.0.0/16", "10.21.0.0/16"]
    assert [str(one) for one in profile.traffic.name_servers] == ["10.20.0.53", "10.20.0.54"]
    assert profile.traffic.suffixes == ("office.tidewrack.example",)
    assert profile.authorities == (PEM.decode(),)
    assert found.credentials[0].value.password.text() == PASSWORD
    told = {(entry.code.slug, entry.detail) for entry in found.findings}
    assert ("sheet-not-understood", "Favourite bird") in told
    assert "for-everybody" in codes(found)
    assert "authority-attached" in codes(found)
    assert profile.traffic.netbios_name_servers == ()


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("sheet.csv", "Server,lisbon.quillwort.example\nUser,tidewrack_heron\nPassword,x_Y\nDNS,198.51.100.242\n"),
        ("sheet.toml", 'server = "lisbon.quillwort.example"\n[login]\nuser = "tidewrack_heron"\npassword = "x_Y"\ndns = ["198.51.100.242"]'),
        ("sheet.txt", "server = lisbon.quillwort.example\n- User: tidewrack_heron\n* Password : x_Y\nDNS: 198.51.100.242"),
        ("page.html", "<html><style>a:b</style><table><tr><td>Server</td><td>lisbon.quillwort.example</td></tr><tr><th>User:</th>"
         "<td>tidewrack&#95;heron</td></tr><tr><td>Password</td><td>x_Y</td></tr><tr><td>DNS</td><td>198.51.100.242</td></tr></table>"),
    ],
)  # fmt: skip
def test_the_same_sheet_in_other_forms(name, text):
    """Text, CSV, TOML and a saved page give the same profile and credentials."""
    found = kit((name, text), provider="Quillwort Relay")
    profile = found.profiles[0].profile
    assert profile.gateway.addresses == ("lisbon.quillwort.example",)
    assert [str(one) for one in profile.traffic.name_servers] == ["198.51.100.242"]
    assert (found.credentials[0].value.name, found.credentials[0].value.password.text()) == ("tidewrack_heron", "x_Y")


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("MTU: many", "is not a number"),
        ("DNS: ns.example", "name servers or networks"),
        ("Networks: 10.0.0.1/8", "host bits"),
        ("All traffic: no", "its networks are not named"),
        ("Protocol: carrier pigeon", "is not available"),
        ("MTU: 20", "between 1280"),
    ],
)
def test_a_sheet_with_a_mistake(line, words):
    """A line that cannot be is told with its reason; nothing is taken from the sheet's profile."""
    with pytest.raises(InputError) as caught:
        kit(("sheet.txt", f"Server: lisbon.quillwort.example\nUser: x\n{line}\n"))
    assert words in str(caught.value)


def test_a_login_domain():
    """The domain goes in front of the name, unless the name has one already (RFC 2759 §4)."""
    found = kit(("a.txt", "User: heron\nPassword: x\nDomain: BIRDS\n"), provider="P")
    assert found.credentials[0].value.account == "BIRDS\\heron"
    found = kit(("a.txt", "User: SEA\\heron\nPassword: x\nDomain: BIRDS\n"), provider="P")
    assert found.credentials[0].value.account == "SEA\\heron"


TABLES = {
    "servers.csv": "country,city,hostname,load\nPT,Lisbon,lisbon.quillwort.example,12\nEE,Tallinn,tallinn.quillwort.example,7\n",
    "other.csv": "Hostname;Load;Town;Country code\nlisbon.quillwort.example;12;Lisbon;PT\ntallinn.quillwort.example;7;Tallinn;EE\n",
    "servers.json": '{"servers": [{"city": "Lisbon", "country": "PT", "host": "lisbon.quillwort.example"},'
    ' {"host": "tallinn.quillwort.example", "country": "EE", "city": "Tallinn"}]}',
}


@pytest.mark.parametrize("name", TABLES)
def test_a_server_table(name):
    """Columns in any order, CSV or JSON: each row becomes a profile of its place, with the kit's authority."""
    found = kit((name, TABLES[name]), ("authority.der", DER), provider="Quillwort Relay")
    rows = [(entry.profile.name, entry.profile.country, entry.profile.gateway.addresses) for entry in found.profiles]
    assert rows == [
        ("lisbon", "PT", ("lisbon.quillwort.example",)),
        ("tallinn", "EE", ("tallinn.quillwort.example",)),
    ]
    assert all("BEGIN CERTIFICATE" in entry.profile.authorities[0] for entry in found.profiles)
    assert {entry.profile.credentials_label for entry in found.profiles} == {"Quillwort Relay"}


def test_a_table_with_a_bad_row():
    """A row that cannot be is named by its number; the others are taken."""
    found = kit(("s.csv", "city,host\nLisbon,lisbon.quillwort.example\nNowhere,two words?\n"), provider="P")
    assert [entry.profile.name for entry in found.profiles] == ["lisbon"]
    assert any("row 3" in entry.subject for entry in found.findings)


def mail(html=False, attach=()):
    """A provider's welcome mail."""
    message = email.message.EmailMessage(policy=email.policy.SMTP)
    message["From"], message["To"] = "help@quillwort.example", "admin@tidewrack.example"
    message["Subject"], message["Date"] = "Willkommen an Bord – your account", "Mon, 02 Nov 2026 09:00:00 +0000"
    text = f"Dear customer,\n\nServer: lisbon.quillwort.example\nUsername: tidewrack_heron\nPassword: {PASSWORD}\n\nFair winds!\n"
    if html:
        page = "".join(f"<p>{line}</p>" for line in text.splitlines())
        message.set_content(
            f"<html><head><title>x</title></head><body>{page}</body></html>", subtype="html", cte="quoted-printable"
        )
    else:
        message.set_content(text)
    for name, data in attach:
        message.add_attachment(data, maintype="application", subtype="octet-stream", filename=name)
    return message.as_bytes()


@pytest.mark.parametrize("html", [False, True])
def test_a_welcome_mail(html):
    """Account, password and server are read from plain and from HTML-only mails; attachments come along."""
    found = kit(("welcome.eml", mail(html, [("quillwort-authority.pem", PEM)])), provider="Quillwort Relay")
    assert found.profiles[0].profile.gateway.addresses == ("lisbon.quillwort.example",)
    assert found.profiles[0].profile.authorities == (PEM.decode(),)
    assert found.credentials[0].value.password.text() == PASSWORD
    assert PASSWORD not in repr(found)


def test_a_mail_with_settings_attached():
    """An attached archive is opened like any other."""
    import io
    import zipfile

    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("servers.csv", TABLES["servers.csv"])
    found = kit(("welcome.eml", mail(attach=[("../kit.zip", stream.getvalue())])), provider="P")
    assert {"lisbon", "tallinn"} <= {entry.profile.name for entry in found.profiles}


@given(st.integers(0, 2000), st.integers(0, 255), st.integers(0, 900))
def test_broken_mails(position, value, cut):
    """A mail that was changed and cut gives files or one documented error."""
    data = bytearray(mail(True, [("a.pem", PEM)]))
    data[position % len(data)] = value
    try:
        read_mail_untrusted(KitFile("m.eml", bytes(data[: len(data) - cut])))
    except InputError as problem:
        assert problem.slug in ("kit-unreadable", "archive-bomb")


@pytest.mark.parametrize("host", ["none", "NONE", "-", "n/a", ",", " ; "])
def test_a_host_that_is_none(host):
    """What people write into a field that they leave out gives no profile, and what else is there is taken."""
    made = sheet.draft(sheet.read_lines(f"server: {host}\nuser: heron\npassword: kelp"), "sheet")
    assert made.profile is None
    assert len(made.credentials) == 1


@given(st.text(max_size=200))
@example("NONE")
def test_any_text_is_a_sheet_or_not(text):
    """Sheets, tables and pages of any content: rows, or ``Malformed``."""
    assert isinstance(sheet.read_lines(text), tables.TableRow)
    assert isinstance(blocks_of_page(text), list)
    assert looks_like_mail(text.encode("utf-8", "replace")) in (True, False)
    for reader in (sheet.read_pairs, sheet.read_toml, tables.read_table):
        try:
            reader(text)
        except Malformed as problem:
            assert problem.why
    row = sheet.read_lines(f"server: {text}\nuser: {text}\npassword: {text}\nmtu: {text}\ndns: {text}")
    try:
        sheet.draft(row, "sheet")
    except InputError as problem:
        assert "sheet" in str(problem)


def test_prose_is_no_sheet():
    """A letter with colons in it stays a read-me."""
    with pytest.raises(InputError, match="contains nothing"):
        kit(
            (
                "letter.txt",
                "Dear all: please note the following thing.\nNB: it rains. Time: now. There are many more words here.",
            )
        )


def test_certificates_in_every_form():
    """PEM with several, DER, PKCS #7 in DER and PEM: the same certificate comes out."""
    forms = [
        PEM + PEM,
        DER,
        pkcs7.serialize_certificates([AUTHORITY.certificate], Encoding.DER),
        pkcs7.serialize_certificates([AUTHORITY.certificate], Encoding.PEM),
    ]
    for data in forms:
        assert set(read_certificates_untrusted(data)) == {AUTHORITY.certificate}


@given(st.binary(max_size=300))
def test_certificates_of_any_octets(data):
    """A stranger's certificate file is read or ``Malformed``."""
    for octets in (data, DER[: len(data)], b"-----BEGIN PKCS7-----\n" + data, b"-----BEGIN CERTIFICATE-----\n" + data):
        with pytest.raises(Malformed):
            read_certificates_untrusted(octets)
