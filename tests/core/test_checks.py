"""A check of a verification is one file: everything that shows it follows from its entry."""

from __future__ import annotations

import json
import re

import pytest

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import CODES, finding
from zesty_burrow.core.outside.checks import CHECKS, register_check
from zesty_burrow.core.outside.checks.check import Check
from zesty_burrow.core.outside.judgement import judge
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, Sighting, read_observation
from zesty_burrow.fleet.links.check import judge_check
from zesty_burrow.fleet.links.server import asset
from zesty_burrow.observe.channel import ObservatoryAddress
from zesty_burrow.observe.client import Observer
from zesty_burrow.report.reporter import Reporter
from zesty_burrow.report.results.verification import VerifyResult
from zesty_burrow.use_cases.codes import explain
from zesty_burrow.use_cases.verification.verified import Verified

HOME, EXIT = Sighting("192.0.2.77", "Cobblewire", "SI"), Sighting("198.51.100.19", "Quillwort Relay", "PT")
BEFORE = Observation("2026-11-01T09:00:00Z", HOME, resolvers=(HOME,), names_asked=6, names_answered=6)
AFTER = Observation("2026-11-01T09:05:00Z", EXIT, resolvers=(EXIT,), names_asked=6, names_answered=6)
LATE = Code("clock-late", Severity.SERIOUS, "The clock is late.", "Certificates seem valid too long.", "Set it.")


def _judge(facts):
    if facts.after.more.get("clock_seconds", 0) > 60:
        yield finding("clock-late", "this machine", f"{facts.after.more['clock_seconds']} s")


@pytest.fixture
def clock(tmp_path, monkeypatch):
    """A check of the clock, with its part of the check page in a package of its own."""
    folder = tmp_path / "clock_check"
    folder.mkdir()
    (folder / "__init__.py").write_text("")
    (folder / "clock.js").write_text("checks.clock = async () => ({ clock_seconds: 0 });\n")
    monkeypatch.syspath_prepend(tmp_path)
    check = Check(
        "clock",
        (LATE,),
        judge=_judge,
        looks_at="the clock",
        ask=lambda questions, seen: {"clock_seconds": len(questions.about) * 100},
        rows=lambda before, after: [("clock", "", f"{after.more.get('clock_seconds', '')}")],
        script=("clock_check", "clock.js"),
        read=lambda document: {"clock_seconds": document.get("clock_seconds", 0)},
        on_page={"en": {"clock-late": "The clock of this device is late."}},
    )
    register_check(check)
    yield check
    CHECKS.remove(check)
    del CODES["clock-late"]


def test_a_check_is_one_entry(clock, capsys):
    """Judged, stored, explained, shown as text, as JSON, and by the check page in each language."""
    after = AFTER.with_evidence({"clock_seconds": 90})
    assert read_observation(json.loads(json.dumps(after.document()))) == after
    judgement = judge(BEFORE, after, ExpectedExit("PT"))
    assert (judgement.verdict, judge(BEFORE, AFTER, ExpectedExit("PT")).verdict) == ("leaking", "sealed")
    assert explain("clock-late") == (LATE,)
    result = VerifyResult(Verified(after, judgement, "lisbon", "PT", BEFORE))
    assert result.content()["after"]["clock_seconds"] == 90
    assert "clock-late" in {entry["code"] for entry in result.content()["findings"]}
    Reporter().result(result)
    shown = capsys.readouterr().out
    assert re.search(r"clock +90", shown) and "90 s" in shown
    texts = json.loads(asset("texts.json"))
    assert {words["finding-clock-late"] for words in texts.values()} == {"The clock of this device is late."}
    script = asset("checks.js").decode()
    assert "checks.clock" in script and script.index("const checks") < script.index("checks.addresses")
    seen = {"ipv4": {"address": EXIT.address}, "clock_seconds": 61}
    verdict, observed = judge_check({"after": seen}, ExpectedExit(), "2026-11-01T09:05:00Z")
    assert observed.more == {"clock_seconds": 61} and "clock-late" in {entry.code.slug for entry in verdict.findings}


def test_silence_asks_nothing_more(clock):
    """No observatory: the checks ask nothing, and the observation says so."""
    asked = []
    observation = Observer(ObservatoryAddress("127.0.0.1", 1), asked.append).observe()
    assert not observation.reached and asked == [] and observation.more == {}
