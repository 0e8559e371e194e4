"""A real browser without a window, driven by its own debugging protocol."""

from __future__ import annotations

import asyncio
import base64
import json
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import aiohttp

FLAGS = (
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--ignore-certificate-errors", "--remote-debugging-port=0",
)  # fmt: skip
PATIENCE = 20.0


class Browser:
    """``with Browser(...) as page:`` one tab. ``requests``: every URL that it has asked for; ``taps``: how many."""

    def __init__(self, width=390, height=844, language="en"):
        self._size, self._language = (width, height), language
        self.requests, self.taps = [], 0

    def __enter__(self):
        program = shutil.which("chromium")
        assert program, "the test needs Chromium"
        self._folder = tempfile.TemporaryDirectory()
        line = [
            program,
            *FLAGS,
            f"--accept-lang={self._language}",
            f"--user-data-dir={self._folder.name}",
            "about:blank",
        ]
        self._process = subprocess.Popen(line, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self._loop = asyncio.new_event_loop()
        self._loop.run_until_complete(self._connect())
        return self

    def __exit__(self, *_):
        self._loop.run_until_complete(self._session.close())
        self._loop.close()
        self._process.terminate()
        self._process.wait(20)
        self._folder.cleanup()

    async def _connect(self):
        told = Path(self._folder.name, "DevToolsActivePort")
        deadline = time.monotonic() + PATIENCE
        while not (told.exists() and len(told.read_text().splitlines()) == 2) and time.monotonic() < deadline:
            await asyncio.sleep(0.05)
        port = told.read_text().splitlines()[0]
        self._session = aiohttp.ClientSession()
        async with self._session.get(f"http://127.0.0.1:{port}/json") as answer:
            (tab,) = [one for one in await answer.json() if one["type"] == "page"]
        self._socket = await self._session.ws_connect(tab["webSocketDebuggerUrl"], max_msg_size=1 << 26)
        self._number = 0
        for domain in ("Page", "Runtime", "Network"):
            await self._send(f"{domain}.enable")
        width, height = self._size
        metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600}
        await self._send("Emulation.setDeviceMetricsOverride", **metrics)

    async def _send(self, method, **params):
        self._number += 1
        await self._socket.send_json({"id": self._number, "method": method, "params": params})
        while True:
            message = json.loads((await self._socket.receive(PATIENCE)).data)
            if message.get("method") == "Network.requestWillBeSent":
                self.requests.append(message["params"]["request"]["url"])
            if message.get("id") == self._number:
                assert "error" not in message, message["error"]
                return message["result"]

    def call(self, method, **params):
        """A call of the protocol."""
        return self._loop.run_until_complete(self._send(method, **params))

    def go(self, url):
        """Open a page, and wait until it is there."""
        self.call("Page.navigate", url=url)
        self.until("document.readyState === 'complete'")

    def run(self, script):
        """What JavaScript gives."""
        found = self.call(
            "Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True, userGesture=True
        )
        assert "exceptionDetails" not in found, found["exceptionDetails"]
        return found["result"].get("value")

    def until(self, script):
        """Wait until JavaScript gives something true."""
        deadline = time.monotonic() + PATIENCE
        while not self.run(script):
            assert time.monotonic() < deadline, f"{script} never came; the page has {self.text()}"
            time.sleep(0.05)

    def text(self):
        """What a reader sees."""
        return self.run("document.body.innerText")

    def tap(self, selector):
        """As a person does: what is in the middle of it is what is hit."""
        where = self.run(
            f"(() => {{ const one = document.querySelector({json.dumps(selector)}); one.scrollIntoView({{block: 'center'}});"
            "const box = one.getBoundingClientRect(); return [box.x + box.width / 2, box.y + box.height / 2]; })()"
        )
        self.taps += 1
        for kind in ("mousePressed", "mouseReleased"):
            self.call("Input.dispatchMouseEvent", type=kind, x=where[0], y=where[1], button="left", clickCount=1)

    def picture(self, path):
        """A PNG of what is in the window."""
        Path(path).write_bytes(base64.b64decode(self.call("Page.captureScreenshot", format="png")["data"]))
