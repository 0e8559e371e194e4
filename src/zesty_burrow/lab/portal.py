"""The provider's portal: a stand-in that speaks the interface of docs/portal.md over HTTPS, with fault knobs."""

from __future__ import annotations

import hashlib
import json
import secrets
import ssl
import threading
import time
from contextlib import suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from zesty_burrow.lab import story
from zesty_burrow.lab.authority import Authority, make_key, use_certificate
from zesty_burrow.lab.kit import AUTHORITY_FILE, kit_archive, kit_files

LOADS = {"lisbon": 34, "tallinn": 12, "montevideo": 61, "nairobi": 20, "wellington": 45}
MAX_BODY = 4096
TOKEN_SECONDS = 900
SLOW_SECONDS = 0.25
CHUNK = 512


class Portal:
    """``password`` is the one for manual set-up, ``portal_password`` the one for this page: they differ."""

    def __init__(self, authority: Authority, password: str, portal_password: str) -> None:
        self.authority, self.password, self.portal_password = authority, password, portal_password
        self.faults: frozenset[str] = frozenset()
        self.tokens: set[str] = set()
        self.signed_in = self.broken_off = self.resumed = 0
        self._key = make_key("ecdsa")
        self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self._context.minimum_version = ssl.TLSVersion.TLSv1_2

    def start(self) -> None:
        """Listen on both address families, each in a thread."""
        self.set_faults(frozenset())
        for address in (story.PORTAL4, story.PORTAL6):
            server = _Server((address, 443), self)
            server.socket = self._context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
            threading.Thread(target=server.serve_forever, daemon=True).start()

    def set_faults(self, faults: frozenset[str]) -> None:
        """Behave in these wrong ways from now on."""
        self.faults = faults
        name = f"parked.{story.DOMAIN}" if "wrong-name" in faults else story.PORTAL_NAME
        use_certificate(self._context, self.authority, self._key, name)

    def status(self) -> dict[str, object]:
        """For ``lab status``."""
        return {
            "faults": sorted(self.faults),
            "signed_in": self.signed_in,
            "broken_off": self.broken_off,
            "resumed": self.resumed,
        }

    def kit(self, place: str) -> bytes | None:
        """The archive of all places, or of one; without credentials, which are a call of their own."""
        files = kit_files(self.authority.pem(), self.password)
        known = {place.name for place in story.PLACES}
        if place != "all" and place not in known:
            return None
        wanted = {
            name: data
            for name, data in files.items()
            if name == AUTHORITY_FILE or (name.startswith("profiles/") and (place == "all" or place in name))
        }
        if "changed-kit" in self.faults and self.broken_off % 2:
            wanted["NEWS.txt"] = b"A newer kit."
        return kit_archive(wanted)


class _Server(ThreadingHTTPServer):
    daemon_threads = True

    def __init__(self, address: tuple[str, int], portal: Portal) -> None:
        self.portal = portal
        import socket

        self.address_family = socket.AF_INET6 if ":" in address[0] else socket.AF_INET
        super().__init__(address, _Handler)

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A caller that does not trust us, or goes away, is no news."""


class _Handler(BaseHTTPRequestHandler):
    server: _Server
    protocol_version = "HTTP/1.1"
    timeout = 20

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002
        """No log: it would hold accounts."""

    @property
    def portal(self) -> Portal:
        return self.server.portal

    def _answer(self, code: int, document: dict[str, Any]) -> None:
        if "slow" in self.portal.faults:
            time.sleep(SLOW_SECONDS)
        data = json.dumps({"format": 1, **document}).encode()
        self.send_response(code)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.send_header("Cache-Control", "no-store")
        self.end_headers()
        self.wfile.write(data)

    def _refuse(self, code: int, slug: str, message: str, ask: str = "") -> None:
        self._answer(code, {"error": {"code": slug, "message": message, "ask": ask}})

    def do_POST(self) -> None:
        size = int(self.headers.get("Content-Length") or 0)
        if self.path != "/sign-in" or size > MAX_BODY:
            self._refuse(404, "not-found", "There is no such call.")
            return
        with suppress(ValueError):
            asked = json.loads(self.rfile.read(size))
            self._sign_in(str(asked.get("account")), str(asked.get("password")))
            return
        self._refuse(400, "malformed", "A JSON object with account and password is needed.")

    def _sign_in(self, account: str, password: str) -> None:
        portal = self.portal
        if "not-allowed" in portal.faults:
            words = "This account is not allowed to sign in here."
            self._refuse(403, "not-allowed", words, f"your administrator at {story.OFFICE_PROVIDER}")
        elif "refused-password" in portal.faults or (account, password) != (
            story.PORTAL_ACCOUNT,
            portal.portal_password,
        ):
            self._refuse(401, "wrong-credentials", "Account or password is wrong.")
        else:
            token = secrets.token_urlsafe(24)
            portal.tokens.add(token)
            portal.signed_in += 1
            self._answer(200, {"token": token, "expires_in": TOKEN_SECONDS})

    def do_GET(self) -> None:
        """Everything else."""
        portal = self.portal
        scheme, _, token = self.headers.get("Authorization", "").partition(" ")
        if scheme != "Bearer" or token not in portal.tokens:
            self._refuse(401, "not-signed-in", "Sign in first.")
        elif self.path == "/places":
            self._answer(200, {"places": [_place(place) for place in story.PLACES]})
        elif self.path == "/credentials":
            self._answer(200, {"name": story.ACCOUNT, "password": portal.password, "provider": story.PROVIDER})
        elif self.path == "/recommendation":
            best = min(LOADS, key=LOADS.__getitem__)
            self._answer(200, {"place": best, "reason": f"the least load, {LOADS[best]} percent"})
        elif self.path.startswith("/kits/") and (data := portal.kit(self.path.removeprefix("/kits/"))):
            self._send_kit(data)
        else:
            self._refuse(404, "not-found", "There is no such call or place.")

    def _send_kit(self, data: bytes) -> None:
        """The archive, or the rest of it (RFC 9110 §14: one range that begins somewhere and goes to the end)."""
        tag = f'"{hashlib.sha256(data).hexdigest()[:32]}"'
        start = 0
        asked = self.headers.get("Range", "")
        # RFC 9110 §13.1.5: the rest only of what the caller has the beginning of.
        if asked.startswith("bytes=") and asked.endswith("-") and self.headers.get("If-Range") == tag:
            start = min(int(asked[6:-1] or 0), len(data))
        self.send_response(206 if start else 200)
        self.send_header("Content-Type", "application/zip")
        self.send_header("Content-Length", str(len(data) - start))
        self.send_header("ETag", tag)
        self.send_header("Accept-Ranges", "bytes")
        if start:
            self.send_header("Content-Range", f"bytes {start}-{len(data) - 1}/{len(data)}")
            self.portal.resumed += 1
        self.end_headers()
        self._send_slowly(data[start:])

    def _send_slowly(self, data: bytes) -> None:
        portal = self.portal
        breaks = bool({"breaks-off", "changed-kit"} & portal.faults)
        most = max(len(data) // 2, CHUNK) if breaks else len(data)
        for at in range(0, most, CHUNK):
            self.wfile.write(data[at : min(at + CHUNK, most)])
            if "slow" in portal.faults:
                time.sleep(SLOW_SECONDS / 10)
        if most < len(data):
            portal.broken_off += 1
            self.close_connection = True


def _place(place: story.Site) -> dict[str, Any]:
    return {
        "name": place.name,
        "country": place.country,
        "city": place.city,
        "protocols": ["ikev2"],
        "load": LOADS[place.name],
        "kit": f"/kits/{place.name}",
    }
