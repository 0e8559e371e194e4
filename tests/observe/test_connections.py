"""Who is let in, and who has to go: timelines and properties of the limits."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.observe.observatory.connections import Connections, Rate, source_of


@pytest.mark.parametrize(
    ("address", "source"),
    [
        ("192.0.2.7", "192.0.2.7"),
        ("::ffff:192.0.2.7", "192.0.2.7"),
        ("2001:db8:1:2:3:4:5:6", "2001:db8:1:2::/64"),
        ("fe80::1%eth0", "fe80::/64"),
    ],
)
def test_sources(address, source):
    assert source_of(address) == source


def make(total=8, each=2):
    closed, clock = [], [0.0]
    return Connections(total, each, lambda: clock[0]), closed, clock


def test_the_oldest_of_a_source_goes():
    """Once it has had its time; one that has just been answered is not the oldest."""
    limits, closed, clock = make()
    for number in (1, 2):
        limits.admit("a", number, lambda number=number: closed.append(number))
    clock[0] = 5
    limits.used("a", 1)
    limits.admit("a", 3, lambda: closed.append(3))
    assert closed == [2] and len(limits) == 2 and limits.evicted == 1


def test_young_ones_are_let_be():
    """Up to four times the limit: whoever is as it should be has been served by then."""
    limits, closed, _ = make(100, 2)
    for number in range(8):
        limits.admit("a", number, lambda number=number: closed.append(number))
    assert closed == []
    limits.admit("a", 8, lambda: closed.append(8))
    assert closed == [0]


def test_the_source_with_most_makes_room():
    limits, closed, _ = make(3, 2)
    for source, number in (("a", 1), ("a", 2), ("b", 3), ("c", 4)):
        limits.admit(source, number, lambda number=number: closed.append(number))
    assert closed == [1]


@given(
    st.lists(
        st.tuples(
            st.sampled_from("abc"), st.integers(0, 30), st.sampled_from(["admit", "release", "used"]), st.floats(0, 3)
        )
    )
)
def test_never_more_than_the_limits(steps):
    """Whatever comes: the count is that of those that are open, and no limit is passed for long."""
    limits, _, clock = make(6, 2)
    there = {}
    for source, number, what, wait in steps:
        clock[0] += wait
        key = (source, number)
        if what == "admit" and key not in there:
            there[key] = True
            limits.admit(source, key, lambda key=key: there.pop(key))
        elif what == "release":
            limits.release(source, key)
            there.pop(key, None)
        else:
            limits.used(source, key)
        assert len(limits) == len(there) <= 6
        assert all(sum(one == source for one, _ in there) <= 8 for source in "abc")


def test_a_rate():
    """A reserve of four seconds, then so many a second; another source has its own."""
    clock = [0.0]
    rate = Rate(5, lambda: clock[0])
    assert [rate.wait("a") for _ in range(20)] == [0.0] * 20
    assert 0 < rate.wait("a") <= 0.2
    assert rate.wait("b") == 0
    clock[0] = 0.5
    assert [rate.wait("a") > 0 for _ in range(4)] == [False, False, True, True]


def test_a_flood_of_sources_is_bounded():
    rate = Rate(5, lambda: 0.0)
    for number in range(Rate.REMEMBERED + 50):
        rate.wait(str(number))
    assert [rate.wait("0") for _ in range(20)] == [0.0] * 20
