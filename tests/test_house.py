"""The house's rules, held by reading the code."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "zesty_burrow"
FLOORS = [
    "cli", "commands", "report", "lab", "carrier", "observe", "gather", "host", "store", "intake", "profiles", "protocols",
    "core", "errors",
]  # fmt: skip
FORBIDDEN_IN_CORE = {"socket", "os", "time", "random", "secrets", "pathlib", "subprocess", "asyncio", "sys", "io"}


def modules():
    return [path for path in SOURCE.rglob("*.py") if path.name not in ("__init__.py", "__main__.py")]


def imports_of(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def floor_of(module):
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and parts[1] in FLOORS else None


def test_imports_go_downward_only():
    """No room imports from a room above it."""
    wrong = []
    for path in modules():
        own = path.relative_to(SOURCE).parts[0].removesuffix(".py")
        for module in imports_of(path):
            other = floor_of(module) if module.startswith("zesty_burrow") else None
            if other and FLOORS.index(other) < FLOORS.index(own):
                wrong.append(f"{path.relative_to(SOURCE)} imports {module}")
    assert wrong == []


def test_the_core_has_no_machine_in_it():
    """Core and intake import nothing that does I/O, tells the time or rolls dice (io.BytesIO aside)."""
    wrong = []
    for room in ("core", "intake"):
        for path in (SOURCE / room).rglob("*.py"):
            bad = {module.split(".")[0] for module in imports_of(path)} & FORBIDDEN_IN_CORE
            wrong += [f"{path.relative_to(SOURCE)}: {name}" for name in bad - {"io"}]
    assert wrong == []


@pytest.mark.parametrize("path", modules(), ids=lambda path: str(path.relative_to(SOURCE)))
def test_files_and_functions_stay_small(path):
    """A file has fewer than 560 lines, a function fewer than 60."""
    text = path.read_text()
    assert len(text.splitlines()) < 560
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            assert (node.end_lineno or 0) - node.lineno < 60, node.name


def test_help_loads_no_heavy_library():
    """``zesty --help`` loads neither the database's library nor cryptography nor netlink."""
    code = (
        "import sys\ntry:\n import zesty_burrow.cli; zesty_burrow.cli.main(['--help'])\nexcept SystemExit: pass\n"
        "bad = {'sqlalchemy', 'cryptography', 'pyroute2', 'rich', 'asyncio', 'dns'} & set(sys.modules)\n"
        "sys.exit(repr(bad) if bad else 0)"
    )
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr


def test_status_loads_no_heavy_library(tmp_path):
    """``zesty status``, which scripts call often, loads neither the database's library nor the protocol's machines."""
    code = (
        "import sys, zesty_burrow.cli\nzesty_burrow.cli.main(['status'])\n"
        "heavy = {'sqlalchemy', 'cryptography', 'pyroute2', 'OpenSSL', 'zesty_burrow.core.policy.policy'}\n"
        "bad = heavy & set(sys.modules)\nsys.exit(repr(bad) if bad else 0)"
    )
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(tmp_path)}
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment)
    assert ended.returncode == 0, ended.stderr
