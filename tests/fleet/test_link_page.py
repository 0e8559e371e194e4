"""The page of a one-time link in a real browser: every step, other languages, small and large, and what must not be."""

from __future__ import annotations

import concurrent.futures
import hashlib
import http.client
import json
import re
import ssl
import subprocess
import sys
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.serialization import Encoding

from browser import Browser
from commands.conftest import Program
from support import AUTHORITY, PASSWORD, until
from zesty_burrow.lab.authority import write_certificate
from zesty_burrow.lab.kit import kit_archive, kit_files

PROGRAM = str(Path(sys.executable).with_name("zesty"))
WATCHED = """
navigator.clipboard.writeText = async (text) => { (window.copied ||= []).push(text); };
const plain = URL.createObjectURL;
URL.createObjectURL = (blob) => { (window.blobs ||= []).push(blob); return plain(blob); };
"""


@pytest.fixture(scope="module")
def links(tmp_path_factory):
    """The built program serving links; ``links(NAME, …)`` makes one."""
    folder = tmp_path_factory.mktemp("links")
    zesty = Program(folder / "home")
    (folder / "kit.zip").write_bytes(kit_archive(kit_files(AUTHORITY.pem(), PASSWORD)))
    zesty("import", folder / "kit.zip")
    zesty("devices", "add", "plover", "--kind", "phone", "--owner", "Marit Aune")
    zesty("devices", "assign", "lisbon")
    write_certificate((folder / "c.pem", folder / "k.pem"), AUTHORITY, "links.tidewrack.example")
    line = [PROGRAM, "links", "serve", "--address", "127.0.0.1", "--port", "0"]
    line += ["--certificate", folder / "c.pem", "--key", folder / "k.pem"]
    with subprocess.Popen(line, env=zesty.environment, stderr=subprocess.PIPE, text=True) as server:
        port = int(re.search(r"port (\d+)", server.stderr.readline()).group(1))

        def make(*words):
            base = f"https://127.0.0.1:{port}"
            made = zesty("--json", "hand-over", "plover", "--again", "--link", base, *words)
            return made.json["devices"][0]["to"]

        make.zesty = zesty
        make.state = lambda: zesty("--json", "devices", "list").json["devices"][0]
        yield make
        server.terminate()
        said = server.communicate(timeout=20)[1]
    assert "Traceback" not in said and PASSWORD not in said


def start(page, url):
    """The first step, once the page is ready."""
    page.go(url)
    page.until("!document.querySelector('#open').disabled")
    return page.text()


def seen(page, section):
    page.until(f"!document.querySelector('#{section}').hidden && document.querySelector('#{section} h1').textContent")
    return page.text()


def test_from_the_link_to_the_end(links):
    """What is trusted is shown first; each value is copied, none is typed; nothing of it stays; the administrator sees it."""
    url = links("--check", "https://check.example/")
    with Browser() as page:
        page.call("Page.addScriptToEvaluateOnNewDocument", source=WATCHED)
        assert "can be opened once" in start(page, url) and PASSWORD not in page.run(
            "document.documentElement.outerHTML"
        )
        assert page.run("location.href") == url.partition("#")[0]
        assert links.state()["handed_over"]["state"] == "handed over"
        page.tap("#open")
        shown = seen(page, "agree")
        assert "all traffic of this device goes through Quillwort Relay (Lisbon, PT)" in " ".join(shown.split())
        page.tap("details summary")
        certificate = AUTHORITY.certificate.public_bytes(Encoding.DER)
        assert hashlib.sha256(certificate).hexdigest().upper() in page.text().replace(":", "")
        page.tap("#yes")
        seen(page, "certificate")
        script = "window.blobs.at(-1).arrayBuffer().then((one) => [window.blobs.at(-1).type, [...new Uint8Array(one)]])"
        kind, octets = page.run(script)
        assert kind == "application/pkix-cert" and bytes(octets) == certificate
        page.tap("#certificate .next")
        seen(page, "settings")
        for number in range(1, page.run("document.querySelectorAll('#fields li').length") + 1):
            page.tap(f"#fields li:nth-child({number}) button")
        page.tap("#settings .next")
        assert PASSWORD not in seen(page, "credentials")
        page.tap("#secrets button:first-child")
        page.until(f"document.body.innerText.includes({json.dumps(PASSWORD)})")
        page.tap("#secrets button:last-child")
        page.tap("#credentials .next")
        seen(page, "done")
        assert page.run("document.querySelector('#check-link a').href") == "https://check.example/"
        typed = page.run("window.copied")
        assert typed[0] == "quillwort-lisbon" and typed[-1] == PASSWORD and "lisbon.quillwort.example" in typed
        # Every tap of this run, also those that only show more, against a key for each letter.
        assert page.taps <= sum(map(len, typed)) / 3
        host = url.split("/o/")[0]
        assert all(one.startswith((host, "blob:" + host)) for one in page.requests)
        stored = "[localStorage.length, sessionStorage.length, document.cookie.length]"
        assert page.run(stored) == [0, 0, 0]
        until(lambda: links.state()["state"] == "in date", 10)
        # Opened a second time, on another device: told, with the time.
        page.go("about:blank")
        start(page, url)
        page.tap("#open")
        assert "was opened before" in seen(page, "problem")


