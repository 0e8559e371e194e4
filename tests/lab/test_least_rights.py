"""What the process that carries a tunnel may still do, as the kernel tells it."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

pytestmark = pytest.mark.lab
KEPT, CAP_SYS_RESOURCE = 1 << 10 | 1 << 12, 1 << 24
"""CAP_NET_BIND_SERVICE and CAP_NET_ADMIN; and the one that raises limits."""


def test_the_carrier_s_rights(lab):
    """These two alone, in every set and every thread; nothing can be gained; no core; memory that is not swapped."""
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    listing = f"for one in /proc/{process}/task/*; do cat $one/status; done"
    text = lab.shell("heron", "sh", "-c", listing).out
    for name, wanted in (("CapInh", 0), ("CapPrm", KEPT), ("CapEff", KEPT), ("CapAmb", 0)):
        assert {int(one, 16) for one in re.findall(rf"{name}:\s+([0-9a-f]+)", text)} == {wanted}, name
    assert {int(one, 16) & ~KEPT for one in re.findall(r"CapBnd:\s+([0-9a-f]+)", text)} == {0}
    assert set(re.findall(r"NoNewPrivs:\s+(\d)", text)) == {"1"}
    if int(re.search(r"CapEff:\s+([0-9a-f]+)", Path("/proc/self/status").read_text())[1], 16) & CAP_SYS_RESOURCE:
        # Only who may raise the limit can lock as much as is needed.
        assert all(int(one) > 1000 for one in re.findall(r"VmLck:\s+(\d+) kB", text))
    limits = lab.shell("heron", "cat", f"/proc/{process}/limits").out
    assert re.search(r"Max core file size\s+0\s+0", limits)
    # And it is enough for the rest of its life: another place, and everything put back.
    lab.heron("connect", "tallinn", "--detach", check=0)
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    assert "/etc/resolv.conf" in lab.heron("disconnect", check=0).json["restored"]
