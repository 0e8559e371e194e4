"""What a check page sends: a stranger's words, judged as everything else is."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fleet.test_link import LATER, NOW, Served, made
from zesty_burrow.core.outside.judgement import Verdict, judge
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, Sighting
from zesty_burrow.errors import Malformed
from zesty_burrow.fleet.links.check import judge_check, observation_of
from zesty_burrow.fleet.report import report_of

HOME = {"address": "203.0.113.98", "operator": "Cobblewire", "country": "SI", "city": "Piran"}
EXIT = {"address": "198.51.100.19", "operator": "Quillwort Relay", "country": "PT", "city": "Lisbon"}
PROMISE = ExpectedExit("PT", "Lisbon", "Quillwort Relay")


def resolver(address, operator):
    return {"resolver": address, "operator": operator, "country": "PT", "name": f"n1.{address}", "token": "t"}


def seen(address=EXIT, ipv6=None, real_time=(), asked_by=("198.51.100.242", "Quillwort Relay")):
    names = {"questions": [resolver(*asked_by)]}
    return {"ipv4": address, "ipv6": ipv6, "real_time": list(real_time), "names": names, "asked": 1}


BEFORE = seen(HOME, asked_by=("192.0.2.53", "Cobblewire"))


@pytest.mark.parametrize(
    ("after", "verdict", "code"),
    [
        (seen(), Verdict.SEALED, ""),
        (seen(HOME), Verdict.LEAKING, "address-unchanged"),
        (seen(asked_by=("192.0.2.53", "Cobblewire")), Verdict.LEAKING, "dns-leak"),
        (seen(real_time=[HOME]), Verdict.LEAKING, "real-time-leak"),
        (seen({**EXIT, "country": "DE", "city": "Hamburg"}), Verdict.LEAKING, "exit-elsewhere"),
        (seen(None), Verdict.UNCLEAR, "observatory-silent"),
    ],
)
def test_the_judgement(after, verdict, code):
    """The one that verify uses, on what the page has seen."""
    found, observed = judge_check({"before": BEFORE, "after": after}, PROMISE, NOW)
    assert found.verdict is verdict, found
    assert code in {one.code.slug for one in found.findings} or not code
    assert found == judge(observation_of(BEFORE, NOW), observation_of(after, NOW), PROMISE)
    told = report_of("plover", 1, "p", "d", found, observed)
    assert told.verdict == str(verdict) and (code in told.codes or not code)


def test_without_a_look_before():
    """Said, and no verdict; a leak that shows by itself is one all the same."""
    found, _ = judge_check({"after": seen()}, PROMISE, NOW)
    assert found.verdict is Verdict.UNCLEAR and "no-baseline" in {one.code.slug for one in found.findings}


def test_addresses_that_nobody_outside_sees():
    """A browser tells the addresses of its own network as well."""
    own = ["192.168.1.7", "10.66.1.10", "100.64.0.1", "fd66::a", "fe80::1", "127.0.0.1", "::1", "nonsense", ""]
    rows = [{"address": one} for one in (*own, "203.0.113.98", "2001:db8:b8::98", "203.0.113.98")]
    found = observation_of({"real_time": rows}, NOW)
    assert [one.address for one in found.real_time] == ["203.0.113.98", "2001:db8:b8::98"]
    assert found == replace(Observation(NOW, reached=False), real_time=found.real_time)


PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=8,
)
KEYS = ("ipv4", "ipv6", "real_time", "names", "asked")


@given(PLAIN | st.fixed_dictionaries({}, optional=dict.fromkeys(KEYS, PLAIN)), PLAIN)
def test_arbitrary_documents(after, before):
    try:
        found, observed = judge_check({"after": after, "before": before}, PROMISE, NOW)
    except Malformed:
        return
    assert found.verdict in Verdict and isinstance(observed.ipv4, Sighting) and len(observed.real_time) <= 16


def test_the_server_s_part(tmp_path, authority):
    """The page may ask its own server and the observatory, and nobody else; nonsense is refused; who has no link learns
    nothing.
    """
    served = Served(tmp_path, authority)
    link = made()
    served.links.add(link.name, "plover", link.sealed, LATER)
    judged = []

    class Check:
        observatory = "observatory.example"

        def about(self, name):
            return {"device": "plover"} if name == link.name else None

        def judge(self, name, document):
            judgement, _ = judge_check(document, PROMISE, NOW)
            judged.append(name)
            return {"verdict": str(judgement.verdict)}

    served.server.check = Check()
    token = link.url("https://x.example").split("/o/")[1].partition("#")[0]
    good = json.dumps({"before": BEFORE, "after": seen()}).encode()
    answers = served.talk(
        ("GET", f"/c/{token}"),
        ("POST", f"/c/{token}/begin", b"{}"),
        ("POST", f"/c/{token}/observed", good),
        ("POST", f"/c/{token}/observed", b"[" * 5000),
        ("POST", f"/c/{token}/observed", b"x" * 70_000),
        ("POST", "/c/somebody/begin", b"{}"),
        ("POST", "/c/somebody/observed", good),
        ("GET", f"/c/{token}/begin"),
    )
    assert [one[0] for one in answers] == [200, 200, 200, 400, 413, 410, 410, 404]
    policy = answers[0][1]["Content-Security-Policy"]
    assert "connect-src 'self' https://observatory.example https://*.observatory.example;" in policy
    assert json.loads(answers[1][2]) == {"device": "plover", "observatory": "observatory.example"}
    assert json.loads(answers[2][2]) == {"verdict": "sealed"} and judged == [link.name]
    served.store.close()
