"""The store on SQLite and on PostgreSQL: its shape, its searches, its seal, and what two writers at once see."""

from __future__ import annotations

import os
import threading
from dataclasses import replace
from random import Random

import pytest

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.scope import Scope
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Clash, NotFound, SealError, StateError
from zesty_burrow.intake.import_plan import NewProfile
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.store import seal
from zesty_burrow.store.database import open_database
from zesty_burrow.store.devices import Rule
from zesty_burrow.store.rows import HEAD
from zesty_burrow.store.seal import Seal
from zesty_burrow.store.store import Store
from zesty_burrow.store.verifications.run_store import ObservationRow

PROFILES = [place_profile(place) for place in story.PLACES]


def kept(store, label):
    """What is sealed for all profiles of a label."""
    row = next((row for row in store.list_credentials() if row.scope == Scope(label)), None)
    if row is None:
        raise NotFound(f"no credentials for {label}")
    return store.open_credentials(row)


SECRET = NamePassword("tidewrack_heron", Secret("kelp-Forest_42"))


def row(profile):
    return NewProfile.of(profile, "kit")


@pytest.fixture
def full(place):
    """A store with the five profiles and their credentials."""
    made = place.open()
    made.take_kit([row(entry) for entry in PROFILES], [(Scope(story.PROVIDER), SECRET, "kit")])
    return made


OLDER = """format = 1
[profile]
name = "lisbon"
provider = "Quillwort Relay"
[gateway]
addresses = ["lisbon.quillwort.example"]
port = 4500
[tunnel]
protocol = "ikev2"
clamp_segment_size = true
[algorithms]
esp = [{ encryption = ["ENCR_AES_GCM_16 256"] }]
"""


def at_revision(place, revision):
    """A store as the program made it when ``revision`` was the newest: its tables, by SQL of that time."""
    key, octets = place.kind.key, place.kind.octets
    scopes = ", device VARCHAR(64) NOT NULL DEFAULT '', profile VARCHAR(64) NOT NULL DEFAULT ''"
    tags = ", tags VARCHAR(500) NOT NULL DEFAULT ''"
    later = revision >= "0002"
    unique = (
        "one_secret_a_scope UNIQUE (label, device, profile, kind)"
        if later
        else "one_secret_a_kind UNIQUE (label, kind)"
    )
    for statement in (
        f"CREATE TABLE profiles (id {key}, name VARCHAR(64) NOT NULL UNIQUE, provider VARCHAR(200) NOT NULL, "
        "country VARCHAR(2) NOT NULL, city VARCHAR(200) NOT NULL, protocol VARCHAR(40) NOT NULL, "
        "digest VARCHAR(64) NOT NULL, text TEXT NOT NULL, origin VARCHAR(500) NOT NULL, "
        f"imported_at VARCHAR(32) NOT NULL{tags if later else ''})",
        f"CREATE TABLE credentials (id {key}, label VARCHAR(200) NOT NULL, kind VARCHAR(40) NOT NULL, sealed {octets} NOT NULL, "
        f"origin VARCHAR(500) NOT NULL, imported_at VARCHAR(32) NOT NULL{scopes if later else ''}, CONSTRAINT {unique})",
        f"CREATE TABLE observations (id {key}, taken_at VARCHAR(32) NOT NULL, role VARCHAR(10) NOT NULL, "
        "profile VARCHAR(64) NOT NULL, verdict VARCHAR(10) NOT NULL, document TEXT NOT NULL)",
        "CREATE TABLE alembic_version (version_num VARCHAR(32) NOT NULL)",
        f"INSERT INTO alembic_version VALUES ('{revision}')",
    ):
        place.rows(statement, change=True)


def test_profiles_of_format_1_are_converted(place):
    """A store of the format before: texts become format 2, digests those of an import of the same; odd texts stay."""
    at_revision(place, "0002")
    for name, text in (("lisbon", OLDER), ("odd", "format = 99")):
        place.rows(
            "INSERT INTO profiles (name, text, provider, country, city, protocol, digest, origin, imported_at, tags) "
            "VALUES (?, ?, 'Quillwort Relay', '', '', 'ikev2', 'before', 'kit', '2026-01-01T00:00:00Z', 'sea')",
            name, text, change=True,
        )  # fmt: skip
    kept = place.open()
    expected = NewProfile.of(read_profile(OLDER), "kit")
    texts = kept.profile_texts(["lisbon", "odd"])
    assert texts == [expected.text, "format = 99"]
    assert "format = 2" in texts[0] and "port = 4500" in texts[0] and "clamp_tcp_mss = true" in texts[0]
    assert kept.digests() == {"lisbon": expected.digest, "odd": "before"}
    assert [one.tags for one in kept.list_profiles()] == ["sea", "sea"]


