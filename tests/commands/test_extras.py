"""Without an extra of the installation the work that needs it ends with one error that names the extra, and changes nothing."""

from __future__ import annotations

import os
import tomllib
import zipfile
from pathlib import Path

import pytest

from zesty_burrow.extras import EXTRAS

PYPROJECT = tomllib.loads((Path(__file__).parents[2] / "pyproject.toml").read_text())
HIDE = """
import os, sys

class Hidden:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in os.environ["HIDDEN"].split(","):
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)

sys.meta_path.insert(0, Hidden())
"""


@pytest.fixture
def without(zesty, tmp_path, kit):
    """The installed program as it is without an extra: its modules cannot be found."""
    zesty("import", kit)
    (tmp_path / "hidden").mkdir()
    (tmp_path / "hidden" / "sitecustomize.py").write_text(HIDE)

    def prepare(extra):
        path = os.pathsep.join((str(tmp_path / "hidden"), os.environ.get("PYTHONPATH", "")))
        zesty.extra = {"PYTHONPATH": path, "HIDDEN": ",".join(EXTRAS[extra][1])}
        return zesty

    return prepare


def picture(tmp_path):
    path = tmp_path / "code.png"
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(64))
    return path


HEADS = {"pdf": b"%PDF-1.7\n", "rtf": b"{\\rtf1 x}"}
TYPES = {"[Content_Types].xml": "<Types/>"}
PARTS = {
    "docx": {**TYPES, "word/document.xml": "<x/>"},
    "xlsx": {**TYPES, "xl/workbook.xml": "<x/>"},
    "odt": {"mimetype": "application/vnd.oasis.opendocument.text", "content.xml": "<x/>"},
}


def over_udp(zesty):
    """A profile that may use HTTP/3."""
    servers = ("--name-servers", "198.51.100.242")
    assert zesty("choose", "lisbon", "--protocol", "connect-ip", "--transport", "udp", *servers).code == 0
    return "connect", "lisbon", "--detach"


def shared(zesty):
    """A store on PostgreSQL."""
    zesty.home.mkdir(exist_ok=True)
    (zesty.home / "settings.toml").write_text('store = "postgresql://localhost/nowhere"\n')
    return ("list",)


def to_a_phone(*words):
    def prepare(zesty):
        reach = ("--reach", "ssh://crew@127.0.0.1:1") if "--card" not in words else ()
        zesty("devices", "add", "plover", "--kind", "laptop" if reach else "phone", *reach)
        zesty("devices", "assign", "quillwort-tallinn", "--device", "plover")
        return ("hand-over", "plover", *words)

    return prepare


CASES = {
    "codes": lambda zesty: ("export", "lisbon", "--show-code"),
    "http3": over_udp,
    "keyring": lambda zesty: ("seal", "--method", "keyring"),
    "postgresql": shared,
    "cards": to_a_phone("--card", "cards.pdf"),
    "ssh": to_a_phone(),
    "server": lambda zesty: ("lab", "start"),
}


@pytest.mark.parametrize("extra", CASES)
def test_one_error(without, extra, tmp_path):
    """It names the extra and the command that installs it; the store and the folder stay as they are."""
    zesty = without(extra)
    words = CASES[extra](zesty)
    before = (zesty.home / "store.db").read_bytes()
    ended = zesty.built("--json", *words)
    assert (ended.code, ended.json["code"]) == (5, "extra-missing"), ended
    assert f"[{extra}]" in ended.json["why"] and f"pip install 'zesty-burrow[{extra}]'" in ended.json["next_step"]
    assert (zesty.home / "store.db").read_bytes() == before
    assert not (zesty.home / "guard.json").exists() and not list(tmp_path.glob("cards.*"))


@pytest.mark.parametrize("ending", ["docx", "odt", "xlsx", "pdf", "rtf"])
def test_a_document(without, ending, tmp_path):
    """Of each kind."""
    path = tmp_path / f"sheet.{ending}"
    if ending in HEADS:
        path.write_bytes(HEADS[ending])
    else:
        with zipfile.ZipFile(path, "w") as packed:
            for name, text in PARTS[ending].items():
                packed.writestr(name, text)
    ended = without("documents").built("--json", "inspect", path)
    assert (ended.code, ended.json["code"]) == (5, "extra-missing"), ended


def test_a_picture_in_a_kit(without, tmp_path):
    ended = without("codes").built("--json", "inspect", picture(tmp_path))
    assert (ended.code, ended.json["code"]) == (5, "extra-missing"), ended


def test_the_names_are_those_of_the_package():
    """The program's table and the package's extras say the same; [all] has every one of them."""
    extras = PYPROJECT["project"]["optional-dependencies"]
    assert set(extras) - {"all", "test"} == set(EXTRAS)
    (everything,) = extras["all"]
    assert set(everything.partition("[")[2].strip("]").split(",")) == set(EXTRAS)
    assert len(PYPROJECT["project"]["dependencies"]) <= 15
