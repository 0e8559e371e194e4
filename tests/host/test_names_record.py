"""The record of name servers: several tunnels come and go, and the resolver's file is in the end what it was."""

from __future__ import annotations

import errno
import fcntl
import os
import tempfile
from contextlib import ExitStack
from functools import partial
from ipaddress import ip_address
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.errors import MachineError, StateError
from zesty_burrow.host.journal.journal import Journal
from zesty_burrow.host.names import names_record, resolvconf_program
from zesty_burrow.host.names.names_record import Layer, NamesRecord
from zesty_burrow.host.names.resolv_conf import servers_in, suffixes_in

BEFORE = b"# by hand\nnameserver 192.0.2.53\nsearch cottage.example\noptions edns0\n"
RELAY = Layer((ip_address("198.51.100.242"), ip_address("2001:db8:10ff::2")))
OFFICE = Layer((ip_address("10.20.0.53"),), ("office.tidewrack.example",), ("20.10.in-addr.arpa",), "127.23.106.54")


class Machine:
    """A resolver's file, its record, and tunnels with journals that a process holds."""

    def __init__(self, folder):
        self.target, self.stack = folder / "resolv.conf", ExitStack()
        self.folder = folder
        self.target.write_bytes(BEFORE)
        self.record = NamesRecord(folder / "names.json", self.target)

    def key(self, name, *, held=True):
        path = self.folder / f"{name}.jsonl"
        if not path.exists():
            stream = self.stack.enter_context(path.open("w"))
            path.chmod(0o600)
            if held:
                fcntl.flock(stream, fcntl.LOCK_EX)
        return str(path)

    def servers(self):
        return [str(one) for one in servers_in(self.target.read_bytes())]


@pytest.fixture
def machine(tmp_path):
    tmp_path.chmod(0o700)
    made = Machine(tmp_path)
    with made.stack:
        yield made


@pytest.mark.parametrize("order", ["relay first", "office first"])
def test_two_tunnels(machine, order):
    """Where one tells names apart its forwarder is asked; whichever goes first, the other's wishes stay in force."""
    record, both = machine.record, [("relay", RELAY), ("office", OFFICE)]
    for name, layer in both if order == "relay first" else both[::-1]:
        record.put(machine.key(name), layer)
    assert machine.servers() == ["127.23.106.54"]
    assert suffixes_in(machine.target.read_bytes()) == ("office.tidewrack.example",)
    assert [str(one) for one in record.before()[0]] == ["192.0.2.53"]
    if order == "relay first":
        assert record.remove(machine.key("relay"))
        assert machine.servers() == ["127.23.106.54"]
        # Names that are completed are the cottage's again as well.
        assert suffixes_in(machine.target.read_bytes()) == ("office.tidewrack.example", "cottage.example")
        assert record.remove(machine.key("office"))
    else:
        assert record.remove(machine.key("office"))
        assert machine.servers() == ["198.51.100.242", "2001:db8:10ff::2"]
        assert record.remove(machine.key("relay"))
    assert machine.target.read_bytes() == BEFORE
    assert not record.path.exists()


def test_a_dead_tunnel_s_forwarder_is_not_asked(machine):
    """Nobody would answer there; the other tunnel's servers are asked until it is put back."""
    machine.record.put(machine.key("office", held=False), OFFICE)
    machine.record.put(machine.key("relay"), RELAY)
    assert machine.servers() == ["198.51.100.242", "2001:db8:10ff::2"]
    assert machine.record.remove(machine.key("office"))
    assert machine.record.remove(machine.key("relay"))
    assert machine.target.read_bytes() == BEFORE


PROGRAM = """#!/bin/sh
# As a program of this kind works: a file for each who wants something, the resolver file made of them.
set -e
cd {folder}/interfaces
case "$1" in
-a) cat > "$2" ;;
-d) rm -f "$2" ;;
esac
cat $(ls {order}) > ../made
mv ../made ../resolv.conf
"""


@pytest.fixture
def owned(tmp_path):
    """A resolver file that is a link to what a program writes; ``make(order)`` writes the program."""
    folder, target = tmp_path / "run", tmp_path / "resolv.conf"
    (folder / "interfaces").mkdir(parents=True)
    (folder / "interfaces" / "lan.dhcp").write_text("nameserver 192.0.2.53\nsearch cottage.example\n")
    program = tmp_path / "resolvconf"
    target.symlink_to(folder / "resolv.conf")

    def make(order, code=""):
        program.write_text(PROGRAM.format(folder=folder, order=order) + code)
        program.chmod(0o755)
        (folder / "resolv.conf").write_bytes((folder / "interfaces" / "lan.dhcp").read_bytes())
        owner = partial(resolvconf_program.owner_of, programs=[program], owned=[folder])
        return partial(NamesRecord, tmp_path / "names.json", target, owner), target, folder / "interfaces"

    return make


def test_a_program_that_owns_the_file(owned, machine):
    """It is given what we want and lets go of it; the file stays its own, and what others tell it meanwhile counts."""
    again, target, interfaces = owned("-r")
    record = again()
    machine.target = target
    record.put(machine.key("relay"), RELAY)
    assert target.is_symlink() and record.is_in_force()
    assert machine.servers() == ["198.51.100.242", "2001:db8:10ff::2", "192.0.2.53"]
    assert [str(one) for one in record.before()[0]] == ["192.0.2.53"]
    record.put(machine.key("office"), OFFICE)
    assert machine.servers()[0] == "127.23.106.54"
    # Another lease: the program writes the file again.
    (interfaces / "lan.dhcp").write_text("nameserver 192.0.2.54\n")
    assert record.remove(machine.key("relay"))
    assert machine.servers() == ["127.23.106.54", "192.0.2.54"]
    assert [str(one) for one in record.before()[0]] == ["192.0.2.54"]
    # Another process, after a crash.
    assert again().remove(machine.key("office"))
    assert machine.servers() == ["192.0.2.54"] and target.is_symlink() and not record.path.exists()


