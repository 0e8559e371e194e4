"""The house's rules, held by reading the code."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from collections import Counter
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "zesty_burrow"
FLOORS = [
    "cli", "commands", "report", "lab", "fleet", "carrier", "observe", "gather", "host", "store", "intake", "profiles", "protocols",
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


def relative(path):
    return str(path.relative_to(SOURCE))


def module_name(path):
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


def classes_of(path):
    return [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.ClassDef)]


@pytest.mark.parametrize("room", ["core", "protocols", "profiles", "intake"])
def test_the_core_has_no_machine_in_it(room):
    """Core, protocols, profiles and intake do no I/O, tell no time and roll no dice (io.BytesIO aside)."""
    wrong = []
    for path in (SOURCE / room).rglob("*.py"):
        bad = {module.split(".")[0] for module in imports_of(path)} & FORBIDDEN_IN_CORE
        wrong += [f"{relative(path)}: {name}" for name in bad - {"io"}]
    assert wrong == []


PROTOCOLS = ("ikev2", "connect_ip", "l2tp_ipsec", "pptp")
SETTINGS = {"settings", "choice"}
MAY_IMPORT = {
    "profiles/advising/advice.py": {"settings", "probe"},
    "profiles/advising/clients.py": {"settings"},
    "lab/kit.py": SETTINGS,
    "lab/devices/phone/settings_form.py": {"settings"},
    "intake/dialogue.py": {*SETTINGS, "wire.template"},
    "intake/readers/instance_data.py": SETTINGS,
    "intake/readers/sheet.py": SETTINGS,
    "commands/profiles/advise.py": SETTINGS,
    "commands/profiles/choose.py": SETTINGS,
    "commands/profiles/choose_protocol.py": SETTINGS,
}
"""Who may know of one protocol, and what of it. The lab's gateways speak them all; the rest writes their settings."""


def test_protocol_folders_are_closed():
    """Outside its folder a protocol is reached through the registry; what may name its settings is listed above."""
    wrong = []
    for path in modules():
        for name in PROTOCOLS:
            if path.is_relative_to(SOURCE / "protocols" / name) or path.is_relative_to(SOURCE / "lab" / "gateways"):
                continue
            package = f"zesty_burrow.protocols.{name}"
            used = {module.removeprefix(f"{package}.") for module in imports_of(path) if module.startswith(package)}
            allowed = {package, *MAY_IMPORT.get(relative(path), set())}
            wrong += [f"{relative(path)} imports {name}.{module}" for module in used - allowed]
    assert wrong == []
    carrier = [module for path in (SOURCE / "carrier").rglob("*.py") for module in imports_of(path)]
    assert "zesty_burrow.protocols.registry" in carrier


def test_no_import_circles():
    """No module needs itself through others, inside functions and for annotations included."""
    known = {module_name(path): path for path in SOURCE.rglob("*.py")}
    graph = {}
    for name, path in known.items():
        found = set()
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and node.module in known:
                full = {f"{node.module}.{alias.name}" for alias in node.names}
                found |= (full & known.keys()) or {node.module}
        graph[name] = found - {name}
    for name in ("zesty_burrow.cli", "zesty_burrow.commands"):
        # Completion describes the parser that calls it.
        graph[name] -= {"zesty_burrow.commands.completion"}
    order = TopologicalSorter(graph)
    order.prepare()  # raises CycleError


@pytest.mark.parametrize("path", modules(), ids=relative)
def test_files_and_functions_stay_small(path):
    """A file has at most 500 lines, a function at most 52."""
    text = path.read_text()
    assert len(text.splitlines()) <= 500
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            assert (node.end_lineno or 0) - node.lineno < 52, node.name


def test_folders_stay_small():
    """A folder holds at most a dozen modules."""
    folders = Counter(path.parent for path in modules())
    assert {str(folder.relative_to(SOURCE)): count for folder, count in folders.items() if count > 12} == {}


CALLED_FROM_OUTSIDE = {"Supervisor", "Attempt", "Stage"}
"""What commands start, and what tells them of its steps."""


