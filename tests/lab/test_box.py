"""The box without a keyboard: enrolled by one code that is compared, set up and verified by its four keys."""

from __future__ import annotations

import pytest

from lab.links_server import PROGRAM, serving
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NAME = "quillwort-montevideo"
ENROL, FETCH, ON, OFF, CHECK = range(5)


@pytest.fixture
def box(lab):
    """Its keys; afterwards nothing is left of it."""

    class Keys:
        at = 0

        def press(self, *keys):
            return [line.strip() for line in LabClient(lab.folder).press(keys)]

        def choose(self, row):
            """An entry of the menu, from wherever its cursor is; what is on the screen then."""
            keys = ["down" if row > self.at else "up"] * abs(row - self.at)
            self.at = row
            return self.press(*keys, "ok")

        def code(self, lines):
            return "".join(lines)

    with serving(lab):
        keys = Keys()
        yield keys
    LabClient(lab.folder).press(["back", *["up"] * 5])
    lab.run("lab", "run", story.BOX, "--", PROGRAM, "disconnect")
    lab.run("lab", "run", story.BOX, "--", PROGRAM, "remove", NAME, "--yes")
    lab.heron("devices", "remove", story.BOX)


def row_of(lab):
    (row,) = lab.heron("devices", "list", story.BOX).json["devices"]
    return row


def test_by_four_keys(lab, box):
    """Nothing is typed, on neither side: what the box shows is compared twice, once for each direction."""
    assert box.press()[0].startswith("> Ask")
    _, *code, rest = box.choose(ENROL)
    (asking,) = lab.heron("devices", "enrolments", check=0).json["enrolments"]
    assert (asking["name"], asking["kind"], asking["code"], rest) == (story.BOX, "box", "".join(code), "")
    lab.heron("devices", "accept", "".join(code), "--client", "program", check=0)
    lab.heron("devices", "assign", NAME, "--device", story.BOX, check=0)
    assert (box.press("back")[0][0], box.choose(FETCH)[0]) == (">", "nothing is waiting")
    report = ("--report", story.LINKS_URL, "--report-authority", str(lab.folder / story.LINKS_AUTHORITY))
    lab.heron("hand-over", story.BOX, "--pickup", *report, check=0)
    box.press("back")
    name, *own, agree = box.choose(FETCH)
    assert (name, "".join(own)) == (NAME, lab.heron("devices", "key", check=0).json["code"]) and "OK" in agree
    assert row_of(lab)["state"] == "not confirmed"
    assert box.press("ok")[:2] == ["Imported:", NAME] and row_of(lab)["state"] == "in date"
    box.press("back")
    assert box.choose(CHECK)[0] == "unclear"
    box.press("back")
    # Now there is something to compare with.
    assert box.choose(CHECK)[0] == "leaking" and row_of(lab)["why"].startswith("no-tunnel")
    box.press("back")
    assert box.choose(ON)[0] == "The tunnel is on:"
    box.press("back")
    assert box.choose(CHECK)[:2] == ["sealed", "sent: 1"]
    assert (row_of(lab)["report"]["verdict"], row_of(lab)["report"]["profile"]) == ("sealed", NAME)
    box.press("back")
    assert box.choose(OFF)[0] == "The tunnel is off."


def test_who_does_not_agree(lab, box):
    """BACK takes nothing, and what waits goes on waiting; without a network the screen says so."""
    lab.fault(story.BOX, "offline")
    assert "cannot be" in " ".join(box.choose(ENROL) + box.press("down", "down"))
    lab.fault(story.BOX)
    box.press("back")
    _, *code, _ = box.choose(ENROL)
    lab.heron("devices", "accept", "".join(code), "--client", "program", check=0)
    lab.heron("devices", "assign", NAME, "--device", story.BOX, check=0)
    lab.heron("hand-over", story.BOX, "--pickup", check=0)
    box.press("back")
    assert box.choose(FETCH)[0] == NAME
    assert box.press("back")[1] == "> Fetch profile" and row_of(lab)["state"] == "not confirmed"
    assert NAME not in lab.shell(story.BOX, PROGRAM, "list").text
    assert box.choose(FETCH)[0] == NAME and box.press("ok")[1] == NAME


def test_a_box_whose_clock_is_off(lab, box):
    """It does not begin: by such a clock every gateway's certificate would be judged wrongly; the screen says why."""
    _, *code, _ = box.choose(ENROL)
    lab.heron("devices", "accept", "".join(code), "--client", "program", check=0)
    lab.heron("devices", "assign", NAME, "--device", story.BOX, check=0)
    lab.heron("hand-over", story.BOX, "--pickup", check=0)
    box.press("back")
    box.choose(FETCH)
    box.press("ok", "back")
    lab.fault(story.BOX, "clock-off")
    said = " ".join(box.choose(ON) + [box.press("down")[-1] for _ in range(12)])
    assert said.startswith("clock: ") and "before this program was made" in said, said
    assert lab.gateway("montevideo")["tunnels"] == 0
    lab.fault(story.BOX)
    box.press("back")
    box.choose(OFF)
    box.press("back")
    assert box.choose(ON)[0] == "The tunnel is on:"
