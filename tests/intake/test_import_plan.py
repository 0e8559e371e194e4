"""A kit compared with what is kept: new, the same, another edition; what is decided is what is planned."""

from __future__ import annotations

from dataclasses import replace

import pytest

from corpus import material as m
from zesty_burrow.core.credentials import NamePassword, kind_of
from zesty_burrow.core.scope import Scope
from zesty_burrow.core.secret import Secret
from zesty_burrow.intake.import_plan import BOTH, KEEP, REPLACE, ImportPlan, NewProfile
from zesty_burrow.intake.kit import FoundCredentials, FoundProfile, Kit
from zesty_burrow.profiles.compare import Relation
from zesty_burrow.profiles.text import read_profile

LISBON = replace(read_profile(m.LISBON.decode()), authorities=())
OTHER = replace(LISBON, tunnel=replace(LISBON.tunnel, mtu=1300))
SCOPE = Scope("Quillwort Relay")
SECRET, NEWER = (NamePassword("heron", Secret(word)) for word in ("x_first", "x_second"))


class Kept:
    """A store in memory."""

    def __init__(self, *profiles, secret=None, worked=""):
        self.rows = {one.name: NewProfile.of(one, "before") for one in profiles}
        self.secret, self.worked = secret, worked

    def digests(self):
        return {name: row.digest for name, row in self.rows.items()}

    def profile_texts(self, names):
        return [self.rows[name].text for name in names]

    def find_credentials(self, scope, kind):
        return self.secret if self.secret and (scope, kind) == (SCOPE, kind_of(self.secret)) else None

    def worked_at(self, scope, kind):
        return self.worked if (scope, kind) == (SCOPE, kind_of(self.secret)) else ""

    def editions_of(self, provider):
        return [(name, row.text) for name, row in self.rows.items() if row.profile.provider == provider]


def kit(*profiles, secret=None):
    made = [NewProfile.of(one, "kit.zip") for one in profiles]
    found = tuple(FoundProfile(one.profile.name, one.profile, one.text, one.digest, one.origin) for one in made)
    secrets = (FoundCredentials("c.txt", SCOPE, secret, "kit.zip"),) if secret else ()
    return Kit("kit.zip", found, secrets, (), ())


def planned(kept, taken, choice=KEEP, **more):
    asked = []
    plan = ImportPlan(kept, lambda difference: asked.append(difference) or choice, **more)
    plan.take(taken)
    return plan, asked


def slugs(plan):
    return [one.code.slug for one in plan.findings]


def test_new_and_the_same():
    """A name that is not there is new; the same content is not asked about, whatever it is called here."""
    plan, asked = planned(None, kit(LISBON))
    assert plan.outcomes == {LISBON.name: "new"} and plan.taken[LISBON.name].origin == "kit.zip"
    plan, more = planned(Kept(LISBON), kit(LISBON))
    assert plan.outcomes == {LISBON.name: "already stored"} and plan.taken == {}
    plan, others = planned(Kept(replace(LISBON, name="renamed")), kit(LISBON))
    assert plan.outcomes == {LISBON.name: "already stored as renamed"}
    assert asked == more == others == []


@pytest.mark.parametrize(
    ("choice", "outcome", "taken", "replacing", "slug"),
    [
        (KEEP, "left out", [], set(), "profile-changed"),
        (REPLACE, "replaced", [LISBON.name], {LISBON.name}, "profile-replaced"),
        (BOTH, f"taken as {LISBON.name}-2", [f"{LISBON.name}-2"], set(), "profile-both"),
    ],
)
def test_another_edition(choice, outcome, taken, replacing, slug):
    """It is asked about once, with what differs; what was chosen is planned."""
    plan, asked = planned(Kept(LISBON), kit(OTHER), choice)
    (difference,) = asked
    assert (difference.name, difference.relation) == (LISBON.name, Relation.CHANGED)
    assert [change.key for change in difference.changes] == ["tunnel.mtu"]
    assert plan.outcomes == {LISBON.name: outcome}
    assert (list(plan.taken), plan.replacing) == (taken, replacing)
    assert slugs(plan) == [slug]


