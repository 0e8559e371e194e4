"""Devices, rules, handovers, links, reports and own keys, on either database."""

from __future__ import annotations

import os
from dataclasses import replace

import pytest

from zesty_burrow.errors import Clash, NotFound
from zesty_burrow.fleet.links.link import earlier
from zesty_burrow.store.devices import CONFIRMED, Device, Handover, Report, Rule
from zesty_burrow.store.fleet.fleet_store import Administrator
from zesty_burrow.store.seal import Seal

CURLEW = Device("curlew", "laptop", "Marit Aune", "Tromsø", tags=("boats", "field"), protocols=("ikev2",), key="k1")
PLOVER = Device("plover", "phone", "Jon Berg")
NOW, LATER = "2026-11-28T12:00:00Z", "2026-11-30T12:00:00Z"


def test_devices(place):
    """All come back as they were; all or none are taken; what is removed takes with it what was its own."""
    fleet = place.open().fleet
    fleet.put_devices([PLOVER, CURLEW])
    assert fleet.list_devices() == [CURLEW, PLOVER] and fleet.find_device("curlew") == CURLEW
    with pytest.raises(Clash):
        fleet.put_devices([Device("dunlin", "phone"), PLOVER])
    assert fleet.list_devices(["jon"]) == [PLOVER] and len(fleet.list_devices()) == 2
    fleet.put_devices([Device("dunlin", "phone")], [replace(CURLEW, owner="Ada", tags=())])
    assert fleet.find_device("curlew").owner == "Ada" and fleet.name_of_key("k1") == "curlew"
    assert fleet.name_of_key("k2") is None
    fleet.add_rule(Rule(0, "lisbon", device="curlew"))
    fleet.note_handover(Handover("curlew", "lisbon", "d", "push", CONFIRMED, NOW))
    fleet.remove_devices(["curlew"])
    assert fleet.list_rules() == [] and fleet.handovers() == {}
    with pytest.raises(NotFound, match="there is no device 'curlew'"):
        fleet.find_device("curlew")


def test_numbers(place):
    """They rise, whatever the clock does, and are as large as milliseconds are."""
    fleet = place.open().fleet
    fleet.put_devices([CURLEW])
    first = 1_795_000_000_000
    assert [fleet.next_number("curlew", least) for least in (first, first, 5, first + 9)] == [
        first, first + 1, first + 2, first + 9,
    ]  # fmt: skip
    with pytest.raises(NotFound):
        fleet.next_number("nobody", 1)


def test_rules(place):
    """In order; the same conditions are there once; another profile for them takes the place."""
    fleet = place.open().fleet
    fleet.add_rule(Rule(0, "lisbon", kind="phone"))
    fleet.add_rule(Rule(0, "tallinn", tag="boats", owner="Ada"))
    fleet.add_rule(Rule(0, "nairobi", kind="phone"))
    assert [(one.profile, one.conditions) for one in fleet.list_rules()] == [
        ("tallinn", {"owner": "Ada", "tag": "boats"}), ("nairobi", {"kind": "phone"}),
    ]  # fmt: skip
    fleet.remove_rule(fleet.list_rules()[0].number)
    with pytest.raises(NotFound):
        fleet.remove_rule(99)
    assert len(fleet.list_rules()) == 1


def test_handovers_and_reports(place):
    """The last of each device; of reports the one with the highest number."""
    fleet = place.open().fleet
    for at in (NOW, LATER):
        fleet.note_handover(Handover("curlew", "lisbon", "d", "push", CONFIRMED, at, "", "", LATER))
    assert fleet.handovers()["curlew"].at == LATER and len(fleet.handovers()) == 1
    report = Report("curlew", 2, NOW, "sealed", "lisbon", "d", ("198.51.100.19 (Lisbon, PT)",), ("ipv6-block",))
    assert fleet.note_report(report) and not fleet.note_report(report)
    assert not fleet.note_report(replace(report, number=1, verdict="leaking"))
    assert fleet.reports() == {"curlew": report}
    assert fleet.note_report(replace(report, number=3, verdict="leaking"))
    assert fleet.reports()["curlew"].verdict == "leaking"


def test_links(place):
    """Opened once, until their time; a newer one takes the place of a device's older one."""
    links = place.open().fleet.links
    links.add("a", "curlew", b"\0sealed", LATER)
    assert links.open_once("b", NOW) is None and links.open_once("a", LATER) is None
    assert links.note_step("a", "done", NOW) is None
    assert links.open_once("a", NOW) == b"\0sealed" and links.open_once("a", NOW) is None
    assert links.note_step("a", "done", NOW).step == "done" and links.find("a").opened_at == NOW
    links.add("c", "curlew", b"x", LATER)
    assert [(one.device, one.step) for one in links.list_links()] == [("curlew", "")] and links.find("a") is None
    links.forget_old(LATER, LATER)
    assert links.open_once("c", NOW) is None
    links.withdraw("curlew")
    with pytest.raises(NotFound):
        links.withdraw("curlew")


def test_own_keys(place):
    """Made once, sealed, and sealed again with the rest."""
    store = place.open()
    made = store.fleet.own_key("device", lambda: b"secret of 32 octets")
    assert store.fleet.own_key("device", lambda: b"another") == made
    fresh = Seal(os.urandom(32))
    assert store.reseal(fresh) == 1
    assert store.fleet.own_key("device", lambda: b"another") == made