def test_a_store_of_the_first_shape_keeps_everything(place):
    """Profiles and sealed credentials of version 0001 are there, and open, after the way to the newest shape."""
    at_revision(place, "0001")
    sealed = seal.Seal(b"k" * 32).seal(b'{"name": "tidewrack_heron", "password": "kelp-Forest_42"}', "P/name-password")
    place.rows(
        "INSERT INTO profiles (name, provider, country, city, protocol, digest, text, origin, imported_at) "
        "VALUES (?, 'P', 'PT', 'Lisbon', 'ikev2', 'd', ?, 'kit', '2026-01-01T00:00:00Z')",
        PROFILES[0].name, write_profile(PROFILES[0]), change=True,
    )  # fmt: skip
    place.rows(
        "INSERT INTO credentials (label, kind, sealed, origin, imported_at) VALUES ('P', 'name-password', ?, 'kit', ?)",
        sealed, "2026-01-01T00:00:00Z", change=True,
    )  # fmt: skip
    made = place.open()
    assert [(row.name, row.tags) for row in made.list_profiles()] == [(PROFILES[0].name, "")]
    assert kept(made, "P") == SECRET
    made.take_kit([], [(Scope("P"), SECRET, "later")])
    assert [row.origin for row in made.list_credentials()] == ["later"]


def test_a_store_is_newer_than_the_program(place):
    """It is left alone."""
    place.open()
    place.rows("UPDATE store_version SET version = 9999", change=True)
    with pytest.raises(StateError, match="newer than this program"):
        place.open()
    assert place.rows("SELECT version FROM store_version") == [(9999,)]


def test_the_version_that_a_fresh_store_has(place):
    place.open()
    assert place.rows("SELECT version FROM store_version") == [(HEAD,)]


def test_profiles_come_back_as_they_went_in(full):
    """Each profile is found by name and by city, equal to what was taken."""
    for profile in PROFILES:
        assert full.find_profile(profile.name)[0] == profile
        assert full.find_profile(profile.city.upper())[0] == profile
    with pytest.raises(NotFound, match="nothing of that name") as raised:
        full.find_profile("lisb")
    assert raised.value.instead == ("lisb", ("quillwort-lisbon",))


def test_a_city_with_two_profiles_is_not_guessed(full):
    """Where a city is not enough, the name is asked for."""
    full.take_kit([row(replace(PROFILES[0], name="other-lisbon"))], [])
    with pytest.raises(NotFound):
        full.find_profile("lisbon")


def test_search(full):
    """Every word must occur; marks of the database's own language are just letters."""
    assert [row.name for row in full.list_profiles(["relay", "ee"])] == ["quillwort-tallinn"]
    assert len(full.list_profiles(["quillwort"])) == 5
    for mark in ("%", "_", "\\", "'"):
        assert full.list_profiles([mark]) == []


def test_names_by_their_beginning(full):
    """Letter by letter, not beyond a number; marks of the database's own language are just letters."""
    assert full.names("quillwort-t", 9) == ["quillwort-tallinn"]
    assert full.names("Quillwort-t", 9) == []
    assert (len(full.names("", 9)), len(full.names("", 3))) == (5, 3)
    for mark in ("%", "_", "quillwort_", "\\", "'"):
        assert full.names(mark, 9) == []


def test_credentials_are_sealed_and_bound_to_their_label(full, place):
    """Another key is noticed before it opens or seals anything; a value moved to another label opens nothing."""
    assert kept(full, story.PROVIDER) == SECRET
    stranger = place.open(b"x" * 32)
    with pytest.raises(SealError, match="not the one of the store"):
        kept(stranger, story.PROVIDER)
    with pytest.raises(SealError, match="not the one of the store"):
        stranger.take_kit([row(replace(PROFILES[0], name="other"))], [(Scope("Another"), SECRET, "kit")])
    assert len(full.list_profiles()) == 5 and len(full.list_credentials()) == 1
    place.rows("UPDATE credentials SET label = 'Another'", change=True)
    with pytest.raises(SealError):
        kept(full, "Another")
    with pytest.raises(NotFound, match="no credentials"):
        kept(full, story.PROVIDER)


def test_credentials_are_replaced_not_doubled(full):
    """Importing credentials again changes them for all profiles of the provider."""
    changed = NamePassword("tidewrack_heron", Secret("new-One_77"))
    full.take_kit([], [(Scope(story.PROVIDER), changed, "later")])
    assert kept(full, story.PROVIDER) == changed
    assert [(row.label, row.origin) for row in full.list_credentials()] == [(story.PROVIDER, "later")]


