"""Each form of handing over that the other tests do not take so far: to a tunnel on the device, verified from there."""

from __future__ import annotations

import base64
import json
import tomllib
from dataclasses import asdict
from html.parser import HTMLParser

import PIL.Image
import pytest
import pyzipper
import zxingcpp
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from lab.links_server import PROGRAM, serving
from zesty_burrow.core.outside.judgement import judge
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, Sighting
from zesty_burrow.fleet.links.server import asset
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient
from zesty_burrow.observe.channel import ObservatoryAddress
from zesty_burrow.observe.client import Observer

pytestmark = pytest.mark.lab
PASSPHRASE = "auks dive at dawn"
LISBON = ExpectedExit("PT", "Lisbon", story.PROVIDER)


class Handed:
    """The list, and what is done on a phone by hand."""

    def __init__(self, lab):
        self.lab, self.client = lab, LabClient(lab.folder)

    def device(self, name, kind, profile, *words):
        self.lab.heron("devices", "add", name, "--kind", kind, *words, check=0)
        self.lab.heron("devices", "assign", profile, "--device", name, check=0)

    def over(self, name, *words):
        (row,) = self.lab.heron("hand-over", name, *words, check=0).json["devices"]
        return row

    def observed(self, phone):
        authority = str(self.lab.folder / story.OBSERVATORY_AUTHORITY)

        def look(_):
            return asdict(Observer(ObservatoryAddress.of(story.OBSERVATORY_URL, authority=authority)).observe())

        found = self.client.as_owner(phone, look, lambda _: None)
        for key in ("ipv4", "ipv6"):
            found[key] = Sighting(**found[key])
        for key in ("real_time", "resolvers"):
            found[key] = tuple(Sighting(**one) for one in found[key])
        return Observation(**found)

    def verdict(self, phone, fields):
        """Of what is typed into its form: looked at before, and with the tunnel on."""
        for key, value in fields.items():
            self.client.phone(phone, "fill", field=key, value=value)
        self.client.phone(phone, "save")
        before = self.observed(phone)
        assert before.ipv4.country == "SI"
        self.client.phone(phone, "switch", on=True)
        judgement = judge(before, self.observed(phone), LISBON)
        self.client.phone(phone, "switch", on=False)
        assert self.observed(phone).ipv4 == before.ipv4
        return str(judgement.verdict)


@pytest.fixture
def handed(every_protocol):
    """Afterwards the list is empty, and nothing is set up on the devices."""
    lab = every_protocol
    made = Handed(lab)
    yield made
    names = [row["name"] for row in lab.heron("devices", "list").json["devices"]]
    lab.heron("devices", "remove", *names, check=0)
    for phone in story.PHONES:
        made.client.phone(phone, "forget")
    lab.shell(story.LAPTOP, PROGRAM, "remove", "quillwort-lisbon", "--yes", check=None)


class Paper(HTMLParser):
    """Labels and values on a card."""

    def __init__(self):
        super().__init__()
        self.rows, self._in = [], ""

    def handle_starttag(self, tag, attrs):
        self._in = tag

    def handle_data(self, data):
        if self._in in ("dt", "dd"):
            self.rows.append(data)
            self._in = ""


def test_a_card(handed, tmp_path):
    """What is printed is typed on the old phone, label by label; nothing else is needed there."""
    handed.device(story.OLD_PHONE, "phone", "lisbon-l2tp", "--protocols", "l2tp-ipsec")
    row = handed.over(story.OLD_PHONE, "--card", str(tmp_path / "card.html"))
    assert (row["form"], row["state"], row["detail"]) == ("card", "handed over", "printed on a card")
    paper = Paper()
    paper.feed((tmp_path / "card.html").read_text())
    words = json.loads(asset("texts.json"))["en"]
    keys = {text: key.removeprefix("field-") for key, text in words.items() if key.startswith("field-")}
    fields = {keys[label]: value for label, value in zip(paper.rows[::2], paper.rows[1::2], strict=True)}
    assert handed.verdict(story.OLD_PHONE, fields) == "sealed"


