"""One-time links: what a server has of them, that they open once, and what is in them."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
import os
import re
import ssl
import subprocess
from dataclasses import replace
from urllib.parse import urlsplit

import aiohttp
import pytest
from cryptography import x509
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from hypothesis import given
from hypothesis import strategies as st

from support import PASSWORD
from zesty_burrow.core.credentials import ClientKey, NamePassword, PreSharedKey, ProxyPassword
from zesty_burrow.core.secret import Secret
from zesty_burrow.fleet.links.fields import fields_of
from zesty_burrow.fleet.links.link import STEPS, name_of, page_content, seal_link
from zesty_burrow.fleet.links.server import LinkServer, asset
from zesty_burrow.fleet.report import read_report
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import issue, make_key, write_certificate
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.observe.observatory.tls import Certificate
from zesty_burrow.store.database import SqliteDatabase
from zesty_burrow.store.devices import Device
from zesty_burrow.store.store import Store

LISBON = place_profile(story.PLACES[0])
PLOVER = Device("plover", "phone", "Marit Aune")
KEPT = {"name-password": NamePassword("tidewrack_heron", Secret(PASSWORD))}
NOW, LATER = "2026-11-28T12:00:00Z", "2026-11-30T12:00:00Z"
BASE = "https://links.tidewrack.example"


def made(kept=KEPT, profile=LISBON, check=""):
    return seal_link(page_content(PLOVER, profile, kept, os.urandom, check), os.urandom)


def opened(link):
    """As a browser does it, from the link alone and what the server gives: W3C Web Cryptography."""
    parts = urlsplit(link.url(BASE))
    key = base64.urlsafe_b64decode(parts.fragment + "=")
    token = parts.path.split("/")[2]
    return json.loads(AESGCM(key).decrypt(link.sealed[:12], link.sealed[12:], token.encode()))


def test_what_is_behind_a_link(authority):
    """Everything in its order; in what the server has, and in what it sees of the link, nothing of it."""
    profile = replace(LISBON, authorities=(authority.pem().decode(),))
    link = made(profile=profile, check="https://check.example/")
    content = opened(link)
    assert [one["key"] for one in content["fields"]] == [
        "name", "type", "server", "remote-identifier", "sign-in", "account", "password",
    ]  # fmt: skip
    assert [one["key"] for one in content["fields"] if one["secret"]] == ["password"]
    (trusted,) = content["certificates"]
    fingerprint = hashlib.sha256(base64.b64decode(trusted["der"])).hexdigest().upper()
    assert trusted["fingerprint"].replace(":", "") == fingerprint
    assert content["everything"] and content["check"] == "https://check.example/"
    url = urlsplit(link.url(BASE))
    sent = f"{url.scheme}{url.netloc}{url.path}".encode()
    for word in (PASSWORD.encode(), b"lisbon", b"plover", base64.urlsafe_b64encode(link.key).rstrip(b"=")):
        assert word not in link.sealed and word not in sent
    assert link.name == name_of(url.path.split("/")[2]) and "key" not in repr(link)


def test_another_token_does_not_open_it():
    """What is behind one link cannot be served under another."""
    one, other = made(), made()
    key = base64.urlsafe_b64decode(urlsplit(one.url(BASE)).fragment + "=")
    with pytest.raises(InvalidTag):
        AESGCM(key).decrypt(one.sealed[:12], one.sealed[12:], urlsplit(other.url(BASE)).path.split("/")[2].encode())


def test_fields_of_other_ways():
    """A person types secrets last; what has no place in a form is left out."""
    kept = {
        "pre-shared-key": PreSharedKey(Secret("gannet")),
        "name-password": NamePassword("marit", Secret("x"), "TIDEWRACK"),
        "proxy": ProxyPassword("p", Secret("y")),
    }
    found = fields_of(LISBON, kept)
    assert [one.key for one in found if one.is_secret] == ["shared-key", "password", "proxy-password"]
    assert next(one.value for one in found if one.key == "account") == "TIDEWRACK\\marit"
    assert "gannet" not in repr(found)


def test_a_key_of_the_device_s_own(authority, tmp_path):
    """PKCS #12 that another program opens, under a passphrase of unmistakable letters."""
    key = make_key("ecdsa")
    own = x509.load_der_x509_certificate(issue(authority, key, "plover.tidewrack.example"))
    pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    kept = {"client-key": ClientKey(Secret(pem), (own.public_bytes(Encoding.PEM).decode(), authority.pem().decode()))}
    content = opened(made(kept))
    identity = content["identity"]
    assert identity["type"] == "application/pkcs12" and identity["file"].endswith(".p12")
    (tmp_path / "own.p12").write_bytes(base64.b64decode(identity["der"]))
    secret = next(one for one in content["fields"] if one["key"] == "identity-passphrase")
    assert secret["secret"] and re.fullmatch(r"([A-HJ-NP-Z2-9]{4}-){3}[A-HJ-NP-Z2-9]{4}", secret["value"])
    line = ["openssl", "pkcs12", "-in", tmp_path / "own.p12", "-passin", "stdin", "-nodes"]
    read = subprocess.run(line, input=secret["value"], capture_output=True, text=True)
    assert read.returncode == 0, read.stderr
    assert "plover.tidewrack.example" in read.stdout and "BEGIN PRIVATE KEY" in read.stdout
    wrong = subprocess.run(line, input="wrong", capture_output=True, text=True)
    assert wrong.returncode != 0