@pytest.mark.parametrize("place", ["sqlite"], indirect=True)
def test_removed_secrets_are_gone_from_the_disk(full, tmp_path):
    """What was removed is overwritten in the file, profile text included."""
    assert b"lisbon.quillwort.example" in (tmp_path / "store.db").read_bytes()
    full.remove_profiles([entry.name for entry in PROFILES], forget_labels=[story.PROVIDER], for_good=True)
    full.close()
    left = (tmp_path / "store.db").read_bytes()
    assert b"lisbon.quillwort.example" not in left
    assert b"Quillwort Relay" not in left


def test_removing_what_is_not_there_removes_nothing(full):
    """One unknown name among known ones leaves all of them."""
    with pytest.raises(NotFound):
        full.remove_profiles([PROFILES[0].name, "nobody"])
    assert len(full.list_profiles()) == 5


def test_reseal(full, place):
    """Every secret opens under the new key and none under the old one."""
    assert full.reseal(Seal(b"n" * 32)) == 1
    assert kept(full, story.PROVIDER) == SECRET
    assert kept(place.open(b"n" * 32), story.PROVIDER) == SECRET
    with pytest.raises(SealError):
        kept(place.open(), story.PROVIDER)


def test_the_salt_that_several_share(place):
    """Made once, the same for everybody who opens the store, before and after the first secret."""
    first = place.open()
    salt = first.shared_salt()
    first.take_kit([], [(Scope(story.PROVIDER), SECRET, "kit")])
    assert place.open().shared_salt() == salt and len(salt) == 16


def state(full):
    """Everything that a change can touch, as it is."""
    rows = [tuple(getattr(row, key) for key in ("name", "digest", "origin", "tags")) for row in full.list_profiles()]
    secrets = [(row.label, row.profile, row.kind, full.open_credentials(row)) for row in full.list_credentials()]
    return rows, full.profile_texts([row[0] for row in rows]), secrets, full.fleet.list_rules()


OTHER = NamePassword("tidewrack_curlew", Secret("Another-one_7"))
CHANGES = {
    "import": lambda full: full.take_kit(
        [NewProfile.of(replace(PROFILES[0], name="new"), "kit")], [(Scope("N"), OTHER, "kit")]
    ),
    "replacing": lambda full: full.take_kit(
        [NewProfile.of(replace(PROFILES[0], city="Porto"), "kit")],
        [(Scope(story.PROVIDER), OTHER, "kit")],
        replacing=[PROFILES[0].name],
    ),
    "change": lambda full: full.change_profiles([replace(one, city="Faro") for one in PROFILES[:2]]),
    "tag": lambda full: full.change_profiles([replace(PROFILES[0], tags=("sea",))]),
    "rename": lambda full: full.rename_profile(PROFILES[0].name, "home"),
    "remove": lambda full: full.remove_profiles([one.name for one in PROFILES], forget_labels=[story.PROVIDER]),
    "forget": lambda full: full.forget_credentials(Scope(story.PROVIDER)),
}


@pytest.mark.parametrize("title", CHANGES)
def test_a_change_is_taken_back(full, title):
    """All of it, secrets included; and the undoing itself as well."""
    full.take_kit([], [(Scope("", profile=PROFILES[0].name), OTHER, "kit")])
    full.fleet.add_rule(Rule(0, PROFILES[0].name, kind="phone"))
    before = state(full)
    CHANGES[title](full)
    after = state(full)
    assert after != before
    full.take_back(full.list_changes()[0].number, title)
    assert state(full) == before
    assert [(row.what, row.undone) for row in full.list_changes()[:1]] == [(f"undo: {title}", False)]
    full.take_back(full.list_changes()[0].number, "that")
    assert state(full) == after


@pytest.mark.parametrize("dice", range(8))
def test_changes_are_taken_back_in_their_order(full, dice):
    """Any row of changes, the last one first: what there was."""
    random = Random(dice)
    states, numbers = [], []
    for title in random.sample(sorted(CHANGES), 5):
        states.append(state(full))
        try:
            CHANGES[title](full)
        except (NotFound, Clash):
            states.pop()
            continue
        if state(full) == states[-1]:
            states.pop()
            continue
        numbers.append(full.list_changes()[0].number)
    assert numbers
    for number, wanted in zip(reversed(numbers), reversed(states), strict=True):
        full.take_back(number, "it")
        assert state(full) == wanted


