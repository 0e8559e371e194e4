"""A phone's owner, from the link to the verdict: by a real browser in the phone's namespace, and by the stand-in.

What the page gives goes into the phone's settings form; the tunnel is that of its built-in client, which has no guard.
"""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from browser import Browser
from lab.links_server import PROGRAM, serving
from rotation import marks_of
from support import until
from zesty_burrow.errors import StateError
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
PHONE, NAME = story.PHONE, "quillwort-lisbon"
SMALL, LARGE = (390, 844), (1280, 800)
WATCHED = "navigator.clipboard.writeText = async (text) => { (window.copied ||= []).push(text); };"


def served_for(lab, phone, profile, *words):
    """The administrator's list with the phone in it, and the server of links on the observatory's host."""
    lab.heron("devices", "add", phone, "--kind", "phone", "--owner", "Marit Aune", *words, check=0)
    lab.heron("devices", "assign", profile, "--device", phone, check=0)
    with serving(lab):
        yield lab
    lab.heron("devices", "remove", phone, check=0)
    LabClient(lab.folder).phone(phone, "forget")


@pytest.fixture
def served(lab):
    yield from served_for(lab, PHONE, NAME)


@pytest.fixture
def old_phone(every_protocol):
    yield from served_for(every_protocol, story.OLD_PHONE, "lisbon-l2tp", "--protocols", "l2tp-ipsec")


def zesty(lab, *words, check=0):
    return lab.run("lab", "phone", *words, check=check)


def phone_browser(lab, width=SMALL[0], height=SMALL[1]):
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(lab.home)}
    return Browser(width, height, prefix=[PROGRAM, "lab", "run", PHONE, "--"], environment=environment)


def shown(page, section):
    page.until(f"!document.querySelector('#{section}').hidden && document.querySelector('#{section} h1').textContent")
    return " ".join(page.text().split())


def row_of(lab):
    (row,) = lab.heron("devices", "list", PHONE).json["devices"]
    return row


def hand_over(lab, folder, phone=PHONE, again=()):
    """A new link; its file."""
    for old in folder.glob(f"{phone}.link.*"):
        old.unlink()
    lab.heron("hand-over", phone, *again, "--link", story.LINKS_URL, "--to", str(folder), check=0)
    return str(folder / f"{phone}.link.txt")


def set_up(lab, page):
    """What the owner does: certificate first, then fields in the order of typing, then secrets; each is copied."""
    phone = LabClient(lab.folder)
    url = lab.heron("hand-over", PHONE, "--link", story.LINKS_URL).json["devices"][0]["to"]
    page.call("Page.addScriptToEvaluateOnNewDocument", source=WATCHED)
    page.go(url)
    page.until("!document.querySelector('#open').disabled")
    page.tap("#open")
    assert "all traffic of this device goes through Quillwort Relay" in shown(page, "agree")
    page.tap("#yes")
    shown(page, "certificate")
    asked = phone.phone(PHONE, "open-certificate", octets=page.run("content.certificates[0].der"))
    assert asked["fingerprint"] == page.run("content.certificates[0].fingerprint") and "Quillwort" in asked["subject"]
    phone.phone(PHONE, "answer", agreed=True)
    page.tap("#certificate .next")
    shown(page, "settings")
    for number in range(1, page.run("document.querySelectorAll('#fields li').length") + 1):
        page.tap(f"#fields li:nth-child({number}) button")
    page.tap("#settings .next")
    shown(page, "credentials")
    page.tap("#secrets button:last-child")
    page.tap("#credentials .next")
    shown(page, "done")
    keys = page.run("content.fields.map((one) => one.key)")
    for key, value in zip(keys, page.run("window.copied"), strict=True):
        phone.phone(PHONE, "fill", field=key, value=value)
    assert phone.phone(PHONE, "save")["form"]["type"] == "IKEv2"


@pytest.mark.parametrize(
    ("size", "fault", "verdict", "words", "why"),
    [
        (SMALL, "", "sealed", "The tunnel protects you", ""),
        *(
            pytest.param(*row, marks=marks_of(number, 2))
            for number, row in enumerate(
                (
                    (LARGE, "", "sealed", "The tunnel protects you", ""),
                    (SMALL, "leaking-resolver", "leaking", "Your internet provider still resolves names", "dns-leak"),
                    (LARGE, "no-ipv6", "leaking", "Your own IPv6 address is seen", "ipv6-leak"),
                    (SMALL, "exit-elsewhere", "leaking", "The tunnel ends in another country", "exit-elsewhere"),
                )
            )
        ),
    ],
)
def test_from_the_link_to_the_verdict(served, size, fault, verdict, words, why):
    """Set up by what the page gave, looked at before and with the tunnel; the verdict is in plain words, and in the list."""
    lab = served
    with phone_browser(lab, *size) as page:
        set_up(lab, page)
        assert row_of(lab)["state"] == "in date"
        page.tap("#check-link a")
        page.until("location.pathname.startsWith('/c/') && document.querySelector('#off .look')?.disabled === false")
        page.tap("#off .look")
        shown(page, "on")
        if fault:
            lab.fault("lisbon", fault)
        zesty(lab, PHONE, "on")
        page.tap("#on .look")
        text = shown(page, "verdict")
        assert words in text, text
        assert page.run("document.documentElement.scrollWidth <= innerWidth")
        host = f"{story.LINKS_URL}/"
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
        page.go(f"{story.LINKS_URL}/c/{'A' * 22}")
        assert "not known here" in shown(page, "problem")
    assert row_of(served)["report"] is None


