"""What a tunnel changes on a machine, as values; and the journal that undoes it."""

from __future__ import annotations

import ipaddress
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.net import LocalNetwork
from zesty_burrow.core.profile import Traffic
from zesty_burrow.errors import InputError, StateError
from zesty_burrow.host.guard.local_trust import LocalTrust, is_local, judge_local, places
from zesty_burrow.host.journal import journal
from zesty_burrow.host.journal.journal import Journal, restore
from zesty_burrow.host.journal.lock import end_record, is_left_over, read_end
from zesty_burrow.host.names.names_record import Layer, NamesRecord
from zesty_burrow.host.names.resolv_conf import resolver_text
from zesty_burrow.host.netlink import RT_TABLE_MAIN
from zesty_burrow.host.paths import SettingsFile, find_paths, read_settings
from zesty_burrow.host.plan import FIRST_TABLE, LOCAL_TABLES, plan_routes

GATEWAY4, GATEWAY6 = ipaddress.ip_address("198.51.100.18"), ipaddress.ip_address("2001:db8:1005::2")
ALL4, ALL6 = ipaddress.ip_network("0.0.0.0/0"), ipaddress.ip_network("::/0")
OFFICE, OFFICE6 = ipaddress.ip_network("10.20.0.0/16"), ipaddress.ip_network("2001:db8:20::/48")
HALF4 = ipaddress.ip_network("0.0.0.0/1")
NAMES4, NAMES6 = ipaddress.ip_address("198.51.100.242"), ipaddress.ip_address("2001:db8:10ff::2")


def plan(carried, *, gateway=GATEWAY4, servers=(NAMES4,), **traffic):
    return plan_routes("zesty0", [gateway], carried, servers, Traffic(**traffic))


@pytest.mark.parametrize(
    ("carried", "traffic", "ipv6", "unreachable"),
    [
        ([ALL4, ALL6], {}, "tunnel", {"0.0.0.0/0", "::/0"}),
        ([ALL4], {}, "blocked", {"0.0.0.0/0", "::/0"}),
        ([ALL4], {"ipv6": "block"}, "blocked", {"0.0.0.0/0", "::/0"}),
        ([ALL4], {"ipv6": "outside"}, "outside", {"0.0.0.0/0"}),
        ([ALL4], {"networks": (ALL4,)}, "blocked", {"0.0.0.0/0", "::/0"}),
        ([OFFICE], {"networks": (OFFICE,)}, "untouched", {"10.20.0.0/16"}),
        ([OFFICE], {"networks": (OFFICE,), "ipv6": "block"}, "blocked", {"10.20.0.0/16", "::/0"}),
        ([ALL6], {}, "tunnel", {"0.0.0.0/0", "::/0"}),
        ([OFFICE], {}, "blocked", {"0.0.0.0/0", "10.20.0.0/16", "::/0"}),
        ([OFFICE], {"ipv6": "outside"}, "outside", {"0.0.0.0/0", "10.20.0.0/16"}),
        ([HALF4], {}, "blocked", {"0.0.0.0/0", "0.0.0.0/1", "::/0"}),
        ([OFFICE], {"networks": (OFFICE, OFFICE6)}, "untouched", {"10.20.0.0/16", "2001:db8:20::/48"}),
    ],
)
def test_what_becomes_of_each_family(carried, traffic, ipv6, unreachable):
    """Carried, blocked, left outside or untouched; whatever the profile asks for ends with "unreachable"."""
    made = plan(carried, **traffic)
    assert made.ipv6 == ipv6
    shut = {route.destination for route in made.routes if route.kind == "unreachable"}
    assert shut == {*unreachable, f"{GATEWAY4}/32"}, "and the tunnel's own packets never enter it"
    assert {route.destination for route in made.routes if route.device} >= {str(network) for network in carried}
    assert all(route.table == FIRST_TABLE for route in made.routes)


def test_networks_that_are_left_out():
    """They look in the machine's own routes, after the tunnel's name servers and before everything else."""
    left = (ipaddress.ip_network("192.0.2.128/25"), ipaddress.ip_network("2001:db8:77::/48"), ALL6)
    rules = plan([ALL4], left_out=left[:1]).rules
    (rule,) = [one for one in rules if one.destination == "192.0.2.128/25"]
    assert rule.table == RT_TABLE_MAIN
    names = next(one for one in rules if one.destination == f"{NAMES4}/32")
    tunnel = next(one for one in rules if one.table == FIRST_TABLE and not one.destination and one.version == 4)
    assert names.priority < rule.priority < tunnel.priority
    assert [one.version for one in plan([ALL4, ALL6], left_out=left[1:2]).rules if "77::" in one.destination] == [6]