def test_what_came_after_is_not_lost(full):
    """A change is not taken back over a later one; what it did not touch does not matter."""
    CHANGES["change"](full)
    first = full.list_changes()[0].number
    full.change_profiles([replace(PROFILES[0], city="Evora")])
    before = state(full)
    with pytest.raises(Clash, match="changed again since"):
        full.take_back(first, "it")
    assert state(full) == before
    CHANGES["forget"](full)
    full.take_back(full.list_changes()[1].number, "it")
    assert full.list_credentials() == []


def test_how_long_changes_are_kept(place, monkeypatch):
    """What was removed: 30 days, and then not a trace; of the rest the last ten."""
    day = ["2026-01-01T00:00:00Z"]
    monkeypatch.setattr(place, "now", lambda: day[0])
    full = place.open()
    full.take_kit([NewProfile.of(one, "kit") for one in PROFILES], [(Scope(story.PROVIDER), SECRET, "kit")])
    full.remove_profiles([PROFILES[0].name])
    for number in range(12):
        full.take_kit([], [(Scope(f"L{number}"), SECRET, "kit")])
    rows = full.list_changes()
    assert [row.what for row in rows if row.names and row.what == "remove"] == ["remove"] and len(rows) == 11
    day[0] = "2026-01-31T00:00:01Z"
    full.take_kit([], [(Scope("later"), SECRET, "kit")])
    assert "remove" not in {row.what for row in full.list_changes()}


def test_for_good(full):
    """Neither the profile nor the secret can be brought back, nor what they were before."""
    CHANGES["change"](full)
    full.remove_profiles([one.name for one in PROFILES], forget_labels=[story.PROVIDER], for_good=True)
    assert full.list_changes() == []
    full.take_kit([], [(Scope("P"), SECRET, "kit")])
    full.forget_credentials(Scope("P"), for_good=True)
    assert full.list_changes() == []


def test_changes_open_under_a_new_key(full, place):
    """What was removed before the key was changed comes back, and opens."""
    full.take_kit([], [(Scope("P"), OTHER, "kit")])
    kept_number = full.list_changes()[0].number
    CHANGES["forget"](full)
    full.reseal(Seal(b"n" * 32))
    renewed = place.open(b"n" * 32)
    renewed.take_back(renewed.list_changes()[0].number, "it")
    assert kept(renewed, story.PROVIDER) == SECRET
    renewed.take_back(kept_number, "it")
    with pytest.raises(NotFound):
        kept(renewed, "P")


def test_renamed_with_its_credentials(full):
    """Credentials of one profile alone go with it, under a seal of their own."""
    full.take_kit([], [(Scope("", profile=PROFILES[0].name), SECRET, "kit")])
    full.rename_profile(PROFILES[0].name, "home")
    assert full.open_credentials(next(one for one in full.list_credentials() if one.profile == "home")) == SECRET
    assert full.forget_credentials(Scope("", profile="home")) == 1
    with pytest.raises(Clash):
        full.rename_profile("home", PROFILES[1].name)


def test_renamed_with_those_under_its_name(full):
    """Credentials that are kept under a profile's own name stay its own: until it is removed, and when it is undone."""
    sign_in = replace(PROFILES[0].sign_in, credentials="")
    alone = replace(PROFILES[0], name="alone", provider="", sign_in=sign_in)
    full.take_kit([row(alone)], [(Scope("alone"), SECRET, "kit")])
    full.rename_profile("alone", "home")
    assert full.labels()["home"] == "home" and kept(full, "home") == SECRET
    full.take_back(full.list_changes()[0].number, "it")
    assert kept(full, "alone") == SECRET
    # Somebody else uses them as well: they stay where both find them.
    other = replace(alone, name="other", sign_in=replace(sign_in, credentials="alone"))
    full.take_kit([row(other)], [])
    full.rename_profile("alone", "home")
    assert full.labels()["home"] == full.labels()["other"] == "alone" and kept(full, "alone") == SECRET


def test_observations(full):
    """The newest of a role is found."""
    for number in range(3):
        full.runs.add_observation(ObservationRow(f"2026-11-0{number + 1}", "before", "", "", str(number)))
    full.runs.add_observation(ObservationRow("2026-11-09", "after", "quillwort-lisbon", "sealed", "x"))
    assert full.runs.latest_observation("before").document == "2"
    assert full.runs.latest_observation("after").verdict == "sealed"
    assert full.runs.latest_observation("never") is None


