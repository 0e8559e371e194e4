"""The record of name servers: several tunnels come and go, and the resolver's file is in the end what it was."""

from __future__ import annotations

import errno
import fcntl
import os
import tempfile
from contextlib import ExitStack
from ipaddress import ip_address
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.errors import MachineError, StateError
from zesty_burrow.host.journal.journal import Journal
from zesty_burrow.host.names import names_record
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