def test_the_gateway_itself_stays_outside():
    """Packets to the gateway use the machine's own routes, and only its family has that rule."""
    for gateway in (GATEWAY4, GATEWAY6):
        rules = [
            rule for rule in plan([ALL4, ALL6], gateway=gateway).rules if rule.destination.startswith(str(gateway))
        ]
        assert [(rule.version, rule.table) for rule in rules] == [(gateway.version, RT_TABLE_MAIN)]
        assert rules[0].priority == min(rule.priority for rule in plan([ALL4, ALL6], gateway=gateway).rules)


def test_name_servers_go_through_the_tunnel():
    """Each server that the gateway carries packets to has a rule ahead of the local network's.

    To another one no packet would get through: the selectors do not cover it (RFC 4301 §5.1).
    """
    whole = plan([ALL4, ALL6], servers=(NAMES4, NAMES6))
    assert {rule.destination for rule in whole.rules if rule.table == FIRST_TABLE} >= {f"{NAMES4}/32", f"{NAMES6}/128"}
    own = ipaddress.ip_address("10.20.0.53")
    office = plan([OFFICE], networks=(OFFICE,), servers=(own, NAMES4))
    assert {rule.destination for rule in office.rules if rule.table == FIRST_TABLE and rule.destination} == {
        f"{own}/32"
    }
    assert {route.destination for route in office.routes if route.device} == {str(OFFICE)}


def test_the_local_network():
    """Reachable beside the tunnel by its own networks alone; inside the tunnel if the profile says so."""
    texts = ["192.168.77.0/24", "2001:db8:c0b:77::/64", "fe80::/64"]
    local = [LocalNetwork("lan", ipaddress.ip_network(one)) for one in texts]

    def beside(carried=(ALL4, ALL6), **traffic):
        made = plan_routes("zesty0", [GATEWAY4], carried, (NAMES4,), Traffic(**traffic), local)
        past = [rule for rule in made.rules if rule.table == RT_TABLE_MAIN]
        assert [rule.destination for rule in past] == [f"{GATEWAY4}/32"]
        own = FIRST_TABLE + LOCAL_TABLES
        assert {rule.table for rule in made.rules} <= {RT_TABLE_MAIN, FIRST_TABLE, own}
        routes = [route for route in made.routes if route.table == own]
        assert all(route.device == "lan" and not route.gateway for route in routes)
        assert [rule.destination for rule in made.rules if rule.table == own] == [one.destination for one in routes]
        return [route.destination for route in routes]

    assert beside() == texts
    assert beside(local_network="inside") == []
    # A local network that claims the office's addresses gets nothing for it.
    assert beside([OFFICE], networks=(OFFICE,)) == []


def test_networks_behind_this_machine():
    """As what is left out: by the machine's own routes, whatever the profile says of the local network."""
    behind = ipaddress.ip_network("10.99.1.0/24")
    for traffic in ({}, {"local_network": "inside"}, {"networks": (ipaddress.ip_network("10.0.0.0/8"),)}):
        made = plan([ALL4, ALL6], behind=(behind,), **traffic)
        (rule,) = [one for one in made.rules if one.destination == str(behind)]
        assert rule.table == RT_TABLE_MAIN
        assert all(
            rule.priority < one.priority for one in made.rules if one.table == FIRST_TABLE and not one.destination
        )


def lan(text, device="lan"):
    return LocalNetwork(device, ipaddress.ip_network(text))


def test_what_counts_as_a_local_network():
    """Private, unique-local and link-local networks alone; no public one, however small, and not too many."""
    good = ["10.0.0.0/8", "192.168.77.0/24", "172.16.0.0/20", "169.254.0.0/16", "fd00:1::/48", "fe80::/64"]
    bad = [
        "0.0.0.0/1", "128.0.0.0/1", "10.0.0.0/7", "8.0.0.0/8", "2000::/3", "2001:db8::/32", "::/1", "203.0.113.0/24",
        "203.0.113.10/32", "100.64.0.0/10", "198.18.16.0/20", "2001:db8:c0b:77::/64", "172.0.0.0/10", "ff00::/8",
    ]  # fmt: skip
    trust = judge_local(map(lan, [*bad, *good, *good]))
    assert [str(one.network) for one in trust.kept] == good
    assert [str(one.network) for one in trust.public] == bad
    assert judge_local([lan("10.0.0.0/8", "")]) == LocalTrust()
    many = [lan(f"10.{high}.{low}.0/24") for high in range(4) for low in range(256)]
    trust = judge_local(many)
    assert trust.kept == tuple(many[:64]) and trust.too_many == tuple(many[64:])