def test_every_text_in_every_language():
    """No text is missing anywhere, and placeholders are the same; each that page and script name is there."""
    texts = json.loads(asset("texts.json"))
    assert set(texts) == {"en", "de", "es", "fr"}
    for words in texts.values():
        assert set(words) == set(texts["en"])
        for name, text in words.items():
            assert text.strip() and set(re.findall(r"\{\w+\}", text)) == set(re.findall(r"\{\w+\}", texts["en"][name]))
    page, script = asset("page.html").decode(), asset("page.js").decode()
    used = set(re.findall(r'data-text="([\w-]+)"', page)) | set(re.findall(r'say\("([\w-]+)"', script))
    used |= set(re.findall(r'problem\("([\w-]+)"', script))
    assert used <= set(texts["en"])
    every = fields_of(LISBON, {**KEPT, "p": PreSharedKey(Secret("x")), "q": ProxyPassword("p", Secret("y"))})
    assert {f"field-{one.key}" for one in every} <= set(texts["en"])


class Served:
    """A server of links on loopback, with a clock; ``heard``: what it was told of owners and devices."""

    def __init__(self, folder, authority):
        files = folder / "c.pem", folder / "k.pem"
        write_certificate(files, authority, "links.tidewrack.example")
        self.clock, self.heard, self.problems, self.known = NOW, [], [], {}
        self.store = Store(SqliteDatabase(folder / "store.db"), lambda _: None, lambda: NOW)
        self.links = self.store.fleet.links
        fleet = self.store.fleet
        self.server = LinkServer(fleet.links, fleet.enrolments, Certificate(*files), lambda: self.clock, self)

    def step(self, row):
        """An owner has got further."""
        self.heard.append(row)

    def fetched(self, device):
        """A device has what waited for it."""
        self.heard.append(device)

    def problem(self, text):
        """A request could not be answered."""
        self.problems.append(text)

    def report(self, data):
        """A report, from one of the ``known`` keys."""
        self.store.fleet.note_report(read_report(data, self.known.get))

    def talk(self, *requests):
        """Method, path and body of each; status, headers and content of the answers."""
        return asyncio.run(self._talk(requests))

    async def _talk(self, requests):
        await self.server.start(["127.0.0.1"], 0)
        found = []
        try:
            context = ssl.create_default_context()
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
            async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(ssl=context)) as session:
                for method, path, *body in requests:
                    url = f"https://127.0.0.1:{self.server.port}{path}"
                    async with session.request(method, url, data=body[0] if body else None) as answer:
                        found.append((answer.status, answer.headers, await answer.read()))
        finally:
            await self.server.stop()
        return found


@pytest.fixture
def served(tmp_path, authority):
    """A server of links."""
    one = Served(tmp_path, authority)
    yield one
    one.store.close()


def test_once(served):
    """Looking at the page opens nothing; the first opening gives it, the second tells when that was; nothing is kept."""
    link = made()
    served.links.add(link.name, "plover", link.sealed, LATER)
    path = urlsplit(link.url(BASE)).path
    answers = served.talk(
        ("GET", path), ("HEAD", path), ("GET", path + "/open"), ("POST", path + "/open"), ("POST", path + "/open")
    )
    assert [one[0] for one in answers] == [200, 200, 405, 200, 410]
    assert base64.b64decode(json.loads(answers[3][2])["sealed"]) == link.sealed
    assert json.loads(answers[4][2]) == {"error": "opened before", "at": NOW}
    assert [(row.device, row.step) for row in served.heard] == [("plover", "opened")]
    assert served.links.open_once(link.name, NOW) is None


def test_who_may_ask_again(served):
    """Who has said who it is, for two minutes, until the first step; nothing else in that place opens it again."""
    link = made()
    served.links.add(link.name, "plover", link.sealed, LATER)
    path = urlsplit(link.url(BASE)).path + "/open"

    def opens(*bodies):
        return [one[0] for one in served.talk(*(("POST", path, body) for body in bodies))]

    mine, other = (json.dumps({"opener": letter * 32}).encode() for letter in "ab")
    assert opens(mine, mine, other, mine, b"") == [200, 200, 410, 200, 410]
    strange = (b"null", b"[1]", b'{"opener": 7}', b'{"opener": "a"}', b'{"opener": null}', b"\xff", b"[" * 900)
    assert set(opens(*strange)) == {410} and opens(b"x" * 2000) == [413]
    served.clock = "2026-11-28T12:02:01Z"
    assert opens(mine) == [410]
    served.clock = NOW
    assert opens(mine) == [200]
    assert served.talk(("POST", path.replace("/open", "/step"), b'{"step": "opened"}'))[0][0] == 200
    assert opens(mine) == [410]