def test_the_old_phone(old_phone, tmp_path):
    """It knows L2TP over IPsec alone: another profile does not fit, and its own is set up, used and checked."""
    lab, phone = old_phone, story.OLD_PHONE
    lab.heron("devices", "assign", NAME, "--device", phone, check=0)
    refused = lab.heron("hand-over", phone, "--link", story.LINKS_URL, "--dry-run", check=12).json["devices"][0]
    assert refused["cause"] == "device-does-not-fit" and "assign lisbon-l2tp" in refused["remedy"]
    lab.heron("devices", "assign", "lisbon-l2tp", "--device", phone, check=0)
    opening = ("--json", "lab", "phone", phone, "open", "--link", hand_over(lab, tmp_path, phone))
    done = lab.run(*opening, check=0).json
    assert done["seen"]["typed"] == ["name", "type", "server", "sign-in", "account", "password", "shared-key"]
    assert done["status"]["form"]["type"] == "L2TP/IPsec"
    zesty(lab, phone, "on")
    verdict = lab.run("--json", "lab", "phone", phone, "check", check=0).json["seen"]
    assert verdict["verdict"] == "sealed" and "Lisbon" in verdict["exits"][0]
    zesty(lab, phone, "off")
    (row,) = lab.heron("devices", "list", phone).json["devices"]
    assert (row["state"], row["report"]["verdict"]) == ("in date", "sealed")


@pytest.mark.parametrize(
    ("fault", "state", "why", "said"),
    [
        ("owner-says-no", "failed", "its owner did not agree", "does not agree"),
        ("opens-twice", "in date", "", "opened before"),
        # The newer link has taken its place, whether it was opened or not.
        ("old-code", "not confirmed", "link, to be opened once", "not known"),
        ("lost", "not confirmed", "its owner has got to: opened", "goes no further"),
        ("offline", "not confirmed", "link, to be opened once", "cannot be asked"),
    ],
)
def test_what_goes_wrong_with_a_phone(served, tmp_path, fault, state, why, said):
    """The list tells what is known; nothing is set up that was not agreed to; once it is put right, the phone is."""
    lab, client, told = served, LabClient(served.folder), []

    def open_link(path):
        link = Path(path).read_text()
        try:
            client.as_owner(PHONE, lambda owner: owner.open_link(link), lambda text: told_to.write_text(text))
        except StateError as problem:
            told.append(str(problem))

    told_to = tmp_path / "told"
    open_link(hand_over(lab, tmp_path))
    client.phone(PHONE, "forget")
    path = hand_over(lab, tmp_path, again=("--again",))
    lab.fault(PHONE, fault)
    open_link(path)
    assert said in "".join([*told, told_to.read_text()])
    assert (row_of(lab)["state"], why in row_of(lab)["why"]) == (state, True)
    screen = client.phone(PHONE, "screen")
    assert screen["saved"] == (fault == "opens-twice") and screen["trusted"] == screen["saved"]
    if fault == "lost":
        with pytest.raises(StateError, match="lost"):
            client.phone(PHONE, "switch", on=True)
        lab.heron("links", "withdraw", PHONE, check=0)
    lab.fault(PHONE)
    open_link(hand_over(lab, tmp_path, again=("--again",)))
    assert row_of(lab)["state"] == "in date", told


def test_a_phone_whose_clock_is_off(served, tmp_path):
    """Neither the trust store nor the client take a certificate for valid; no name or password is sent."""
    lab = served
    lab.fault(PHONE, "clock-off")
    told = zesty(lab, PHONE, "open", "--link", hand_over(lab, tmp_path))
    assert "by this phone's clock it is not valid yet" in told.text
    refused = zesty(lab, PHONE, "on", check=4)
    assert "did not prove its identity" in refused.text and "Check the clock" in refused.text
    assert lab.gateway("lisbon")["tunnels"] == 0
    lab.fault(PHONE)
    zesty(lab, PHONE, "on")
    assert lab.gateway("lisbon")["tunnels"] == 1
    zesty(lab, PHONE, "off")


def test_the_built_in_client(served, tmp_path):
    """Its tunnel goes on with new keys; where it ends, by either side, routes and resolver are as they were."""
    lab, client = served, LabClient(served.folder)

    def network():
        script = "ip -br a show; ip route; ip -6 route; cat /etc/resolv.conf"
        return [line for line in lab.shell(PHONE, "sh", "-c", script).out.splitlines() if "fe80" not in line]

    before, path = network(), Path(hand_over(lab, tmp_path))
    cut = tmp_path / "cut"
    cut.write_text(path.read_text().strip()[:-1])
    assert "not whole" in zesty(lab, PHONE, "open", "--link", str(cut), check=4).text
    zesty(lab, PHONE, "open", "--link", str(path))
    client.phone(PHONE, "switch", on=True)
    with pytest.raises(StateError, match="is on already"):
        client.phone(PHONE, "switch", on=True)
    for call in ("rekey", "rekey-ike"):
        client.call_host("lisbon", call)
    assert client.as_owner(PHONE, lambda owner: owner.look(), lambda _: None)["verdict"] == "sealed"
    client.call_host("lisbon", "end")
    until(lambda: not client.phone(PHONE, "screen")["on"], 10)
    assert "the gateway has ended the tunnel" in zesty(lab, PHONE).text
    assert network() == before
    client.phone(PHONE, "switch", on=True)
    assert network() != before and lab.gateway("lisbon")["tunnels"] == 1
    client.phone(PHONE, "switch", on=False)
    assert network() == before
    until(lambda: lab.gateway("lisbon")["tunnels"] == 0, 5)