def test_a_public_network_that_is_named():
    """It counts where this machine is in exactly that one; never where it takes much of all addresses."""
    named = [ipaddress.ip_network(one) for one in ("2001:db8:c0b:77::/64", "203.0.113.0/24", "0.0.0.0/1")]
    trust = judge_local(map(lan, ["2001:db8:c0b:77::/64", "203.0.113.0/25", "0.0.0.0/1"]), named)
    assert [str(one.network) for one in trust.kept] == ["2001:db8:c0b:77::/64"]
    assert [str(one.network) for one in trust.public] == ["203.0.113.0/25", "0.0.0.0/1"]


NETWORKS = st.builds(
    lambda octets, length: ipaddress.ip_network((octets, length), strict=False),
    st.one_of(st.binary(min_size=4, max_size=4), st.sampled_from([bytes([10, 20, 0, 0]), bytes([192, 168, 77, 0])])),
    st.integers(0, 32),
)


@given(st.lists(NETWORKS, max_size=6), st.lists(NETWORKS, max_size=3), st.lists(NETWORKS, max_size=3))
def test_a_local_network_never_wins(found, named, inside):
    """None that is kept has an address in common with what belongs in the tunnel; each is private or named as a whole; and
    each that was found is in one of the groups.
    """
    trust = judge_local(map(lan, map(str, found)), named, places(inside))
    for one in trust.kept:
        assert not any(one.network.overlaps(other) for other in places(inside))
        assert is_local(one.network) or one.network in named
    groups = (trust.kept, trust.public, trust.overlapping, trust.too_many)
    assert {one.network for group in groups for one in group} == set(found)
    assert sum(map(len, groups)) == len(set(found))


def test_resolver_text():
    """Three servers and six suffixes are what the C library reads."""
    servers = [ipaddress.ip_address(f"192.0.2.{number}") for number in range(1, 6)]
    text = resolver_text(servers, [f"s{number}.example" for number in range(9)]).decode()
    assert text.count("nameserver ") == 3
    assert text.splitlines()[-1] == "search s0.example s1.example s2.example s3.example s4.example s5.example"


LAYER = Layer((ipaddress.ip_address("192.0.2.7"),), ("office.tidewrack.example",))


def change(book, target):
    """What a tunnel does to the resolver's file."""
    book.use_names(NamesRecord(target.with_name(f"{target.name}.json"), target), LAYER)


def left_beside(target):
    return {target.with_name(f"{target.name}.lock")}


@pytest.fixture
def files(tmp_path):
    """A journal's path and a file to change."""
    folder = tmp_path / "state"
    folder.mkdir()
    target = folder / "resolv.conf"
    target.write_text("nameserver 192.0.2.53\n")
    target.chmod(0o640)
    return folder / "journal.jsonl", target


def test_files_are_put_back(files):
    """Content and mode come back; the journal is gone afterwards."""
    path, target = files
    book = Journal(path, "lisbon")
    change(book, target)
    assert target.read_bytes() == resolver_text(LAYER.servers, LAYER.suffixes)
    assert book.put_back().done == (str(target),)
    assert (target.read_text(), target.stat().st_mode & 0o777) == ("nameserver 192.0.2.53\n", 0o640)
    assert not path.exists()
    assert set(target.parent.iterdir()) == {end_record(path), target} | left_beside(target)
    assert read_end(path) == ((str(target),), ())


def test_links_and_absent_files_are_put_back(files, tmp_path):
    """A link becomes the link it was, and a file that was not there is not there again."""
    path, target = files
    link, absent = tmp_path / "link", tmp_path / "absent"
    link.symlink_to("resolv.conf")
    book = Journal(path, "lisbon")
    change(book, link)
    change(book, absent)
    assert not link.is_symlink()
    book.put_back()
    assert str(link.readlink()) == "resolv.conf"
    assert not absent.exists()
    assert target.read_text() == "nameserver 192.0.2.53\n"


def test_a_living_tunnel_is_not_undone(files):
    """While a process holds the journal, restore refuses, and a second tunnel is refused."""
    path, target = files
    book = Journal(path, "lisbon")
    change(book, target)
    assert not is_left_over(path)
    with pytest.raises(StateError, match="is up"):
        restore(path)
    with pytest.raises(StateError, match="up already"):
        Journal(path, "tallinn")
    book.put_back()


def crashed(path, target, tail=b""):
    """A journal whose process died after changing the file."""
    code = (
        "import os,sys; from ipaddress import ip_address; from pathlib import Path\n"
        "from zesty_burrow.host.journal.journal import Journal\n"
        "from zesty_burrow.host.names.names_record import Layer, NamesRecord\n"
        "target = Path(sys.argv[2]); names = NamesRecord(target.with_name(f'{target.name}.json'), target)\n"
        "book = Journal(Path(sys.argv[1]), 'lisbon'); book.use_names(names, Layer((ip_address('192.0.2.7'),)))\n"
        "os._exit(9)"
    )
    subprocess.run([sys.executable, "-c", code, str(path), str(target)])
    with path.open("ab") as stream:
        stream.write(tail)


