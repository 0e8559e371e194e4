"""The two archives that are handed out: each is built, installed into an empty environment, and runs the demo there."""

import subprocess
import sys
import tarfile
import tempfile
import venv
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCES = "src/zesty_burrow"

pytestmark = pytest.mark.soak


def run(*command, within=600, **options) -> subprocess.CompletedProcess:
    ended = subprocess.run(
        [str(part) for part in command], capture_output=True, text=True, timeout=within, check=False, **options
    )
    assert ended.returncode == 0, ended.stdout[-2000:] + ended.stderr[-2000:]
    return ended


def tracked() -> list[str]:
    """The files that belong to the project, relative to its root."""
    return run("git", "ls-files", cwd=ROOT).stdout.split("\n")[:-1]


@pytest.fixture(scope="module")
def archives():
    """The wheel and the sdist, built from a copy of the files that belong to the project."""
    if not (ROOT / ".git").exists():
        pytest.skip("only a checkout knows which files belong to the project")
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder, "project")
        for name in tracked():
            target = copy / name
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes((ROOT / name).read_bytes())
        if subprocess.run(
            [sys.executable, "-m", "build", "-o", folder, copy], capture_output=True, check=False
        ).returncode:
            pytest.skip("no package index can be reached: the build needs setuptools from one")
        yield {kind: next(Path(folder).glob(pattern)) for kind, pattern in (("wheel", "*.whl"), ("sdist", "*.tar.gz"))}


def test_the_wheel_has_each_file_of_the_package(archives):
    """No data file, schema, page or word list is left out, and nothing comes along."""
    packed = {name for name in zipfile.ZipFile(archives["wheel"]).namelist() if ".dist-info/" not in name}
    assert packed == {name.removeprefix("src/") for name in tracked() if name.startswith(SOURCES)}


def test_the_sdist_has_each_file_that_the_wheel_needs(archives):
    with tarfile.open(archives["sdist"]) as packed:
        names = {name.partition("/")[2] for name in packed.getnames()}
    assert {name for name in tracked() if name.startswith(SOURCES)} <= names
    assert {"pyproject.toml", "README.md", "LICENSE"} <= names


@pytest.mark.parametrize("kind", ["wheel", "sdist"])
def test_it_is_installed_into_an_empty_environment_and_runs_the_demo(archives, kind, tmp_path):
    """The demo takes what it needs from what was installed: it runs in an empty folder, without the sources."""
    environment = tmp_path / "environment"
    venv.create(environment, with_pip=True)
    run(environment / "bin/python", "-m", "pip", "install", "-q", f"{archives[kind]}[all]", cwd=tmp_path)
    home = tmp_path / "home"
    home.mkdir(mode=0o700)
    variables = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "HOME": str(home), "COLUMNS": "120"}
    demo = run(environment / "bin/zesty", "demo", cwd=home, env=variables)
    assert "SEALED" in demo.stdout and "LEAKING" in demo.stdout
    assert "The demo took" in demo.stderr
