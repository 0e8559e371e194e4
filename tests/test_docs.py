"""The documents say what is so."""

from __future__ import annotations

import importlib.util
import json
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import jsonschema
import pytest

from zesty_burrow import errors
from zesty_burrow.commands import COMMANDS
from zesty_burrow.intake import limits
from zesty_burrow.intake.readers.vocabulary import Field, shipped
from zesty_burrow.lab import story
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.use_cases.codes import all_codes

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]


def page(name):
    return (ROOT / "docs" / name).read_text()


def test_the_page_of_findings_is_in_step():
    """docs/findings.md is what the program would write."""
    specification = importlib.util.spec_from_file_location("make_findings", ROOT / "docs" / "make_findings.py")
    module = importlib.util.module_from_spec(specification)
    specification.loader.exec_module(module)
    assert page("findings.md") == module.page()


def test_every_code_in_the_source_is_explained():
    """Whatever slug an error or a finding is given in the source, ``explain`` knows it."""
    used = set()
    for path in (ROOT / "src").rglob("*.py"):
        used |= set(re.findall(r'slug(?: ?=|: str =) ?"([a-z-]+)"', path.read_text()))
        used |= set(
            re.findall(
                r'(?:finding|refused|leave)\((?:member, kind, |member, Kind\.\w+, )?"([a-z-]+)"', path.read_text()
            )
        )
    assert len(used) > 40
    assert used <= set(all_codes())


def test_the_profile_in_the_documents():
    """The complete example is a profile, fits the schema, and shows every key that is written."""
    example = re.search(r"```toml\n(.*?)```", page("profile.md"), re.DOTALL).group(1)
    document = tomllib.loads(example)
    jsonschema.validate(document, json.loads(page("profile.schema.json")))
    profile = read_profile(example)
    assert profile.unknown == {}
    schema = json.loads(page("profile.schema.json"))
    for section, keys in document.items():
        if isinstance(keys, dict) and section != "algorithms":
            assert set(keys) == set(schema["properties"][section]["properties"])


def test_the_schema_is_in_step():
    """docs/profile.schema.json is put together from its parts."""
    specification = importlib.util.spec_from_file_location("make_schema", ROOT / "docs" / "make_schema.py")
    module = importlib.util.module_from_spec(specification)
    specification.loader.exec_module(module)
    assert page("profile.schema.json") == module.schema()


def test_pictures_of_the_states():
    """They are drawn from the tables as they are."""
    specification = importlib.util.spec_from_file_location("make_states", ROOT / "docs" / "make_states.py")
    module = importlib.util.module_from_spec(specification)
    specification.loader.exec_module(module)
    for name, text in module.pictures().items():
        assert (ROOT / "docs" / name).read_text() == text, f"run docs/make_states.py ({name})"


def test_commands_and_exit_codes():
    """Every command and every exit code stands in docs/commands.md; the gallery shows the work's own commands."""
    text = page("commands.md")
    for name in COMMANDS:
        assert f"`{name}" in text
    codes = {kind.exit_code for kind in vars(errors).values() if isinstance(kind, type) and hasattr(kind, "exit_code")}
    for code in codes | {10, 11, 130}:
        assert f"| {code} |" in text
    shown = set(re.findall(r"^zesty ([\w-]+)", page("gallery.md"), re.MULTILINE))
    assert shown <= set(COMMANDS)


def test_the_words_on_a_sheet():
    """Every form in docs/kits.md is one that is recognised, and each label in its table has the meaning it says."""
    rows = re.findall(r"^\| (host|name|suffix|identity) \| (.*) \|$", page("kits.md"), re.MULTILINE)
    assert len(rows) == 4
    for field, phrases in rows:
        assert {shipped().match(phrase).field for phrase in phrases.split(", ")} == {Field(field)}


def test_faults_and_hosts():
    """docs/lab.md names every fault and every host."""
    text = page("lab.md")
    for name in [*story.FAULTS, *story.hosts()]:
        assert f"`{name}`" in text


def test_limits():
    """docs/security.md names the limits that are in force."""
    text = page("security.md")
    assert f"{limits.MAX_KIT_FILE >> 20} MiB" in text
    assert f"{limits.MAX_MEMBERS:,}" in text
    assert f"each {limits.MAX_MEMBER >> 20} MiB" in text
    assert f"{limits.MAX_TOTAL >> 20} MiB and {limits.MAX_RATIO} times" in text


@pytest.mark.parametrize("path", PAGES, ids=lambda path: path.name)
def test_links_lead_somewhere(path):
    """Every relative link and picture exists."""
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text()):
        assert "://" in target or (path.parent / target).exists(), target


def test_pictures():
    """Fewer than twenty pictures, each in the gallery, to which the README leads."""
    pictures = sorted(entry.name for entry in (ROOT / "docs" / "screenshots").iterdir())
    assert 0 < len(pictures) < 20
    assert sorted(re.findall(r"screenshots/([\w-]+\.png)", page("gallery.md"))) == pictures
    assert "(docs/gallery.md)" in (ROOT / "README.md").read_text()


def test_the_observatory_s_unit(tmp_path):
    """systemd, where it is installed, understands every line; the program understands the command line."""
    unit = re.search(r"```ini\n(.*?)```", page("observatory.md"), re.DOTALL).group(1)
    program = str(Path(sys.executable).with_name("zesty"))
    path = tmp_path / "observatory.service"
    path.write_text(unit.replace("/usr/local/bin/zesty", program))
    if shutil.which("systemd-analyze"):
        checked = subprocess.run(["systemd-analyze", "verify", path], capture_output=True, text=True)
        assert (checked.returncode, checked.stdout + checked.stderr) == (0, "")
    command = re.search(r"ExecStart=(.*?[^\\])\n", path.read_text(), re.DOTALL).group(1).replace("\\\n", "")
    assert "/etc/observatory/geofeed.csv" in command
    words = command.replace("/etc/observatory", str(tmp_path)).replace("/var/log/observatory", str(tmp_path)).split()
    ended = subprocess.run([*words, "--json"], capture_output=True, text=True, timeout=60)
    error = json.loads(ended.stdout)
    assert error["code"] == "not-found" and str(tmp_path / "geofeed.csv") in error["what"]
