"""The commands in the documents, run on the lab's workstation in a folder with what they speak of."""

from __future__ import annotations

import re
import shlex
import shutil
from pathlib import Path

import pytest

from support import PASSWORD
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
ROOT = Path(__file__).parents[2]
DEVICES = "name,kind,tags\nplover,phone,boats\nshearwater,box,\nfulmar,phone,\npetrel,laptop,boats\n"
TERMINAL = {
    "zesty demo", "keyring:", "zesty lab", "zesty observatory", "--export-keys", "links serve", "zesty receive",
    "zesty report", "enrol --", "devices accept", "hand-over --all ", "hand-over --tag",
    "add report", "show report", "remove report",
}  # fmt: skip
"""What these examples need is shown elsewhere: a terminal, a keyring, the lab's own commands, a server, other devices."""


def examples(page):
    """Every command line of the program in a page's shell blocks, without its comment."""
    text = (ROOT / page).read_text()
    yield from re.findall(r"^\$ (zesty .*)$", text, re.MULTILINE)
    for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL):
        for line in block.replace("\\\n", " ").splitlines():
            command = line.partition("  #")[0].strip()
            if command.startswith("zesty ") and not any(word in f"{command} " for word in TERMINAL):
                yield command


@pytest.fixture
def folder(lab, tmp_path):
    """The files that the examples name."""
    shutil.unpack_archive(lab.kit, tmp_path / "kit")
    for source, name in (
        (lab.kit, "quillwort-relay.zip"),
        (tmp_path / "kit" / "quillwort-authority.pem", "ca.pem"),
        (tmp_path / "kit" / "credentials.txt", "credentials.txt"),
        (tmp_path / "kit" / "credentials.txt", "curlew.txt"),
        (lab.folder / "portal-account.txt", "account.txt"),
    ):
        shutil.copy(source, tmp_path / name)
        (tmp_path / name).chmod(0o600)
    (tmp_path / "answers.toml").write_text('host = "nairobi.quillwort.example"\nname = "from-answers"\n')
    (tmp_path / "devices.csv").write_text(DEVICES)
    (tmp_path / "out").mkdir()
    (tmp_path / "petrel.key").write_text(lab.run("enrol", check=0).out)
    (tmp_path / "passphrase").write_text("stormy petrel over the skerries")
    (tmp_path / "passphrase").chmod(0o600)
    return tmp_path


@pytest.mark.parametrize(
    "page",
    [
        "README.md",
        "docs/gallery.md",
        "docs/kits.md",
        "docs/portal.md",
        "docs/commands.md",
        "docs/profile.md",
        "docs/devices.md",
    ],
)
def test_examples(lab, folder, page):
    """Each ends well, one after the other as the page has them."""
    lab.heron("disconnect")
    path = folder / "office.zip"
    lab.run("lab", "account", "heron-page", "--to", str(path), check=0)
    lab.heron("import", str(path), "--replace", check=0)
    lab.heron("import", str(lab.kit), "--replace", check=0)
    commands = list(examples(page))
    assert commands or page == "docs/commands.md"
    for command in commands:
        words = shlex.split(command)[1:]
        if "https://portal.quillwort.example/" in words:
            words += ["--authority", str(lab.folder / "portal-authority.pem")]
            words += [] if "--account" in words else ["--account", "account.txt"]
        if "--with-credentials" in words:
            words += ["--kit-passphrase-file", "passphrase"]
        if words[0] == "create" and "--name" not in words and "--answers" not in words:
            words += ["--name", "from-options"]
        account, password = (folder / "credentials.txt").read_text().splitlines()
        two_lines = f"{account}\n{password}\n"
        stdin = "razorbills dive at dusk\n" if "pre-shared-key" in words else two_lines
        ended = lab.heron(*words, stdin=stdin, folder=folder)
        # Not each device of the page's can have what a rule says.
        assert ended.code == 0 or (ended.code, words[0]) == (12, "hand-over"), (command, ended.out, ended.err)
        assert PASSWORD not in ended.out
        if words[:2] == ["credentials", "forget"]:
            lab.heron("import", str(lab.kit), "--replace", check=0)
        if words[0] == "connect" and "--ask" in words:
            lab.heron("disconnect")
        if words[0] == "create":
            lab.heron("remove", ended.json["profile"]["profile"]["name"], check=0)
    for words in (("--profile", "quillwort-lisbon", "--device", "curlew"), ("office",), (story.PROVIDER,)):
        lab.heron("credentials", "forget", *words)
    for row in lab.heron("devices", "list").json["devices"]:
        lab.heron("devices", "remove", row["name"], check=0)
    for row in lab.heron("devices", "rules").json["rules"]:
        lab.heron("devices", "unassign", str(row["number"]), check=0)
    lab.heron("remove", "--provider", "Tidewrack Survey", "--yes", check=0)
    lab.heron("import", str(lab.kit), "--replace", check=0)
