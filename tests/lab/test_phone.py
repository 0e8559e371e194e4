"""A phone's owner, from the link to the verdict: a real browser in the phone's namespace, and what it copies is typed."""

from __future__ import annotations

import base64
import os

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from browser import Browser
from lab.links_server import PROGRAM, prepare, serving
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
PHONE, NAME = story.PHONE, "quillwort-lisbon"
WATCHED = "navigator.clipboard.writeText = async (text) => { (window.copied ||= []).push(text); };"


@pytest.fixture
def served(lab, tmp_path):
    """The administrator's list with the phone in it, and the server of links on the observatory's host."""
    prepare(tmp_path)
    lab.heron("devices", "add", PHONE, "--kind", "phone", "--owner", "Marit Aune", check=0)
    lab.heron("devices", "assign", NAME, "--device", PHONE, check=0)
    with serving(lab, tmp_path):
        yield lab
    lab.heron("devices", "remove", PHONE, check=0)
    lab.shell(PHONE, PROGRAM, "disconnect", check=None)
    lab.shell(PHONE, PROGRAM, "remove", NAME, check=None)


def phone_browser(lab):
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
    return Browser(prefix=[PROGRAM, "lab", "run", PHONE, "--"], environment=environment)


def shown(page, section):
    page.until(f"!document.querySelector('#{section}').hidden && document.querySelector('#{section} h1').textContent")
    return " ".join(page.text().split())


def row_of(lab):
    (row,) = lab.heron("devices", "list", PHONE).json["devices"]
    return row


def set_up(lab, page, folder):
    """The settings form of the phone, filled with what the page gives: certificate first, then fields, then secrets."""
    url = lab.heron("hand-over", PHONE, "--link", f"https://{story.LINKS_NAME}:8443").json["devices"][0]["to"]
    page.call("Page.addScriptToEvaluateOnNewDocument", source=WATCHED)
    page.go(url)
    page.until("!document.querySelector('#open').disabled")
    page.tap("#open")
    assert "all traffic of this device goes through Quillwort Relay" in shown(page, "agree")
    page.tap("#yes")
    shown(page, "certificate")
    octets = base64.b64decode(page.run("content.certificates[0].der"))
    (folder / "ca.pem").write_bytes(x509.load_der_x509_certificate(octets).public_bytes(Encoding.PEM))
    page.tap("#certificate .next")
    shown(page, "settings")
    for number in range(1, page.run("document.querySelectorAll('#fields li').length") + 1):
        page.tap(f"#fields li:nth-child({number}) button")
    page.tap("#settings .next")
    shown(page, "credentials")
    page.tap("#secrets button:last-child")
    page.tap("#credentials .next")
    shown(page, "done")
    name, kind, host, identity, sign_in, account, password = page.run("window.copied")
    assert (kind, sign_in) == ("IKEv2", "EAP-MSCHAPv2")
    (folder / "typed.txt").write_text(f"{account}\n{password}\n")
    (folder / "typed.txt").chmod(0o600)
    typed = ["--name", name, "--host", host, "--identity", identity, "--authority", str(folder / "ca.pem")]
    made = lab.shell(PHONE, PROGRAM, "create", *typed, "--credentials", str(folder / "typed.txt"), check=None)
    assert made.code == 0, made.text
    return name


@pytest.mark.parametrize(
    ("fault", "verdict", "words", "why"),
    [
        ("", "sealed", "The tunnel protects you", ""),
        ("leaking-resolver", "leaking", "Your internet provider still resolves names", "dns-leak"),
        ("no-ipv6", "leaking", "Your own IPv6 address is seen", "ipv6-leak"),
        ("exit-elsewhere", "leaking", "The tunnel ends in another country than it should", "exit-elsewhere"),
    ],
)
def test_from_the_link_to_the_verdict(served, tmp_path, fault, verdict, words, why):
    """Set up by what the page gave, looked at before and with the tunnel; the verdict is in plain words, and in the list."""
    lab = served
    with phone_browser(lab) as page:
        name = set_up(lab, page, tmp_path)
        assert row_of(lab)["state"] == "in date"
        page.tap("#check-link a")
        page.until("location.pathname.startsWith('/c/') && document.querySelector('#off .look')?.disabled === false")
        page.tap("#off .look")
        shown(page, "on")
        if fault:
            lab.fault("lisbon", fault)
        if fault == "no-ipv6":
            # As a client without a guard has it: what the tunnel does not carry goes beside it.
            lab.shell(PHONE, PROGRAM, "change", name, "--set", "traffic.ipv6=outside")
        up = lab.shell(PHONE, PROGRAM, "connect", name, "--detach", check=None)
        assert up.code == 0, up.text
        page.tap("#on .look")
        text = shown(page, "verdict")
        assert words in text, text
        host = f"https://{story.LINKS_NAME}:8443/"
        asked = [one for one in page.requests if not one.startswith((host, f"blob:{host}"))]
        assert asked and all(f"{story.OBSERVATORY_NAME}/" in one for one in asked)
    row = row_of(lab)
    assert row["report"]["verdict"] == verdict and (row["state"] == "leaking") == (verdict == "leaking")
    assert why in row["report"]["codes"] or not why
    assert ("real-time-leak" in row["report"]["codes"]) == (fault == "no-ipv6")
    assert any("Lisbon" in one or "Hamburg" in one for one in row["report"]["exits"])


def test_who_has_no_link(served):
    """A check is for whoever has opened a link; anybody else learns nothing, and reports nothing."""
    with phone_browser(served) as page:
        page.go(f"https://{story.LINKS_NAME}:8443/c/{'A' * 22}")
        assert "not known here" in shown(page, "problem")
    assert row_of(served)["report"] is None
