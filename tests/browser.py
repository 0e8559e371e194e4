"""A real browser without a window, driven through a pipe by its own debugging protocol."""

from __future__ import annotations

import base64
import json
import os
import select
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

FLAGS = (
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--ignore-certificate-errors", "--remote-debugging-pipe",
    # Names by the system's resolver, as on a phone: the browser's own misses a change of the file behind a mount.
    "--disable-features=AsyncDns",
)  # fmt: skip
COMMANDS, ANSWERS = 3, 4
"""Descriptors that it reads commands from and writes answers to."""
PATIENCE = 30.0


class Browser:
    """``with Browser(...) as page:`` one tab. ``requests``: every URL that it has asked for; ``taps``: how many.

    ``prefix``: what it is run by, for one in a namespace of the lab.
    """

    def __init__(self, width=390, height=844, language="en", prefix=(), environment=None):
        self._size, self._language = (width, height), language
        self._prefix, self._environment = tuple(prefix), environment
        self.requests, self.taps = [], 0

    def __enter__(self):
        program = shutil.which("chromium")
        assert program, "the test needs Chromium"
        self._folder = tempfile.mkdtemp()
        line = [*self._prefix, program, *FLAGS, f"--accept-lang={self._language}"]
        line += [f"--user-data-dir={self._folder}", "about:blank"]
        (theirs_in, self._out), (self._in, theirs_out) = os.pipe(), os.pipe()

        def place():
            # Above both numbers first, so that neither is overwritten before it is used.
            high = [os.dup2(one, 60 + at) for at, one in enumerate((theirs_in, theirs_out))]
            for one, number in zip(high, (COMMANDS, ANSWERS), strict=True):
                os.dup2(one, number)

        # What it leaves lies in its own folder, and goes with it.
        environment = {**(self._environment or os.environ), "TMPDIR": self._folder}
        self._process = subprocess.Popen(
            line, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, preexec_fn=place,
            pass_fds=(COMMANDS, ANSWERS), env=environment, start_new_session=True,
        )  # fmt: skip
        os.close(theirs_in)
        os.close(theirs_out)
        self._number, self._read, self._session = 0, b"", None
        target = self.call("Target.createTarget", url="about:blank")["targetId"]
        self._session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        for domain in ("Page", "Runtime", "Network"):
            self.call(f"{domain}.enable")
        width, height = self._size
        metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600}
        self.call("Emulation.setDeviceMetricsOverride", **metrics)
        return self

    def __exit__(self, *_):
        for one in (self._out, self._in):
            # It ends when nobody is there to command it.
            os.close(one)
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait(20)
        # Its helpers may still write for a moment.
        shutil.rmtree(self._folder, ignore_errors=True)

    def _message(self):
        deadline = time.monotonic() + PATIENCE
        while b"\0" not in self._read:
            ready, _, _ = select.select([self._in], [], [], max(deadline - time.monotonic(), 0))
            data = os.read(self._in, 1 << 20) if ready else b""
            assert data, "the browser does not answer"
            self._read += data
        whole, _, self._read = self._read.partition(b"\0")
        return json.loads(whole)

    def call(self, method, **params):
        """A call of the protocol."""
        self._number += 1
        message = {"id": self._number, "method": method, "params": params}
        if self._session is not None:
            message["sessionId"] = self._session
        data = json.dumps(message).encode() + b"\0"
        while data:
            data = data[os.write(self._out, data) :]
        while (answer := self._message()).get("id") != self._number:
            if answer.get("method") == "Network.requestWillBeSent":
                self.requests.append(answer["params"]["request"]["url"])
        assert "error" not in answer, answer["error"]
        return answer["result"]

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
