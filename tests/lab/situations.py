"""What situations of the workstation are made of."""

from __future__ import annotations

import time
from contextlib import contextmanager

from zesty_burrow.lab import story

STUN_FROM_OTHERS = 2
"""Packets by which `verify` asks from addresses that are not the tunnel's, one by IPv4 and one by IPv6: a tunnel that
carries that version of IP drops them.
"""


def office(lab):
    """The profile of an account at the office's gateway."""
    kit = lab.home / "beside.zip"
    if not kit.exists():
        lab.run("lab", "account", "tidewrack_curlew", "--to", str(kit), check=0)
    stored = _not_the_relays(lab)
    if not stored:
        lab.heron("import", str(kit), check=0)
        stored = _not_the_relays(lab)
    return stored[0]


def _not_the_relays(lab):
    return [row["name"] for row in lab.heron("list").json["profiles"] if "quillwort" not in row["name"]]


def relay(lab):
    """The tunnel that takes everything, as the status has it; None where there is none."""
    found = lab.heron("status").json["tunnel"]
    return found if found and "quillwort" in found["profile"] else None


def connect(lab, *words, place="lisbon", check=0):
    status = lab.heron("status").json
    if status["tunnel"] and "quillwort" not in status["tunnel"]["profile"] and "--beside" not in words:
        # The office's is up, and stays.
        words = (*words, "--beside")
    # The explicit word that PPTP needs means nothing to the others.
    return lab.heron("--debug", "connect", place, "--detach", "--unprotected", *words, check=check).json


@contextmanager
def changed(lab, add, remove):
    """A change to the workstation's network by somebody else, for a while."""
    for words in add:
        lab.shell("heron", *words)
    try:
        time.sleep(0.5)
        yield
    finally:
        for words in remove:
            lab.shell("heron", *words, check=None)


@contextmanager
def hostile(lab, *faults, renewed=False):
    """The local network is hostile for a while, and the workstation has asked it for its settings by DHCP."""
    lab.fault(story.ROUTER, *faults)
    try:
        if renewed:
            lab.run("lab", "renew", check=0)
        time.sleep(1)
        yield
    finally:
        lab.fault(story.ROUTER)
        if renewed:
            lab.run("lab", "renew", check=0)
