"""The owner of a phone of the lab: opens a link, fills the phone's form, looks at the check page.

The owner does what the pages' scripts do in a browser: the same requests, the same key from the link's fragment, the
same observations. The phone itself is a program of its own (:mod:`zesty_burrow.lab.devices.phone.handset`).
"""

from __future__ import annotations

import base64
import json
import secrets
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.errors import InputError, StateError
from zesty_burrow.fleet.https_client import NotReached, ask_server
from zesty_burrow.fleet.links.link import DECLINED, NONCE, OPENED, STEPS, token_of
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.lab import story
from zesty_burrow.observe.channel import ObservatoryAddress
from zesty_burrow.observe.client import Observer
from zesty_burrow.records import asdict, dataclass

PATIENCE, TIMEOUT = 3.0, 5.0
"""Seconds until a server that is being started answers; and for each answer."""
TOO_MANY, FAILED, BUSY = 429, 500, 30.0
"""Statuses of a server that cannot answer at the moment (RFC 6585 §4, RFC 9110 §15.6), from the second on; and seconds
for which it is asked again.
"""
CHECK = "check.json"
"""What is kept between the two looks."""


@dataclass(frozen=True, slots=True)
class Owner:
    """``folder``: of what is kept; ``authority``: PEM, whom the phone's browser trusts.

    ``phone``: makes a call to the phone, by its name and with its words; ``say``: told what happens.
    """

    folder: Path
    authority: str
    phone: Callable[..., dict[str, Any]]
    say: Callable[[str], None]

    def open_link(self, url: str) -> dict[str, Any]:
        """Scan it, agree, and fill the form by what the page gives; what happened, without values."""
        scanned = self.phone("scan", link=url.strip())
        faults = set(scanned["faults"])
        page, _, key = str(scanned["link"]).partition("#")
        content = self._open(page, key)
        where = "all traffic" if content["everything"] else f"traffic to {', '.join(content['networks'])}"
        self.say(f"The page: {where} of {content['device']} is to go through {content['provider']}.")
        shown = {name: content[name] for name in ("device", "provider", "place", "everything")}
        if "lost" in faults:
            self.say("Somebody else has the phone, looks, and goes no further.")
            return {**shown, "typed": [], "done": False}
        if "owner-says-no" in faults:
            self._post(f"{page}/step", {"step": DECLINED})
            self.say("The owner does not agree. Nothing was changed.")
            return {**shown, "typed": [], "done": False}
        typed = self._set_up(content)
        for step in STEPS:
            if step not in (OPENED, DECLINED):
                self._post(f"{page}/step", {"step": step})
        if "opens-twice" in faults:
            try:
                self._open(page, key)
            except StateError as problem:
                self.say(f"Opened again: {problem}")
        return {**shown, "typed": typed, "done": True, "check": self._look_before(page)}

    def _open(self, page: str, key: str) -> dict[str, Any]:
        token = page.rpartition("/")[2]
        not_whole = InputError("this link is not whole", why="its last part is missing, or was changed")
        try:
            secret = base64.urlsafe_b64decode(key + "=" * (-len(key) % 4))
        except ValueError:
            raise not_whole from None
        if token_of(secret) != token:
            # Before the server is asked: what is behind the link stays there.
            raise not_whole
        opened = self._post(f"{page}/open", {"opener": secrets.token_hex(16)}, PATIENCE)
        sealed = base64.b64decode(opened["sealed"])
        try:
            content = json.loads(AESGCM(secret).decrypt(sealed[:NONCE], sealed[NONCE:], token.encode()))
        except (ValueError, InvalidTag):
            raise not_whole from None
        self._post(f"{page}/step", {"step": OPENED})
        return dict(content)

    def _set_up(self, content: dict[str, Any]) -> list[str]:
        """Certificates, then settings, then secrets: as the page gives them, field by field."""
        for one in content["certificates"]:
            asked = self.phone("open-certificate", octets=one["der"])
            if asked["fingerprint"] != one["fingerprint"]:
                raise StateError("the phone shows another fingerprint than the page")
            self.say(f"The phone asks: trust {asked['subject']}? {asked['note']}".strip())
            self.phone("answer", agreed=True)
        fields = {one["key"]: one["value"] for one in content["fields"]}
        if content["identity"] is not None:
            self.phone("install-key", octets=content["identity"]["der"], passphrase=fields.pop("identity-passphrase"))
        for key, value in fields.items():
            self.phone("fill", field=key, value=value)
        self.phone("save")
        self.say(f"Filled: {', '.join(fields)}.")
        return list(fields)

    def _look_before(self, page: str) -> bool:
        """With the tunnel off, where the administrator offers a check; whether that is so."""
        check = page.replace("/o/", "/c/")
        try:
            self._post(f"{check}/begin")
        except StateError:
            return False
        before = _told(self._observe())
        replace_file(self.folder / CHECK, json.dumps({"page": check, "before": before}).encode(), 0o600)
        return True

    def _observe(self) -> Observation:
        """As a browser's page does: it trusts the authorities that its owner has."""
        authority = str(self.folder.parent / story.OBSERVATORY_AUTHORITY)
        return Observer(ObservatoryAddress.of(story.OBSERVATORY_URL, authority=authority)).observe()

    def look(self) -> dict[str, Any]:
        """With the tunnel on: the verdict as the check page shows it."""
        try:
            kept = json.loads((self.folder / CHECK).read_bytes())
        except FileNotFoundError:
            raise StateError("there is no check to go on with", next_step="Have the owner open a link first.") from None
        after = _told(self._observe())
        verdict = self._post(f"{kept['page']}/observed", {"before": kept["before"], "after": after})
        self.say(f"The page: {verdict['verdict']}. Seen: {', '.join(verdict['exits'])}.")
        for one in verdict["findings"]:
            if one["severity"] != "note":
                self.say(f"{one['title']} {one['detail']} ({one['code']})")
        return verdict

    def _post(self, url: str, document: Any = None, patience: float = 0.0) -> dict[str, Any]:
        until, busy = time.monotonic() + patience, time.monotonic() + BUSY
        while True:
            try:
                status, body = ask_server("POST", url, self.authority, json.dumps(document or {}).encode(), TIMEOUT)
            except NotReached:
                if time.monotonic() > until:
                    raise
                time.sleep(0.05)
                continue
            if (status != TOO_MANY and status < FAILED) or time.monotonic() > busy:
                break
            time.sleep(0.5)
        try:
            answer = dict(json.loads(body))
        except ValueError:
            answer = {}
        if status != 200:
            at = f", at {answer['at']}" if answer.get("at") else ""
            step = "Ask the administrator for a new link."
            raise StateError(f"the page's server refuses: {answer.get('error', status)}{at}", next_step=step)
        return answer


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