@pytest.mark.parametrize(("order", "code"), [("", ""), ("-r", "exit 1\n")], ids=["ours comes last", "it fails"])
def test_a_program_that_does_not_help(owned, machine, order, code):
    """We write the file ourselves, and put the link back."""
    again, target, interfaces = owned(order, code)
    record = again()
    machine.target = target
    record.put(machine.key("relay"), RELAY)
    assert machine.servers() == ["198.51.100.242", "2001:db8:10ff::2"] and record.is_in_force()
    assert record.remove(machine.key("relay"))
    assert target.is_symlink() and machine.servers() == ["192.0.2.53"]
    assert code or [one.name for one in interfaces.iterdir()] == ["lan.dhcp"]


def test_whose_the_file_is(tmp_path):
    """The program's only where it is there, and the file a link to what it writes."""
    target, folder, program = tmp_path / "resolv.conf", tmp_path / "run", tmp_path / "resolvconf"
    owner = partial(resolvconf_program.owner_of, target, programs=[program], owned=[folder])
    target.write_bytes(BEFORE)
    program.write_text("#!/bin/sh\n")
    program.chmod(0o755)
    assert owner() is None
    target.unlink()
    target.symlink_to("run/resolv.conf")
    assert owner() == program
    target.unlink()
    target.symlink_to("running/resolv.conf")
    assert owner() is None
    target.unlink()
    target.symlink_to("run/resolv.conf")
    program.chmod(0o644)
    assert owner() is None


def test_another_program_has_the_last_word(machine):
    """What it writes while tunnels are up comes back in the end; what it writes last is left as it is."""
    record, foreign = machine.record, b"nameserver 192.0.2.99\n"
    record.put(machine.key("relay"), RELAY)
    machine.target.write_bytes(foreign)
    assert not record.is_in_force()
    assert [str(one) for one in record.before()[0]] == ["192.0.2.99"]
    record.write_again()
    assert record.is_in_force() and machine.servers()[0] == "198.51.100.242"
    assert record.remove(machine.key("relay"))
    assert machine.target.read_bytes() == foreign
    record.put(machine.key("relay"), RELAY)
    machine.target.write_bytes(foreign)
    assert record.remove(machine.key("relay"))  # as it would be now, or was: nothing to put back
    record.put(machine.key("relay"), RELAY)
    machine.target.write_bytes(b"nameserver 192.0.2.98\n")
    assert not record.remove(machine.key("relay"))
    assert machine.servers() == ["192.0.2.98"] and not record.path.exists()


def test_what_is_left_of_a_tunnel_without_a_journal(machine):
    """A journal that is gone was put back, or removed by hand: its layer counts no more."""
    key = machine.key("office")
    machine.record.put(key, OFFICE)
    os.unlink(key)
    machine.record.put(machine.key("relay"), RELAY)
    assert list(machine.record.layers()) == [machine.key("relay")]
    assert machine.record.remove(machine.key("relay"))
    assert machine.target.read_bytes() == BEFORE


def test_a_record_of_something_else(machine):
    """It is named, and the file is not touched."""
    machine.record.path.write_text("[]")
    machine.record.path.chmod(0o600)
    with pytest.raises(StateError, match="cannot be read"):
        machine.record.put(machine.key("relay"), RELAY)
    assert machine.target.read_bytes() == BEFORE


STEPS = st.lists(
    st.tuples(st.sampled_from(["put", "remove", "crash"]), st.sampled_from(["relay", "office", "field"])), max_size=14
)


@given(STEPS)
def test_any_order(steps):
    """However tunnels come, change, die and go: with the last one removed the file is what it was."""
    with tempfile.TemporaryDirectory() as folder:
        in_any_order(Machine(Path(folder)), steps)


def in_any_order(machine, steps):
    layers = {"relay": RELAY, "office": OFFICE, "field": Layer(OFFICE.servers, ("field.example",), (), "127.23.106.55")}
    with machine.stack:
        there = set()
        for step, name in steps:
            if step == "remove":
                assert machine.record.remove(machine.key(name))
                there.discard(name)
            else:
                machine.record.put(machine.key(name, held=step == "put"), layers[name])
                there.add(name)
            assert machine.record.is_in_force()
            assert set(machine.record.layers()) == {machine.key(one) for one in there}
        for name in there:
            assert machine.record.remove(machine.key(name))
    assert machine.target.read_bytes() == BEFORE


def test_a_full_disk_at_the_end(machine, monkeypatch):
    """What cannot be written is named, the journal stays, and once there is space again everything is put back."""
    book = Journal(machine.folder / "office.jsonl", "office")
    machine.record.put(machine.key("relay"), RELAY)
    book.use_names(machine.record, OFFICE)

    def full(*_, **__):
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(names_record, "replace_file", full)
        with pytest.raises(MachineError) as told:
            book.put_back()
    assert told.value.slug == "not-put-back" and book.path.exists()
    assert book.put_back().done == (str(machine.target),)
    assert machine.record.remove(machine.key("relay"))
    assert machine.target.read_bytes() == BEFORE
