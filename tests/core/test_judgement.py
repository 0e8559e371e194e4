"""The verdict, case by case."""

from __future__ import annotations

from dataclasses import replace

import pytest

from zesty_burrow.core.finding import finding
from zesty_burrow.core.outside.checks.check import Facts
from zesty_burrow.core.outside.judgement import judge, judge_facts
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, RouteSeen, Sighting

HOME4 = Sighting("192.0.2.77", "Cobblewire", "SI", "Ljubljana")
HOME6 = Sighting("2001:db8:c0b:77::20", "Cobblewire", "SI", "Ljubljana")
HOME6_NEW = Sighting("2001:db8:c0b:77::99", "Cobblewire", "SI", "Ljubljana")
EXIT4 = Sighting("198.51.100.19", "Quillwort Relay", "PT", "Lisbon")
EXIT6 = Sighting("2001:db8:1001::3", "Quillwort Relay", "PT", "Lisbon")
AWAY4 = Sighting("203.0.113.147", "Quillwort Relay", "DE", "Hamburg")
OWN_RESOLVER = Sighting("192.0.2.53", "Cobblewire", "SI", "Ljubljana")
OTHER_OF_HOME = Sighting("192.0.2.54", "Cobblewire", "SI", "Ljubljana")
EXIT_RESOLVER = Sighting("198.51.100.242", "Quillwort Relay", "EE", "Tallinn")
STRANGER = Sighting("203.0.113.5", "Farwatch", "CH", "Zurich")
NOBODY = Sighting()
BEFORE = Observation("2026-11-01T09:00:00Z", HOME4, HOME6, (HOME4, HOME6), (OWN_RESOLVER,), 6, 6)
AFTER = Observation("2026-11-01T09:05:00Z", EXIT4, EXIT6, (EXIT4, EXIT6), (EXIT_RESOLVER,), 6, 6)
LISBON = ExpectedExit("PT", "Lisbon", "Quillwort Relay")

CASES = [
    ("all as it should be", BEFORE, {}, LISBON, "sealed", {"dns-inside", "exit-as-promised", "address-changed"}),
    ("no IPv6 any more", BEFORE, {"ipv6": NOBODY, "real_time": (EXIT4,)}, LISBON, "sealed", {"ipv6-absent"}),
    ("IPv4 as before", BEFORE, {"ipv4": HOME4}, LISBON, "leaking", {"address-unchanged", "exit-as-promised"}),
    ("IPv6 as before", BEFORE, {"ipv6": HOME6}, LISBON, "leaking", {"ipv6-leak"}),
    ("a new IPv6 address at home", BEFORE, {"ipv6": HOME6_NEW}, LISBON, "leaking", {"ipv6-leak"}),
    ("the exit in another country", BEFORE, {"ipv4": AWAY4}, LISBON, "leaking", {"exit-elsewhere"}),
    ("an exit that nobody knows", BEFORE, {"ipv4": Sighting("203.0.113.200")}, LISBON, "unclear", {"exit-place-unknown"}),
    ("the resolver from before", BEFORE, {"resolvers": (OWN_RESOLVER,)}, LISBON, "leaking", {"dns-leak"}),
    ("another resolver of home", BEFORE, {"resolvers": (OTHER_OF_HOME,)}, LISBON, "leaking", {"dns-leak"}),
    ("one of two is from before", BEFORE, {"resolvers": (EXIT_RESOLVER, OWN_RESOLVER)}, LISBON, "leaking", {"dns-leak"}),
    ("a third party's resolver", BEFORE, {"resolvers": (STRANGER,)}, LISBON, "sealed", {"dns-foreign"}),
    ("no resolver came", BEFORE, {"resolvers": (), "names_answered": 0}, LISBON, "unclear", {"dns-silent"}),
    ("STUN tells the old address", BEFORE, {"real_time": (HOME4,)}, LISBON, "leaking", {"real-time-leak"}),
    ("STUN tells the old IPv6 address", BEFORE, {"real_time": (EXIT4, HOME6)}, LISBON, "leaking", {"real-time-leak"}),
    ("nothing to compare with", None, {}, LISBON, "unclear", {"no-baseline"}),
    ("a baseline that saw nothing", Observation("", reached=False), {}, LISBON, "unclear", {"no-baseline"}),
    ("the observatory is silent", BEFORE, {"reached": False}, LISBON, "unclear", {"observatory-silent"}),
    ("no tunnel", BEFORE, {"ipv4": HOME4, "ipv6": HOME6}, ExpectedExit(tunnel_up=False), "leaking", {"no-tunnel", "address-unchanged"}),
    ("a profile that promises nothing", BEFORE, {"ipv4": AWAY4}, ExpectedExit(), "sealed", {"address-changed"}),
    ("the own office as exit", BEFORE, {"ipv4": OTHER_OF_HOME, "ipv6": NOBODY, "resolvers": (OTHER_OF_HOME,), "real_time": ()}, ExpectedExit("SI"), "sealed", {"dns-inside"}),
]  # fmt: skip