def test_an_answer_that_is_lost(links):
    """The page asks again, and gets what it has asked for; another one still does not."""
    url = links()
    lost = """const plain = fetch; let left = 2;
    window.fetch = async (...words) => {
      const answer = await plain(...words);
      if (String(words[0]).endsWith("/open") && left-- > 0) throw new TypeError("lost");
      return answer;
    };"""
    with Browser() as page:
        page.call("Page.addScriptToEvaluateOnNewDocument", source=lost)
        start(page, url)
        page.tap("#open")
        assert "Quillwort Relay" in seen(page, "agree")
    with Browser() as page:
        start(page, url)
        page.tap("#open")
        assert "was opened before" in seen(page, "problem")


def test_a_busy_server(links):
    """Too many others ask from the same address: the page asks again, and what its owner has done is heard of in the end."""
    url = links()
    host, _, token = url.partition("#")[0].partition("/o/")
    context = ssl.create_default_context(cadata=AUTHORITY.pem().decode())
    context.check_hostname = False

    def ask(_):
        """About a link that nobody has."""
        connection = http.client.HTTPSConnection(host.removeprefix("https://"), context=context, timeout=10)
        connection.request("POST", f"/o/{'A' * len(token)}/step", b'{"step": "done"}')
        with connection.getresponse() as answer:
            status = answer.status
        connection.close()
        return status

    def crowd():
        """So many at once that the server has no time for others for a moment."""
        with concurrent.futures.ThreadPoolExecutor(8) as many:
            until(lambda: list(many.map(ask, range(24))).count(429) > 12, 20)

    with Browser() as page:
        start(page, url)
        crowd()
        page.tap("#open")
        seen(page, "agree")
        crowd()
        page.tap("#no")
        assert "Nothing was changed" in seen(page, "declined")
        until(lambda: links.state()["state"] == "failed", 20)
    assert links.state()["handed_over"]["cause"] == "device-declined"


def test_an_owner_who_does_not_agree(links):
    url = links()
    with Browser(language="de", width=1280, height=800) as page:
        assert "Dieses Gerät einrichten" in start(page, url)
        page.tap("#open")
        assert "Stimmen Sie zu?" in seen(page, "agree")
        page.run("document.querySelector('#language').value = 'fr'")
        page.run("document.querySelector('#language').dispatchEvent(new Event('change'))")
        assert "Êtes-vous d’accord" in page.text() and page.run("document.documentElement.lang") == "fr"
        page.tap("#no")
        assert "Rien n’a été modifié" in seen(page, "declined")
        assert PASSWORD not in page.run("document.documentElement.outerHTML")
        # What the page reports of its owner is still on its way.
        until(lambda: links.state()["state"] == "failed", 10)
    assert links.state()["handed_over"]["cause"] == "device-declined"


SPOILT = {
    "no fragment": lambda url: url.partition("#")[0],
    "cut off": lambda url: url[:-3],
    "no base64": lambda url: url[:-1] + "!",
    "another letter": lambda url: url[:-20] + ("A" if url[-20] != "A" else "B") + url[-19:],
}


@pytest.mark.parametrize("spoil", SPOILT)
def test_a_link_that_is_not_whole(links, spoil):
    """Nothing is opened by it: the whole link still works afterwards."""
    url = links()
    with Browser() as page:
        page.go(SPOILT[spoil](url))
        assert "is not whole" in seen(page, "problem")
        page.go("about:blank")
        start(page, url)
        page.tap("#open")
        seen(page, "agree")


def test_a_name_with_script_in_it(links):
    """What an administrator's list says is text, whatever it looks like."""
    links.zesty("devices", "change", "plover", "--owner", "<img src=x onerror=alert(1)>")
    links.zesty("change", "quillwort-lisbon", "--set", "profile.city=<script>document.title='x'</script>")
    url = links()
    with Browser() as page:
        start(page, url)
        page.tap("#open")
        assert "<script>document.title='x'</script>" in seen(page, "agree")
        assert page.run("document.querySelectorAll('img, section script').length") == 0
        assert page.run("document.title") != "x"


def test_for_a_screen_reader_and_a_keyboard(links):
    """Names for everything that can be pressed; the focus goes with the steps; nothing is wider than the screen."""
    url = links()
    with Browser(width=320, height=568) as page:
        start(page, url)
        for section, button in (
            ("start", "#open"),
            ("agree", "#yes"),
            ("certificate", "#certificate .next"),
            ("settings", ""),
        ):
            seen(page, section)
            assert section == "start" or page.run("document.activeElement.tagName") == "H1"
            assert page.run("document.documentElement.scrollWidth <= innerWidth")
            unnamed = "[...document.querySelectorAll('button, a, select')].filter((one) => one.checkVisibility() && "
            unnamed += "!(one.ariaLabel || one.textContent).trim()).length"
            assert page.run(unnamed) == 0
            if button:
                page.run(f"document.querySelector({button!r}).focus()")
                for kind in ("keyDown", "keyUp"):
                    page.call(
                        "Input.dispatchKeyEvent",
                        type=kind,
                        key="Enter",
                        code="Enter",
                        text="\r",
                        windowsVirtualKeyCode=13,
                    )
        labels = page.run("[...document.querySelectorAll('#fields button')].map((one) => one.ariaLabel)")
        assert labels[0] == "Copy: Name" and len(set(labels)) == len(labels)
        assert page.run("document.querySelector('#said').getAttribute('aria-live')") == "polite"
