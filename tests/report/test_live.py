"""The view that is drawn again and again, and the line for status bars: what they are made of."""

from __future__ import annotations

import io
import time
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.finding import finding
from zesty_burrow.host.guard.plan import EVERYTHING, Share
from zesty_burrow.host.guard.state import GuardState, Measured
from zesty_burrow.host.guard.tables.kernel import Count
from zesty_burrow.report.layout import Console
from zesty_burrow.report.live import HEIGHTS, POINTS, Rates, curve, live_view, one_line
from zesty_burrow.report.results.status import Condition, StatusResult
from zesty_burrow.report.texts.status import loss_words, span
from zesty_burrow.report.times import local_clock, local_time


@pytest.fixture(autouse=True)
def zone(monkeypatch):
    """The tests' own time zone."""
    monkeypatch.setenv("TZ", "UTC")
    time.tzset()
    yield
    monkeypatch.undo()
    time.tzset()


def test_times_for_people(monkeypatch):
    """Local, with the offset that holds at that time; what is no time stays as it is."""
    monkeypatch.setenv("TZ", "CET-1CEST,M3.5.0,M10.5.0/3")
    time.tzset()
    assert local_time("2026-12-02T09:17:48Z") == "2026-12-02 10:17:48+01:00"
    assert local_time("2026-07-02T09:17:48.123Z") == "2026-07-02 11:17:48+02:00"
    assert local_clock("2026-12-02T23:30:00Z") == "00:30:00+01:00"
    for other in ("", "never", "2026-12-02", "2026-12-02T09:17:48"):
        assert local_time(other) == other


TUNNEL = TunnelStatus(
    profile="quillwort-lisbon", provider="Quillwort Relay", country="PT", city="Lisbon",
    gateway="lisbon.quillwort.example", gateway_address="198.51.100.18", protocol="IKEv2, ESP in UDP",
    since="2026-11-29T00:00:00Z", device="zesty0", addresses=("10.66.1.10",), name_servers=("198.51.100.242",),
    suffixes=(), netbios_name_servers=(), encrypted_resolvers=(), ipv6="blocked", process=7, seconds_up=3723.0,
    octets_in=3_200_000, octets_out=1_100_000, packets_in=3000, packets_out=1000, round_trip=0.0123, last_heard=2.0,
    losses=(("2026-11-29T00:10:00Z", "the gateway is silent", 12.0, 40),),
)  # fmt: skip
GUARD = GuardState(
    Measured.AS_INTENDED,
    "2026-11-29T00:12:00Z",
    shares={"journal.jsonl": Share(EVERYTHING, "2026-11-29T00:00:00Z", "quillwort-lisbon", devices=("zesty0",))},
    counts={"rejected": Count(41, 4100), "dropped": Count(0, 0), "local": Count(3, 300)},
)


@given(st.lists(st.floats(0, 1e9), max_size=60))
def test_a_curve(values):
    """As many bars as values; the highest is full, nothing is below the lowest bar, and higher is never lower."""
    bars = curve(values)
    assert len(bars) == len(values) and set(bars) <= set(HEIGHTS[1:])
    if any(values):
        assert bars[values.index(max(values))] == HEIGHTS[-1]
    ordered = sorted(range(len(values)), key=lambda at: values[at])
    heights = [HEIGHTS.index(bars[at]) for at in ordered]
    assert heights == sorted(heights)


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(0, "0:00:00"), (59.9, "0:00:59"), (3723, "1:02:03"), (86400, "1 day 0:00:00"), (200_000, "2 days 7:33:20")],
)
def test_a_time_that_has_passed(seconds, text):
    assert span(seconds) == text


def test_rates():
    """Octets a second between two looks; the first look gives none, and another tunnel's smaller totals give none."""
    rates = Rates()
    for now, into, out in ((10.0, 1000, 0), (12.0, 5000, 100), (13.0, 10, 5), (13.0, 99, 99)):
        rates.add(now, into, out)
    assert list(rates.into)[-3:] == [0.0, 2000.0, 0.0]
    assert list(rates.out)[-2:] == [50.0, 0.0]
    assert len(rates.into) == POINTS


def shown(result):
    stream = io.StringIO()
    Console(stream).print_all(live_view(result, Rates()))
    return stream.getvalue()


def test_the_view(monkeypatch):
    monkeypatch.setenv("COLUMNS", "140")
    found = (finding("foreign-rule", "zesty0", "rule 9 (IPv4)"),)
    text = shown(StatusResult(TUNNEL, "up", Condition.UP, GUARD, found))
    for words in (
        "Lisbon, PT", "3.2 MB in all, 3000 packets", "1.1 MB in all", "12.3 ms", "2 s ago", "up for 1:02:03",
        "closed for all traffic at 00:12:00+00:00, 41 packets rejected, 3 packets let through beside the tunnel", "foreign-rule",
        "2026-11-29T00:10:00Z for 0:00:12: the gateway is silent; 40 packets rejected", "q leaves",
    ):  # fmt: skip
        assert words in text, text
    lost = shown(StatusResult(replace(TUNNEL, is_up=False), "lost", Condition.BLOCKED, GUARD))
    assert "blocked" in lost and "reconnecting" in lost
    assert "No tunnel is up" in shown(StatusResult(None, "", Condition.DOWN))


def test_one_line():
    assert one_line(StatusResult(TUNNEL, "up", Condition.UP, GUARD)) == (
        "up quillwort-lisbon 1:02:03 in 3.2 MB out 1.1 MB"
    )
    assert one_line(StatusResult(None, "", Condition.BLOCKED, GUARD)) == "blocked quillwort-lisbon"
    assert one_line(StatusResult(None, "", Condition.DOWN)) == "down"


def test_a_loss_that_lasts():
    row = ("2026-11-29T00:10:00Z", "no answer", 0.0, 1)
    assert loss_words(row) == "2026-11-29T00:10:00Z until now: no answer; 1 packet rejected"