def test_administrators(place):
    fleet = place.open().fleet
    one = Administrator("key", "n", NOW, 1 << 50, ("lisbon",), "https://x.example", "pem", 4)
    fleet.note_administrator(Administrator("key"))
    fleet.note_administrator(one)
    assert fleet.administrators() == [one]


def test_a_link_whose_answer_was_lost(place):
    """The same one may ask again for a moment, until a step is known; nobody else may, nor without a name."""
    links = place.open().fleet.links
    links.add("a", "curlew", b"sealed", LATER)
    soon, long_after = "2026-11-28T12:01:00Z", "2026-11-28T12:03:00Z"
    assert links.open_once("a", NOW, "me") == b"sealed" and links.find("a").opened_at == NOW
    assert links.open_once("a", soon, "me", earlier(soon)) == b"sealed"
    assert links.open_once("a", soon, "you", earlier(soon)) is None and links.open_once("a", soon) is None
    assert links.open_once("a", long_after, "me", earlier(long_after)) is None
    links.note_step("a", "opened", soon)
    assert links.open_once("a", soon, "me", earlier(soon)) is None
    assert place.rows("SELECT sealed FROM links") == [(None,)]
    links.add("b", "plover", b"other", LATER)
    assert links.open_once("b", NOW, "me") == b"other"
    links.forget_old(soon, earlier(soon))
    assert links.open_once("b", soon, "me", earlier(soon)) == b"other"
    links.forget_old(long_after, earlier(long_after))
    assert links.open_once("b", soon, "me", earlier(soon)) is None
    links.add("c", "dunlin", b"third", LATER)
    assert links.open_once("c", NOW) == b"third" and links.open_once("c", NOW) is None
    assert {row[0] for row in place.rows("SELECT sealed FROM links")} == {None}


def state_of(store):
    """All of the list that a change may touch."""
    fleet = store.fleet
    return fleet.list_devices(), fleet.list_rules(), fleet.handovers(), fleet.reports()


REPORT = Report("curlew", 2, NOW, "sealed", "lisbon", "d")
CHANGES = {
    "add": lambda fleet: fleet.put_devices([Device("dunlin", "phone"), Device("petrel", "box")]),
    "import": lambda fleet: fleet.put_devices([Device("dunlin", "phone")], [replace(PLOVER, owner="Ada")]),
    "change": lambda fleet: fleet.put_devices([], [replace(CURLEW, tags=("boats",)), replace(PLOVER, place="Koper")]),
    "another key": lambda fleet: fleet.put_devices([], [replace(CURLEW, key="k9")]),
    "remove": lambda fleet: fleet.remove_devices(["curlew", "plover"]),
    "assign": lambda fleet: fleet.add_rule(Rule(0, "tallinn", kind="phone")),
    "unassign": lambda fleet: fleet.remove_rule(fleet.list_rules()[0].number),
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_change_of_the_list_is_taken_back(place, change):
    """And again, and back: devices, rules, what was handed over and reported are as they were; secrets stay."""
    store = place.open()
    fleet = store.fleet
    fleet.put_devices([CURLEW, PLOVER])
    fleet.add_rule(Rule(0, "nairobi", kind="phone"))
    fleet.add_rule(Rule(0, "lisbon", device="curlew"))
    fleet.note_handover(Handover("curlew", "lisbon", "d", "push", CONFIRMED, NOW))
    fleet.note_report(REPORT)
    before = state_of(store)
    CHANGES[change](fleet)
    after = state_of(store)
    assert after != before
    for expected in (before, after, before):
        newest = store.list_changes()[0]
        assert newest.what.removeprefix("undo: ").startswith("devices: ") and newest.devices
        store.take_back(newest.number, newest.what.removeprefix("undo: "))
        assert state_of(store) == expected


def test_what_a_device_has_told_stays(place):
    """Its key and its number are no change of the list: what was changed before can still be taken back, without them."""
    store = place.open()
    fleet = store.fleet
    fleet.put_devices([PLOVER])
    fleet.put_devices([], [replace(PLOVER, owner="Ada")])
    fleet.note_key("plover", "k5")
    number = fleet.next_number("plover", 7)
    fleet.note_handover(Handover("plover", "lisbon", "d", "push", CONFIRMED, NOW))
    changed, added = store.list_changes()
    store.take_back(changed.number, changed.what)
    assert fleet.find_device("plover") == replace(PLOVER, key="k5", number=number)
    store.take_back(added.number, added.what)
    assert state_of(store) == ([], [], {}, {})


def test_what_was_changed_again(place):
    """It is not taken back over a later change; the error names what stands against it."""
    store = place.open()
    fleet = store.fleet
    fleet.put_devices([PLOVER])
    fleet.put_devices([], [replace(PLOVER, owner="Ada")])
    fleet.add_rule(Rule(0, "nairobi", kind="phone"))
    added = store.list_changes()[-1]
    with pytest.raises(Clash, match="plover was changed again since"):
        store.take_back(added.number, added.what)
    (assigned,) = [one for one in store.list_changes() if one.what == "devices: assign nairobi"]
    fleet.remove_rule(fleet.list_rules()[0].number)
    with pytest.raises(Clash, match="rule 1 was changed again"):
        store.take_back(assigned.number, assigned.what)
    assert fleet.find_device("plover").owner == "Ada" and fleet.list_rules() == []
    fleet.remove_devices(["plover"])
    fleet.put_devices([replace(PLOVER, owner="Kai")])
    removed = next(one for one in store.list_changes() if one.what == "devices: remove plover")
    with pytest.raises(Clash, match="plover was changed again"):
        store.take_back(removed.number, removed.what)
