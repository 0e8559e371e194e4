"""The lab itself: it comes and goes without a trace, as root and without; the demo shows what it should."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from rotation import on_day
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
PROGRAM = str(Path(sys.executable).with_name("zesty"))
ROOT = Path(__file__).parents[2]
NOBODY = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]


def links():
    return sorted(re.findall(r"^\d+: ([^:@]+)", subprocess.check_output(["ip", "-o", "link"], text=True), re.MULTILINE))


def alive(process):
    """Whether it runs; one that waits to be collected has ended."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


@pytest.fixture
def home():
    with tempfile.TemporaryDirectory(prefix="zb") as folder:
        yield folder


def zesty(home, *words, prefix=(), **options):
    environment = {**os.environ, "ZESTY_BURROW_HOME": home, **options.pop("environment", {})}
    program = options.pop("program", [PROGRAM])
    return subprocess.run(
        [*prefix, *program, *words], capture_output=True, text=True, env=environment, timeout=120, **options
    )


def test_it_comes_and_goes(home):
    """A started lab has all its hosts and leaves this machine's devices alone; stopped, nothing is left of it."""
    before = links()
    started = json.loads(zesty(home, "--json", "lab", "start").stdout)["status"]
    assert set(started["hosts"]) == set(story.hosts())
    assert links() == before
    assert zesty(home, "--json", "lab", "start").returncode == 4
    name = zesty(home, "lab", "run", "observatory", "--", "hostname").stdout.strip()
    assert name == "observatory"
    assert zesty(home, "lab", "run", "nobody", "--", "true").returncode == 4
    assert zesty(home, "lab", "run", "heron", "--", "no-such-command").returncode == 127
    assert zesty(home, "lab", "run", "heron", "--", "sh", "-c", "exit 42").returncode == 42
    assert zesty(home, "lab", "stop").returncode == 0
    assert not any(alive(row["process"]) for row in started["hosts"].values())
    assert not Path(home, "lab").exists()


def test_it_is_gone_with_its_process(home):
    """kill -9 of the keeper ends every host, and a new lab starts in its place."""
    started = json.loads(zesty(home, "--json", "lab", "start").stdout)["status"]
    os.kill(started["process"], signal.SIGKILL)
    deadline = time.monotonic() + 10
    while any(alive(row["process"]) for row in started["hosts"].values()) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not any(alive(row["process"]) for row in started["hosts"].values())
    assert zesty(home, "lab", "start").returncode == 0
    assert zesty(home, "lab", "stop").returncode == 0


def test_the_demo(home):
    """The demo ends with exit code 0, shows both verdicts and the false gateway, and leaves nothing behind."""
    ended = zesty(home, "demo", environment={"COLUMNS": "120"})
    assert ended.returncode == 0, ended.stdout + ended.stderr
    for words in ("SEALED", "LEAKING", "dns-leak", "exit-elsewhere", "Every step ended as expected."):
        assert words in ended.stdout
    assert re.search(r"^plover +phone +leaking +quillwort-nairobi +dns-leak +leaking +Nairobi, KE", ended.stdout, re.M)
    assert re.search(r"^curlew +laptop +in date", ended.stdout, re.M)
    told = " ".join(ended.stderr.split())
    for words in ("certificate-wrong-name", "exactly as before", "The lab was stopped"):
        assert words in told
    assert float(re.search(r"The demo took ([\d.]+) seconds", ended.stderr).group(1)) > 0
    assert not Path(home, "lab").exists()


def other_python():
    """An interpreter of this version that other users may run, with this environment's packages on its path."""
    python = "/usr/bin/python3"
    version = f"{sys.version_info.major}.{sys.version_info.minor}"
    if not os.access(python, os.X_OK) or version not in subprocess.check_output([python, "-V"], text=True):
        return None
    packages = next(Path(sys.prefix).glob("lib/python*/site-packages"))
    path = {"PYTHONPATH": f"{packages}:{ROOT / 'src'}", "PYTHONDONTWRITEBYTECODE": "1"}
    probe = [*NOBODY, python, "-c", "import zesty_burrow, cryptography, aiohttp"]
    return (python, path) if subprocess.run(probe, env={**os.environ, **path}).returncode == 0 else None


@pytest.fixture
def nobody(home):
    """Runs the program as a user without any rights."""
    found = other_python()
    if os.geteuid() != 0 or found is None:
        pytest.skip("needs root, and an interpreter of this version that other users may run")
    os.chown(home, 65534, 65534)
    python, path = found

    def run(*words, allow_device=False):
        inner = [*NOBODY, python, "-m", "zesty_burrow", *words]
        if allow_device:
            script = (
                "mount -t tmpfs none /mnt && mknod -m 666 /mnt/tun c 10 200 && mount --bind /mnt/tun /dev/net/tun "
                '&& exec "$@"'
            )
            inner = ["unshare", "-m", "sh", "-c", script, "sh", *inner]
        return zesty(f"{home}/nobody", program=inner, environment=path, cwd="/tmp")

    return run


@on_day(1, 3)
def test_the_demo_without_root(nobody):
    """Where the tunnel device may be opened, the whole demo works for a user without rights."""
    ended = nobody("demo", allow_device=True)
    assert ended.returncode == 0, ended.stdout + ended.stderr
    assert "Every step ended as expected." in ended.stdout


def test_the_demo_says_what_is_missing(nobody):
    """Where it may not be opened, the demo names the device and the step that allows it, with exit code 5."""
    if os.stat("/dev/net/tun").st_mode & 0o006 == 0o006:
        pytest.skip("the tunnel device is open to everyone here")
    ended = nobody("--json", "demo")
    assert ended.returncode == 5
    assert json.loads(ended.stdout)["code"] == "tunnel-device-closed", ended.stdout
    assert "/dev/net/tun" in json.loads(ended.stdout)["next_step"]


def test_a_lab_that_cannot_start(home):
    """Without the right to make namespaces the reason and the remedy are given, and no folder is left half-made."""
    ended = zesty(
        home, "--json", "lab", "start", prefix=["setpriv", "--bounding-set=-sys_admin", "--inh-caps=-sys_admin"]
    )
    assert ended.returncode == 5
    document = json.loads(ended.stdout)
    assert document["code"] == "lab-not-started"
    assert "not permitted" in document["why"].lower()
    assert shutil.which("setpriv")