OFFICE = ExpectedExit(everything=False)
AT_HOME = {"ipv4": HOME4, "ipv6": HOME6, "real_time": (HOME4, HOME6), "resolvers": (OWN_RESOLVER,)}
INSIDE = RouteSeen("network 10.20.0.0/16", "10.20.0.1", "zesty0", "zesty0")
SPLIT = [
    ("an office's tunnel, the rest as before", BEFORE, OFFICE, (INSIDE,), "sealed", {"outside-as-meant"}),
    ("without a look from before", None, OFFICE, (INSIDE,), "sealed", {"outside-as-meant"}),
    ("the office by another device", BEFORE, OFFICE, (replace(INSIDE, device="lan"),), "leaking", {"route-outside"}),
    ("the office rejected", BEFORE, OFFICE, (replace(INSIDE, device=""),), "leaking", {"route-outside"}),
]


@pytest.mark.parametrize(
    ("title", "before", "promise", "routes", "verdict", "codes"), SPLIT, ids=lambda v: v if isinstance(v, str) else ""
)
def test_only_some_networks(title, before, promise, routes, verdict, codes):
    """By the profile's own intent: what it leaves outside is no leak."""
    judgement = judge(before, replace(AFTER, **AT_HOME), promise, routes)
    assert judgement.verdict == verdict
    assert {entry.code.slug for entry in judgement.findings} == codes | {"outside-as-meant"}


def test_an_observatory_that_is_reached_past_the_tunnel():
    """Whatever it says: a forged one would say that all is well."""
    past = RouteSeen("observatory", "203.0.113.10", "lan", "zesty0")
    judgement = judge(BEFORE, AFTER, LISBON, [past])
    assert judgement.verdict == "leaking"
    assert "203.0.113.10 by lan, not by zesty0" in [entry.detail for entry in judgement.findings]


def test_without_a_tunnel_nothing_is_on_its_side():
    judgement = judge(BEFORE, replace(AFTER, **AT_HOME), ExpectedExit(tunnel_up=False))
    assert not {entry.code.slug for entry in judgement.findings} & {"dns-inside", "dns-leak", "exit-as-promised"}


def test_what_is_known_besides():
    """A serious finding from elsewhere makes a sealed verdict leaking; others do not."""
    facts = Facts(BEFORE, AFTER, LISBON)
    assert judge_facts(facts, [finding("foreign-rule", "zesty0")]).verdict == "sealed"
    assert judge_facts(facts, [finding("guard-missing", "this machine")]).verdict == "leaking"


@pytest.mark.parametrize(
    ("title", "before", "changes", "promise", "verdict", "codes"), CASES, ids=lambda v: v if isinstance(v, str) else ""
)
def test_judgement(title, before, changes, promise, verdict, codes):
    """Each situation has its verdict and its reasons; a sealed verdict never comes with a serious finding."""
    judgement = judge(before, replace(AFTER, **changes), promise)
    found = {entry.code.slug for entry in judgement.findings}
    assert judgement.verdict == verdict
    assert codes <= found
    serious = [entry for entry in judgement.findings if entry.severity == "serious"]
    assert bool(serious) == (verdict == "leaking")


@pytest.mark.parametrize(
    ("changes", "leak"),
    [
        ({"ipv4": HOME4}, "address-unchanged"),
        ({"ipv6": HOME6}, "ipv6-leak"),
        ({"ipv6": HOME6_NEW}, "ipv6-leak"),
        ({"ipv4": HOME4, "ipv6": HOME6}, "address-unchanged"),
    ],
)
def test_what_bypasses_the_tunnel_is_no_exit(changes, leak):
    """It is one finding, not one of the exit as well; and the home's resolvers are not those of the exit for it."""
    for resolver in (OWN_RESOLVER, OTHER_OF_HOME):
        found = judge(BEFORE, replace(AFTER, resolvers=(resolver,), **changes), LISBON).findings
        codes = {one.code.slug for one in found}
        assert {leak, "dns-leak"} <= codes and not codes & {"exit-elsewhere", "dns-inside"}, codes
