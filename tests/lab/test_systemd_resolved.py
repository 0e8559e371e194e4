"""The real systemd-resolved on the workstation, started by hand with a bus of its own: names by link, and none outside."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections import Counter

import pytest

from lab.clear_text_watch import HERON4, WORD, Watch
from lab.resolved_workstation import STUB, Workstation
from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
FILES = f"files.{story.OFFICE_SUFFIX}"

KEEP_ASKING = """
import dns.message, dns.query, sys, time
print("ready", flush=True)
for number in range(2000):
    try:
        dns.query.udp(dns.message.make_query(f"{sys.argv[1]}-resolver-{number}.observatory.example", "A"), "127.0.0.53",
                      timeout=0.5)
    except Exception:
        pass
    time.sleep(0.05)
"""


@pytest.fixture
def workstation(lab, tmp_path):
    one = Workstation(lab, tmp_path)
    yield one
    one.run(sys.executable, "-m", "zesty_burrow", "disconnect", check=None)
    one.stop()


def test_no_question_outside(workstation, tmp_path):
    """Every name is asked of the tunnel's servers; the file stays the stub's; in the end all is as before."""
    lab, before = workstation.lab, workstation.servers()
    assert workstation.look_up(story.OBSERVATORY_NAME) == {story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
    watch = Watch(lab, tmp_path)
    watch.capture()
    watch.start("heron", *workstation.inside, sys.executable, "-c", KEEP_ASKING, WORD)
    try:
        time.sleep(1)
        began = time.time()
        up = workstation.zesty("connect", "lisbon", "--detach")["tunnel"]
        closed, _ = watch.read()
        assert up["name_servers"][0] == story.RESOLVER4 and began < closed
        assert workstation.run("cat", "/etc/resolv.conf").out == f"nameserver {STUB}\n"
        assert workstation.look_up(story.OBSERVATORY_NAME) == {story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
        seen = workstation.zesty("verify")
        assert seen["verdict"] == "sealed"
        assert [row["address"] for row in seen["after"]["resolvers"]] == [story.RESOLVER4]
        ended = time.time()
        workstation.zesty("disconnect")
        time.sleep(1)
    finally:
        for process in watch.processes:
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate(timeout=10)
    names = 'dns.qry.name contains "-resolver-"'
    moments = [float(one) for one in watch.analysed(f"{names} && ip.src=={HERON4}", "frame.time_epoch")]
    assert [one for one in moments if one < closed] and [one for one in moments if one > ended]
    assert Counter(one for one in moments if closed <= one < ended) == {}
    until(lambda: workstation.servers() == before)


def test_split_names(workstation, tmp_path):
    """The office's names of its server, by its link; every other one of the machine's own server."""
    lab, before = workstation.lab, workstation.servers()
    kit = tmp_path / "office.zip"
    lab.run("lab", "account", "tidewrack_resolved", "--to", str(kit), check=0)
    name = lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    workstation.zesty("connect", name, "--detach")
    found = workstation.look_up(FILES, story.OBSERVATORY_NAME)
    assert found == {FILES: [story.OFFICE_FILES], story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
    # Killed: its link goes with its process, and what was asked by it with that.
    process = workstation.zesty("status")["tunnel"]["process"]
    lab.shell("heron", "kill", "-9", str(process))
    until(lambda: workstation.servers() == before)
    workstation.zesty("restore")
    assert workstation.look_up(story.OBSERVATORY_NAME) == {story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
    lab.heron("remove", name, check=0)