def test_two_writers(place):
    """Two programs at once wait for each other; nothing is lost."""
    place.open().close()

    def write(start):
        mine = place.open()
        for number in range(10):
            mine.take_kit([row(replace(PROFILES[0], name=f"p{start + number}"))], [(Scope("P"), SECRET, str(start))])
        mine.close()

    threads = [threading.Thread(target=write, args=(start,)) for start in (0, 100)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    made = place.open()
    assert len(made.list_profiles()) == 20 and kept(made, "P") == SECRET


def test_somebody_was_quicker(full, place):
    """The same name twice: the second is told, and nothing of it is stored."""
    with pytest.raises(Clash, match="of that name already"):
        place.open().take_kit(
            [row(replace(PROFILES[0], name="fresh")), row(PROFILES[1])], [(Scope("Q"), SECRET, "kit")]
        )
    assert len(full.list_profiles()) == 5 and len(full.list_credentials()) == 1


def test_a_store_that_cannot_be_reached(tmp_path):
    """A wrong URL gives one error without the URL's password in it."""
    (tmp_path / "file").touch()
    for url in (
        f"sqlite:///{tmp_path}/file/store.db",
        "postgresql://anna:S3cret@/x?host=/nowhere",
        "nonsense",
        "mysql://a:S3cret@b",
    ):
        with pytest.raises(StateError) as caught:
            open_database(url)
        assert "S3cret" not in str(caught.value)


def test_the_keyring(monkeypatch):
    """The system keyring's key is made once and found again; a keyring that fails is told."""
    import keyring
    from keyring.backend import KeyringBackend
    from keyring.errors import KeyringError

    class InMemory(KeyringBackend):
        priority = 1
        kept: dict = {}

        def get_password(self, service, username):
            return self.kept.get((service, username))

        def set_password(self, service, username, password):
            self.kept[service, username] = password

        def delete_password(self, service, username):
            del self.kept[service, username]

    before = keyring.get_keyring()
    keyring.set_keyring(InMemory())
    try:
        first = seal.key_from_keyring()
        assert (len(first), seal.key_from_keyring()) == (32, first)

        def locked(*_):
            raise KeyringError("locked")

        monkeypatch.setattr(InMemory, "get_password", locked)
        with pytest.raises(SealError, match="locked"):
            seal.key_from_keyring()
    finally:
        keyring.set_keyring(before)


def test_key_files(tmp_path):
    """A damaged key file is refused; a fresh one has its final mode and 32 octets."""
    path = tmp_path / "seal.key"
    assert len(seal.key_from_file(path)) == 32
    assert os.stat(path).st_mode & 0o777 == 0o600
    path.write_bytes(b"short")
    with pytest.raises(SealError, match="damaged"):
        seal.key_from_file(path)


def test_the_passphrase_goes_through_scrypt(tmp_path):
    """RFC 7914: the same passphrase and salt give the same key, another passphrase or salt another one."""
    salt = seal.salt_from_file(tmp_path / "seal.salt")
    one = seal.key_from_passphrase(salt, lambda: "stormy petrel")
    assert one == seal.key_from_passphrase(seal.salt_from_file(tmp_path / "seal.salt"), lambda: "stormy petrel")
    assert one != seal.key_from_passphrase(salt, lambda: "calm petrel")
    assert one != seal.key_from_passphrase(bytes(16), lambda: "stormy petrel")
    assert len(salt) == 16


def test_two_programs_make_one_store(place):
    """All at once: one makes it, the others find it made."""
    failed = []

    def make():
        try:
            place.open().close()
        except StateError as problem:
            failed.append(problem)

    threads = [threading.Thread(target=make) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert failed == []


@pytest.mark.parametrize("statement", range(24))
def test_cut_off_while_it_is_made(place, statement):
    """A program that ends after any statement leaves a store that the next one makes whole."""

    class CutOff(Exception):
        pass

    database = place.database()
    count = 0
    begin = database.begin

    def counting(*, write):
        begun = begin(write=write)
        execute = begun.execute

        def cut(sql, *parameters):
            nonlocal count
            count += 1
            if count > statement:
                raise CutOff
            return execute(sql, *parameters)

        begun.execute = cut
        return begun

    database.begin = counting
    try:
        Store(database, lambda _: Seal(b"k" * 32), lambda: "").close()
    except CutOff:
        assert "profiles" not in tables(place)
    made = place.open()
    made.take_kit([row(entry) for entry in PROFILES], [(Scope(story.PROVIDER), SECRET, "kit")])
    assert len(place.open().list_profiles()) == 5


def tables(place):
    database = place.database()
    with database.transaction() as transaction:
        found = database.tables(transaction)
    database.close()
    return found
