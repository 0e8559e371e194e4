"""The lab's phone in its owner's hand: opens a link, types what the page gives, and looks at the check page.

It does what the pages' scripts do in a browser: the same requests, the same key from the link's fragment, the same
observations. Its built-in client is this program.
"""

from __future__ import annotations

import base64
import json
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.outside.leak import Observation
from zesty_burrow.errors import StateError
from zesty_burrow.fleet.https_client import NotReached, ask_server
from zesty_burrow.fleet.links.link import DECLINED, NONCE, OPENED, STEPS
from zesty_burrow.lab import story
from zesty_burrow.observe.client import ObservatoryAddress, Observer
from zesty_burrow.store.seal import write_private

PATIENCE, TIMEOUT = 10.0, 5.0
"""Seconds until a server that is being started answers; and for each answer."""


@dataclass(frozen=True, slots=True)
class Phone:
    """``folder``: of what it keeps; ``authority``: PEM, whom it trusts for servers; ``program``: its client.

    ``say``: told what a page shows.
    """

    folder: Path
    authority: str
    program: Callable[[list[str]], int]
    say: Callable[[str], None]

    def open_link(self, url: str) -> dict[str, Any]:
        """Open it, agree, and set the client up by what it gives; what the page has shown, without values."""
        page, _, key = url.strip().partition("#")
        token = page.rsplit("/", 1)[1]
        sealed = base64.b64decode(self._post(f"{page}/open", patience=PATIENCE)["sealed"])
        secret = base64.urlsafe_b64decode(key + "=" * (-len(key) % 4))
        content = json.loads(AESGCM(secret).decrypt(sealed[:NONCE], sealed[NONCE:], token.encode()))
        names = ", ".join(one["name"] for one in content["certificates"])
        where = "all traffic" if content["everything"] else f"traffic to {', '.join(content['networks'])}"
        self.say(f"The page: {where} of {content['device']} is to go through {content['provider']}; trusted: {names}.")
        self.say(f"Agreed, and copied: {', '.join(one['key'] for one in content['fields'])}.")
        code = self._set_up(content)
        if code:
            raise StateError(f"the phone's client was not set up (exit code {code})")
        for step in STEPS:
            if step not in (OPENED, DECLINED):
                self._post(f"{page}/step", {"step": step})
        check = page.replace("/o/", "/c/")
        self._post(f"{check}/begin")
        before = _told(Observer(ObservatoryAddress.of(story.OBSERVATORY_URL)).observe())
        write_private(self.folder / "check.json", json.dumps({"page": check, "before": before}).encode())
        shown = {name: content[name] for name in ("device", "provider", "place", "everything")}
        return {**shown, "typed": [one["key"] for one in content["fields"]]}

    def _set_up(self, content: dict[str, Any]) -> int:
        typed = {one["key"]: one["value"] for one in content["fields"]}
        ders = (base64.b64decode(one["der"]) for one in content["certificates"])
        pems = [x509.load_der_x509_certificate(der).public_bytes(Encoding.PEM) for der in ders]
        write_private(self.folder / "authority.pem", b"".join(pems))
        write_private(self.folder / "typed.txt", f"{typed['account']}\n{typed['password']}\n".encode())
        words = ["create", "--name", typed["name"], "--host", typed["server"], "--identity", typed["remote-identifier"]]
        words += ["--authority", str(self.folder / "authority.pem")]
        return self.program([*words, "--credentials", str(self.folder / "typed.txt")])

    def look(self) -> dict[str, Any]:
        """With the tunnel on: the verdict as the check page shows it."""
        kept = json.loads((self.folder / "check.json").read_bytes())
        after = _told(Observer(ObservatoryAddress.of(story.OBSERVATORY_URL)).observe())
        verdict = self._post(f"{kept['page']}/observed", {"before": kept["before"], "after": after})
        self.say(f"The page: {verdict['verdict']}. Seen: {', '.join(verdict['exits'])}.")
        for one in verdict["findings"]:
            if one["severity"] != "note":
                self.say(f"{one['title']} {one['detail']} ({one['code']})")
        return verdict

    def _post(self, url: str, document: Any = None, patience: float = 0.0) -> dict[str, Any]:
        until = time.monotonic() + patience
        while True:
            try:
                status, body = ask_server("POST", url, self.authority, json.dumps(document or {}).encode(), TIMEOUT)
                break
            except NotReached:
                if time.monotonic() > until:
                    raise
                time.sleep(0.05)
        answer = json.loads(body)
        if status != 200:
            raise StateError(f"the page's server refuses: {answer.get('error', status)}")
        return dict(answer)


def _told(seen: Observation) -> dict[str, Any]:
    """An observation as the check page tells it."""
    rows = [{"name": str(at), "resolver": one.address, **asdict(one)} for at, one in enumerate(seen.resolvers)]
    rows += [dict(rows[0], name=str(at)) for at in range(len(rows), seen.names_answered if rows else 0)]
    return {
        "ipv4": asdict(seen.ipv4),
        "ipv6": asdict(seen.ipv6),
        "real_time": [asdict(one) for one in seen.real_time],
        "names": {"questions": rows},
        "asked": seen.names_asked,
    }