@pytest.mark.parametrize(
    "tail", [b"", b'{"change": "rule", "fie', b"\xff\xfe\n", b'{"change": "mystery", "fields": {}}\n']
)
def test_after_a_crash(files, tail):
    """The journal of a dead process is found and undone, also with a last line that was cut."""
    path, target = files
    crashed(path, target, tail)
    assert is_left_over(path)
    with pytest.raises(StateError, match="zesty restore|without restoring"):
        Journal(path, "tallinn")
    assert restore(path).done == (str(target),)
    assert target.read_text() == "nameserver 192.0.2.53\n"
    assert restore(path).done == ()


def test_a_crash_between_journal_and_change(files):
    """What was written down but not done yet is recognised as being as it was."""
    path, target = files
    crashed(path, target)
    target.write_text("nameserver 192.0.2.53\n")
    assert restore(path).done == (str(target),)


def test_somebody_elses_change_is_left_alone(files):
    """A file that has changed since is not touched, and named."""
    path, target = files
    crashed(path, target)
    target.write_text("nameserver 192.0.2.99\n")
    assert restore(path).left_alone == (str(target),)
    assert target.read_text() == "nameserver 192.0.2.99\n"


FOREIGN = {
    "a file of another user": lambda path: os.chown(path, 4711, -1),
    "a file that all may write": lambda path: path.chmod(0o666),
    "a file that another group may write": lambda path: (os.chown(path, -1, 4711), path.chmod(0o660)),
    "a folder of another user": lambda path: os.chown(path.parent, 4711, -1),
    "a folder that all may write": lambda path: path.parent.chmod(0o777),
    "another user's folder above": lambda path: os.chown(path.parent.parent, 4711, -1),
    "a folder above that all may write": lambda path: path.parent.parent.chmod(0o777),
    "a link": lambda path: (path.rename(path.with_name("other")), path.symlink_to("other")),
    "a pipe": lambda path: (path.unlink(), os.mkfifo(path, 0o600)),
}


@pytest.mark.skipif(os.geteuid() != 0, reason="only root gives files away")
@pytest.mark.parametrize("change", FOREIGN.values(), ids=list(FOREIGN))
def test_a_foreign_journal_is_refused(files, change):
    """What a journal says is done with root's rights; one that another user may have written is not even looked at."""
    path, target = files
    crashed(path, target)
    change(path)
    for use in (restore, lambda path: Journal(path, "lisbon")):
        with pytest.raises(StateError, match="not used for changes") as told:
            use(path)
        assert told.value.slug == "journal-foreign"
    assert not is_left_over(path)
    assert target.read_bytes() == resolver_text(LAYER.servers, ())


def test_a_mode_has_no_special_bits(files):
    """A file is put back with permissions alone, whatever the record says."""
    path, target = files
    crashed(path, target)
    record = target.with_name(f"{target.name}.json")
    said = json.loads(record.read_text())
    said["before"]["mode"] = 0o4755
    record.write_text(json.dumps(said))
    restore(path)
    assert target.stat().st_mode & 0o7777 == 0o755


def test_after_a_reboot(files, monkeypatch):
    """In another boot only files are put back: the kernel's part is gone, and its names may mean other things."""
    path, target = files
    crashed(path, target)
    with path.open("ab") as stream:
        stream.write(json.dumps({"change": "device", "fields": {"name": "lo"}}).encode() + b"\n")
    monkeypatch.setattr(journal, "boot_id", lambda: "another boot")
    assert restore(path).done == (str(target),)


def test_places():
    """The standard places of root, of a user, and those of ZESTY_BURROW_HOME."""
    assert find_paths({}, root=True).store == Path("/var/lib/zesty-burrow/store.db")
    user = find_paths({"HOME": "/home/ann", "XDG_RUNTIME_DIR": "/run/user/7"}, root=False)
    assert user.store == Path("/home/ann/.local/share/zesty-burrow/store.db")
    assert user.tunnels[0].control == Path("/run/user/7/zesty-burrow/control")
    assert len({one for tunnel in user.tunnels for one in (tunnel.journal, tunnel.control, tunnel.log)}) == 24
    own = find_paths({"ZESTY_BURROW_HOME": "/srv/x"}, root=True)
    assert {own.data, own.config, own.state, own.run} == {Path("/srv/x")}


@given(st.text(max_size=60))
def test_settings_of_any_kind(text):
    """A settings file is understood or refused by name."""
    path = Path(f"/tmp/zesty-settings-{os.getpid()}.toml")
    path.write_text(text, encoding="utf-8", newline="")
    try:
        assert isinstance(read_settings(path), SettingsFile)
    except InputError as problem:
        assert str(path) in str(problem)
    finally:
        path.unlink()
