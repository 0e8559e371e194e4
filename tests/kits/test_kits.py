"""The second corpus: kits that other programs have made, and what must come of each, whole, in part or not at all."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path

import pytest

from kits.make_kits import read_sheets
from zesty_burrow.core.credentials import ClientKey, NamePassword, PreSharedKey
from zesty_burrow.host.files import read_kit_files
from zesty_burrow.intake.containers.budget import Passphrases
from zesty_burrow.intake.kit import Surroundings
from zesty_burrow.intake.read_kit import Argument, read_kit, together

HERE = Path(__file__).parent
KITS = {row["path"]: row for row in tomllib.loads((HERE / "outcomes.toml").read_text("utf-8"))["kit"]}
NOW = datetime(2026, 11, 1, tzinfo=UTC)
LANGUAGES = ("en", "de", "fr", "es", "pt", "it", "nl", "nb", "pl", "sl", "et")
WHOLE, PART, NOTHING = "whole", "in part", "not at all"


def read(row):
    """The kit as ``inspect`` reads it."""
    path = HERE / "files" / row["path"]
    files, beside = read_kit_files(path)
    whole = together([Argument(path.name, files, beside, is_folder=path.is_dir())])
    given = Surroundings(neighbours=whole.neighbours, passphrases=Passphrases(list(row.get("passphrases", ()))))
    return read_kit(whole.origin, whole.files, NOW, given, empty_ok=True)


def facts_of(found):
    """What a profile holds, by the names of the table."""
    profile = found.profile
    traffic = profile.traffic
    return {
        "hosts": list(profile.gateway.addresses),
        "identity": profile.settings.identity.value,
        "provider": profile.provider,
        "country": profile.country,
        "city": profile.city,
        "mtu": str(profile.tunnel.mtu),
        "name_servers": [str(one) for one in traffic.name_servers],
        "networks": [str(one) for one in traffic.networks],
        "suffixes": list(traffic.suffixes),
        "netbios": [str(one) for one in traffic.netbios_name_servers],
        "authorities": len(profile.authorities),
        "transport": profile.settings.over().lower(),
        "protocol": profile.tunnel.protocol,
    }


def secret_text(value):
    """Credentials as the table writes them."""
    if isinstance(value, NamePassword):
        return f"{value.name} {value.password.text()}" + (f" in {value.domain}" if value.domain else "")
    if isinstance(value, PreSharedKey):
        return value.key.text()
    return "client-key" if isinstance(value, ClientKey) else type(value).__name__


def judged(row):
    """How much of a kit was understood, and what was not."""
    kit = read(row)
    got = [facts_of(one) for one in kit.profiles]
    missing = []
    hits = 0
    for wanted in row.get("profiles", ()):
        fitting = [one for one in got if one["hosts"] == wanted["hosts"]]
        wrong = {key: (value, fitting[0][key]) for key, value in wanted.items() if fitting and fitting[0][key] != value}
        if not fitting or wrong:
            missing.append(f"{wanted['hosts']}: {wrong or [one['hosts'] for one in got]}")
        hits += bool(fitting)
    if len(got) != len(row.get("profiles", ())):
        missing.append(f"{len(got)} profiles instead of {len(row.get('profiles', ()))}")
    secrets = sorted(secret_text(one.value) for one in kit.credentials)
    if secrets != sorted(row.get("secrets", ())):
        missing.append("the secrets are others")
    hits += bool(secrets)
    missing += [f"no {slug}" for slug in row.get("findings", ()) if slug not in {one.code.slug for one in kit.findings}]
    said = " ".join(
        [*(f"{one.subject} {one.detail}" for one in kit.findings), *(f"{one.path} {one.why}" for one in kit.items)]
    )
    said += " ".join(one.subject for one in kit.certificates)
    missing += [
        f"{words!r} is not told"
        for words in row.get("told", ())
        if not all(word.casefold() in said.casefold() for word in words.split())
    ]
    if row.get("error") and not kit.is_empty:
        missing.append("something was taken")
    nothing = not hits and (row.get("profiles") or row.get("secrets"))
    return (NOTHING if nothing else PART if missing else WHOLE), missing


@pytest.mark.parametrize("path", [path for path, row in KITS.items() if not row.get("aside")])
def test_a_kit_that_was_tuned_for(path):
    """Everything that was written into it is taken or told."""
    assert judged(KITS[path]) == (WHOLE, [])


def shares(aside):
    """How many kits were understood how far."""
    return Counter(judged(row)[0] for row in KITS.values() if bool(row.get("aside")) is aside)


def test_the_third_that_was_kept_aside():
    """Nine in ten of it, and half of the rest, are understood whole: it was never looked at while the code was made."""
    found = shares(aside=True)
    assert sum(found.values()) >= 43 and found[WHOLE] >= 0.95 * sum(found.values()), found


def test_the_corpus_is_large_enough():
    """Kits in all languages of the program, made by other programs, of every kind that the readers know."""
    assert len(KITS) >= 120 and {row["language"] for row in KITS.values()} == set(LANGUAGES)
    on_disk = {path.name for path in (HERE / "files").iterdir()}
    assert on_disk == {path.partition("/")[0] for path in KITS}


SHEETS = [
    *read_sheets(HERE / "sheets.txt", aside=False),
    *read_sheets(HERE / "aside.txt", aside=True),
]


def lost(sheet):
    """The values on a sheet that were neither taken nor reported, whatever else went wrong with it."""
    kit = read(next(row for path, row in KITS.items() if path.startswith(f"{sheet.name}.")))
    taken = " ".join([*(one.text for one in kit.profiles), *(secret_text(one.value) for one in kit.credentials)])
    said = " ".join(
        [*(one.detail for one in kit.findings), *(f"{one.path} {one.why}" for one in kit.items if not one.taken)]
    )
    prose = sum(one.code.slug == "sheet-prose" for one in kit.findings)
    missing = []
    for letter, label, value in sheet.lines:
        parts = [part for part in re.split(r"[,\s]+", value) if len(part) > 3 and not part.startswith("255.")]
        is_taken = letter in "!ASPDcWNt" or letter.startswith("c=") or all(part in taken for part in parts)
        if not (is_taken or label in said or value in said or prose or not kit.profiles):
            missing.append((letter, label))
    if not kit.profiles and not said:
        missing.append(("all of it", sheet.name))
    return missing


@pytest.mark.parametrize("sheet", SHEETS, ids=lambda one: one.name)
def test_nothing_is_lost_silently(sheet):
    """Every value is taken, or its line is reported, or named as prose; of the part that was kept aside as well."""
    assert lost(sheet) == []


if __name__ == "__main__":
    # Reports the shares: PYTHONPATH=tests python tests/kits/test_kits.py
    import sys

    if "-v" in sys.argv:
        for path, row in KITS.items():
            if not row.get("aside") and judged(row)[0] != WHOLE:
                print(path, *judged(row))
    for aside in (False, True):
        print("kept aside:" if aside else "tuned for:", dict(shares(aside)))