def test_an_archive(handed, tmp_path):
    """Its certificate is opened on the phone, and what is in its files is typed there."""
    handed.device(story.PHONE, "phone", "quillwort-lisbon")
    (tmp_path / "secret").write_text(PASSPHRASE)
    (tmp_path / "secret").chmod(0o600)
    row = handed.over(story.PHONE, "--to", str(tmp_path), "--kit-passphrase-file", str(tmp_path / "secret"))
    with pyzipper.AESZipFile(row["to"]) as opened:
        opened.setpassword(PASSPHRASE.encode())
        files = {name: opened.read(name) for name in opened.namelist()}
    (authority,) = x509.load_pem_x509_certificates(files["quillwort-lisbon-authorities.pem"])
    octets = base64.b64encode(authority.public_bytes(Encoding.DER)).decode()
    handed.client.phone(story.PHONE, "open-certificate", octets=octets)
    handed.client.phone(story.PHONE, "answer", agreed=True)
    settings = tomllib.loads(files["quillwort-lisbon.toml"].decode())
    account, password = files["quillwort-lisbon-credentials.txt"].decode().split()
    # Without an identity of its own the gateway has to prove its name (docs/profile.md).
    (host,) = settings["gateway"]["addresses"]
    fields = {"name": settings["profile"]["name"], "type": "IKEv2", "server": host, "remote-identifier": host}
    fields |= {"sign-in": "EAP-MSCHAPv2", "account": account, "password": password}
    assert handed.verdict(story.PHONE, fields) == "sealed"


def test_a_code_of_a_link(handed, tmp_path):
    """What a camera reads from the picture is opened; the tunnel is checked on the page."""
    handed.device(story.PHONE, "phone", "quillwort-lisbon")
    with serving(handed.lab):
        handed.over(story.PHONE, "--link", story.LINKS_URL, "--to", str(tmp_path))
        (seen,) = zxingcpp.read_barcodes(PIL.Image.open(tmp_path / f"{story.PHONE}.link.png"))
        handed.client.as_owner(story.PHONE, lambda owner: owner.open_link(seen.text), lambda _: None)
        handed.client.phone(story.PHONE, "switch", on=True)
        verdict = handed.client.as_owner(story.PHONE, lambda owner: owner.look(), lambda _: None)
        # Whoever has the link can look as often as they like; one look a minute is kept.
        handed.client.as_owner(story.PHONE, lambda owner: owner.look(), lambda _: None)
    assert verdict["verdict"] == "sealed"
    (run,) = handed.lab.heron("history", "--device", story.PHONE, check=0).json["runs"]
    assert (run["verdict"], run["headline"]) == ("sealed", "reported by the device")
    assert run["exits"].startswith("198.51.100.")


def verified_on_the_laptop(lab):
    lab.shell(story.LAPTOP, PROGRAM, "verify", "--before")
    lab.shell(story.LAPTOP, PROGRAM, "connect", "lisbon", "--detach")
    try:
        return json.loads(lab.shell(story.LAPTOP, PROGRAM, "verify", "--json").out)["verdict"]
    finally:
        lab.shell(story.LAPTOP, PROGRAM, "disconnect")


def test_a_bundle_in_a_file(handed, tmp_path):
    """Carried there by any way; its owner agrees."""
    lab = handed.lab
    handed.device(story.LAPTOP, "laptop", "quillwort-lisbon")
    (tmp_path / "key").write_text(lab.shell(story.LAPTOP, PROGRAM, "enrol").out)
    lab.heron("devices", "change", story.LAPTOP, "--key", str(tmp_path / "key"), check=0)
    row = handed.over(story.LAPTOP, "--to", str(tmp_path))
    assert row["form"] == "bundle"
    lab.shell(story.LAPTOP, PROGRAM, "receive", row["to"], "--agree")
    assert verified_on_the_laptop(lab) == "sealed"


def test_files_in_a_folder(handed, tmp_path):
    """Put there by SFTP for a device without this program; what is there reads them: here `zesty import`."""
    lab, folder = handed.lab, tmp_path / "there"
    folder.mkdir()
    handed.device(story.LAPTOP, "laptop", "quillwort-lisbon", "--reach", story.LAPTOP, "--folder", str(folder))
    row = handed.over(story.LAPTOP, "--ssh-config", str(lab.folder / "heron" / "ssh" / "config"))
    assert (row["form"], row["state"]) == ("files", "handed over")
    lab.shell(story.LAPTOP, PROGRAM, "import", str(folder))
    assert verified_on_the_laptop(lab) == "sealed"