def test_the_carrier_calls_nobody_above():
    """What lies below the supervisor is polled: no constructor and no field takes a callable, but those that commands start."""
    wrong = []
    for path in (SOURCE / "carrier").rglob("*.py"):
        for one in classes_of(path):
            if one.name in CALLED_FROM_OUTSIDE or one.name == "FastPathSwitch":
                continue
            taken = [ast.unparse(field.annotation) for field in one.body if isinstance(field, ast.AnnAssign)]
            for function in one.body:
                if isinstance(function, ast.FunctionDef) and function.name == "__init__":
                    arguments = [*function.args.args, *function.args.kwonlyargs]
                    taken += [ast.unparse(argument.annotation) for argument in arguments if argument.annotation]
            wrong += [f"{relative(path)}: {one.name} takes {kind}" for kind in taken if "Callable" in kind]
    assert wrong == []


def test_inheritance_stays_shallow():
    """No class of ours stands on more than two others of ours; errors and algorithms' families aside, on one."""
    bases = {}
    for path in modules():
        typed = "typing" in imports_of(path)
        for one in classes_of(path):
            named = {ast.unparse(base).partition("[")[0].rpartition(".")[2] for base in one.bases}
            named -= {"Protocol"} if typed else set()  # typing's own, not the class of ours with that name
            bases.setdefault(one.name, set()).update(named)

    def depth(name, seen=()):
        return 1 + max(
            (depth(base, (*seen, name)) for base in bases[name] if base in bases and base not in seen), default=0
        )

    depths = {name: depth(name) for name in bases}
    assert {name: number for name, number in depths.items() if number > 4} == {}
    protocols = {one.name for path in (SOURCE / "protocols").rglob("*.py") for one in classes_of(path)}
    assert {name: depths[name] for name in protocols if depths[name] > 2} == {}


PUBLIC_BY_THEIR_LIBRARIES = {"_replace", "_exit", "_value2member_map_"} | {
    # What aioquic has for tests alone: a server that asks for the client's certificate, and what it was shown.
    "_request_client_certificate", "_peer_certificate",
}  # fmt: skip


def test_tests_reach_nothing_private():
    """No test reads or replaces what belongs to somebody else by a name that begins with an underscore."""
    wrong = []
    for path in (ROOT / "tests").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            name = ""
            if isinstance(node, ast.Attribute) and ast.unparse(node.value) not in ("self", "cls"):
                name = node.attr
            elif isinstance(node, ast.Call) and ast.unparse(node.func).endswith("setattr") and len(node.args) > 1:
                name = ast.unparse(node.args[1]).strip("'")
            if name.startswith("_") and not name.startswith("__") and name not in PUBLIC_BY_THEIR_LIBRARIES:
                wrong.append(f"{path.relative_to(ROOT)}:{node.lineno}: {name}")
    assert wrong == []


def test_help_loads_no_heavy_library():
    """``zesty --help`` loads no library that takes time."""
    code = (
        "import sys\ntry:\n import zesty_burrow.cli; zesty_burrow.cli.main(['--help'])\nexcept SystemExit: pass\n"
        "bad = {'sqlite3', 'cryptography', 'pyroute2', 'dataclasses', 'pathlib', 'asyncio', 'dns'} & set(sys.modules)\n"
        "sys.exit(repr(bad) if bad else 0)"
    )
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr


@pytest.mark.parametrize("command", ["status", "list"])
def test_frequent_commands_load_no_heavy_library(tmp_path, command):
    """``zesty status`` and ``list``, which scripts call often, load neither cryptography nor the protocol's machines."""
    code = (
        "import sys, zesty_burrow.cli\nzesty_burrow.cli.main(['COMMAND'])\n"
        "heavy = {'asyncio', 'cryptography', 'pyroute2', 'OpenSSL', 'zesty_burrow.core.policy.policy'}\n"
        "bad = heavy & set(sys.modules)\nsys.exit(repr(bad) if bad else 0)"
    )
    code = code.replace("COMMAND", command)
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(tmp_path)}
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment)
    assert ended.returncode == 0, ended.stderr