@pytest.mark.parametrize("body", [b"null", b'{"opener": "short"}', b"[" * 900, b"\xff\x00"])
def test_who_does_not_say_who_it_is(served, body):
    """Gets it once, and nothing is kept."""
    link = made()
    served.links.add(link.name, "plover", link.sealed, LATER)
    path = urlsplit(link.url(BASE)).path + "/open"
    assert [one[0] for one in served.talk(("POST", path, body), ("POST", path, body))] == [200, 410]
    assert served.links.open_once(link.name, NOW) is None


def test_only_until_its_time(served):
    link = made()
    served.links.add(link.name, "plover", link.sealed, LATER)
    served.clock = LATER
    path = urlsplit(link.url(BASE)).path
    ((status, _, body),) = served.talk(("POST", path + "/open"))
    assert status == 410 and json.loads(body) == {"error": "not known"}
    served.links.forget_old(LATER, LATER)
    served.clock = NOW
    assert served.talk(("POST", path + "/open"))[0][0] == 410


def test_a_newer_link_and_a_withdrawn_one(served):
    """The older one opens nothing any more."""
    first, second = made(), made()
    for link in (first, second):
        served.links.add(link.name, "plover", link.sealed, LATER)
    paths = [urlsplit(link.url(BASE)).path + "/open" for link in (first, second)]
    assert served.talk(("POST", paths[0]))[0][0] == 410
    served.links.withdraw("plover")
    assert served.talk(("POST", paths[1]))[0][0] == 410


def test_how_far_an_owner_has_got(served):
    """Only of a link that was opened, and only steps that there are."""
    link = made()
    served.links.add(link.name, "plover", link.sealed, LATER)
    path = urlsplit(link.url(BASE)).path
    step = path + "/step"
    assert served.talk(("POST", step, b'{"step": "done"}'))[0][0] == 410
    told = [("POST", step, json.dumps({"step": one}).encode()) for one in STEPS]
    wrong = [b'{"step": "<script>"}', b"[]", b"nothing", b"", b"[" * 900, b'{"step": 7}']
    answers = served.talk(("POST", path + "/open"), *told, *(("POST", step, one) for one in wrong))
    assert [one[0] for one in answers] == [200, *[200] * len(STEPS), *[400] * len(wrong)]
    assert [row.step for row in served.heard] == ["opened", *STEPS]
    assert served.talk(("POST", step, b"x" * 2000))[0][0] == 413


@pytest.mark.parametrize(
    "path",
    ["/", "/o", "/o/", "/o/" + "A" * 65, "/o/a/b/c", "/a/../store.db", "/a/texts.py", "/o/x/close", "/a/page.js/x"],
)
def test_where_nothing_is(served, path):
    (found,) = served.talk(("POST", path))
    assert found[0] in (404, 405) and PASSWORD.encode() not in found[2]


def test_guessing(served):
    """A token that nobody has is answered like one whose time is over; many guesses in a short time are not answered."""
    found = served.talk(*(("POST", f"/o/{number:022}/open") for number in range(150)))
    statuses = [one[0] for one in found]
    assert statuses[0] == 410 and json.loads(found[0][2]) == {"error": "not known"} and 429 in statuses


def test_what_a_browser_is_told(served):
    """Nothing from elsewhere, nothing to elsewhere, nothing kept, nothing in a frame; on every answer."""
    for status, headers, body in served.talk(
        ("GET", "/o/x"), ("GET", "/a/page.js"), ("POST", "/o/x/open"), ("GET", "/")
    ):
        assert headers["Content-Security-Policy"].startswith("default-src 'none'; script-src 'self'")
        assert "unsafe" not in headers["Content-Security-Policy"]
        assert (headers["Cache-Control"], headers["Referrer-Policy"]) == ("no-store", "no-referrer")
        assert headers["X-Content-Type-Options"] == "nosniff" and status in (200, 404, 410)
        assert b"http://" not in body and b"https://" not in body
    page = asset("page.html").decode()
    assert not re.search(r"<script(?![^>]* src=\"/a/)|style=|onclick", page)
    script = asset("page.js").decode()
    assert not re.search(
        r"innerHTML|outerHTML|insertAdjacent|document\.write|eval|localStorage|sessionStorage|cookie", script
    )


@given(st.text(alphabet="abo/._-%?#AZ09", max_size=40))
def test_names_of_tokens(token):
    """What the store keeps of a token does not give the token away, and is as long for each."""
    assert len(name_of(token)) == 64 and (not token or token not in name_of(token) or len(token) < 3)