def test_tags_stay_when_a_profile_is_replaced():
    """They are the administrator's own; the content's digest does not depend on them."""
    plan, _ = planned(Kept(replace(LISBON, tags=("sea",))), kit(OTHER), REPLACE)
    made = plan.taken[LISBON.name]
    assert made.profile.tags == read_profile(made.text).tags == ("sea",)
    assert made.digest == NewProfile.of(made.profile, "").digest


def test_two_of_a_name_in_one_kit():
    """The second is compared with the first, which is not stored yet."""
    plan, asked = planned(None, kit(LISBON, OTHER), REPLACE)
    assert len(asked) == 1
    assert plan.taken[LISBON.name].profile.tunnel.mtu == 1300
    plan, _ = planned(None, kit(LISBON, OTHER), BOTH)
    assert sorted(plan.taken) == [LISBON.name, f"{LISBON.name}-2"]


@pytest.mark.parametrize(
    ("kept", "keep", "secrets", "slug"),
    [
        (None, False, [NEWER], []),
        (NEWER, False, [], []),
        (SECRET, False, [NEWER], ["credentials-replaced"]),
        (SECRET, True, [], ["credentials-kept"]),
    ],
)
def test_credentials(kept, keep, secrets, slug):
    """New ones are taken, the same pass silently, others replace what is kept unless that is to stay; none is shown."""
    asked = []

    def decide(difference):
        asked.append((difference.before, difference.entry.value, difference.worked_at))
        return KEEP if keep else REPLACE

    worked = "2026-10-01T08:00:00Z" if keep else ""
    plan, _ = planned(Kept(secret=kept, worked=worked), kit(secret=NEWER), decide_credentials=decide)
    assert asked == ([(SECRET, NEWER, worked)] if slug else [])
    assert all(("2026-10-01" in one.detail) is keep for one in plan.findings)
    assert [value for _, value, _ in plan.secrets] == secrets
    assert slugs(plan) == slug
    assert "x_" not in str(plan.findings)


@pytest.mark.parametrize(
    ("before", "after", "is_edition"),
    [
        ({"edition": "2026-01-01"}, {"edition": "2026-06-01"}, True),
        ({"edition": "2026-06-01"}, {"edition": "2026-01-01"}, True),
        ({"edition": "2026-01-01"}, {"edition": "2026-01-01", "city": "Faro"}, False),
        ({}, {"edition": "2026-06-01"}, False),
        ({"edition": "2026-01-01"}, {}, False),
        ({"edition": "2026-01-01", "provider": "Another"}, {"edition": "2026-06-01"}, False),
    ],
)
def test_an_edition_under_another_name(before, after, is_edition):
    """Known by its provider and gateway, where both say which edition they are; else it is a profile of its own."""
    stored = replace(LISBON, name="lisbon-of-old", **before)
    plan, asked = planned(Kept(stored), kit(replace(LISBON, **after)), REPLACE)
    if not is_edition:
        assert plan.outcomes == {LISBON.name: "new"} and asked == []
        return
    assert plan.replacing == {"lisbon-of-old"} and list(plan.taken) == ["lisbon-of-old"]
    assert plan.taken["lisbon-of-old"].profile.edition == after["edition"]
    assert slugs(plan)[0] == "edition-renamed"


def test_both_editions_in_one_kit():
    """Where the kit has the stored name as well, nothing is taken for another edition of it."""
    stored = replace(LISBON, name="lisbon-of-old", edition="1")
    plan, asked = planned(Kept(stored), kit(stored, replace(LISBON, edition="2")))
    assert plan.outcomes == {"lisbon-of-old": "already stored", LISBON.name: "new"} and asked == []
