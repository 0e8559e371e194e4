"""The house's rules, held by reading the code."""

from __future__ import annotations

import ast
import os
import re
import subprocess
import sys
import tomllib
from collections import Counter
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "zesty_burrow"
FLOORS = [
    "entry", "cli", "commands", "report", "lab", "use_cases", "fleet", "carrier", "observe", "gather", "host", "store", "intake", "profiles", "protocols",
    "core", "extras", "errors",
]  # fmt: skip
FORBIDDEN_IN_CORE = {"socket", "os", "time", "random", "secrets", "pathlib", "subprocess", "asyncio", "sys", "io"}


ARGPARSE = {"cli", "commands"}


@cache
def files():
    """Every module of the program."""
    return tuple(sorted(SOURCE.rglob("*.py")))


@cache
def tree_of(path):
    """Parsed once."""
    return ast.parse(path.read_text())


@cache
def nodes_of(path):
    """All nodes of a file's tree, walked once."""
    return tuple(ast.walk(tree_of(path)))


@pytest.fixture(scope="module", autouse=True)
def _forget():
    """The trees go with the last test of this file."""
    yield
    nodes_of.cache_clear()
    tree_of.cache_clear()


def modules():
    return [path for path in files() if path.name not in ("__init__.py", "__main__.py")]


def imports_of(path):
    for node in nodes_of(path):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def strings_of(path):
    """String constants that are no docstrings, with their lines."""
    documents = set()
    for node in nodes_of(path):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            documents.add(id(node.value))
    for node in nodes_of(path):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in documents:
            yield node.lineno, node.value


def room_of(path):
    return path.relative_to(SOURCE).parts[0].removesuffix(".py")


def floor_of(module):
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and parts[1] in FLOORS else None


def test_imports_go_downward_only():
    """No room imports from a room above it."""
    wrong = []
    for path in modules():
        own = room_of(path)
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
    return [node for node in nodes_of(path) if isinstance(node, ast.ClassDef)]


@pytest.mark.parametrize("room", ["core", "protocols", "profiles", "intake"])
def test_the_core_has_no_machine_in_it(room):
    """Core, protocols, profiles and intake do no I/O, tell no time and roll no dice (io.BytesIO aside)."""
    wrong = []
    for path in (SOURCE / room).rglob("*.py"):
        bad = {module.split(".")[0] for module in imports_of(path)} & FORBIDDEN_IN_CORE
        wrong += [f"{relative(path)}: {name}" for name in bad - {"io"}]
    assert wrong == []


CLOCKS = {"now", "utcnow", "today", "monotonic", "perf_counter", "time"}


@pytest.mark.parametrize("room", ["core", "protocols", "profiles", "intake"])
def test_the_core_tells_no_time(room):
    """Time is an argument: nobody there asks a clock, by whatever name it is called."""
    wrong = []
    for path in modules():
        if room_of(path) != room:
            continue
        for node in nodes_of(path):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in CLOCKS:
                owner = ast.unparse(node.func.value)
                is_type = node.func.attr == "time" and owner == "datetime"
                if owner.split(".")[-1] in ("datetime", "date", "time") and not is_type:
                    wrong.append(f"{relative(path)}:{node.lineno}: {owner}.{node.func.attr}")
    assert wrong == []


PROTOCOLS = ("ikev2", "connect_ip", "l2tp_ipsec", "pptp")
SPELLED = re.compile(r"\b(ikev2|connect[-_]ip|l2tp([-_/]ipsec)?|pptp)\b", re.IGNORECASE)
DEFAULT_OF_THE_FORMAT = ("core/__init__.py", "ikev2")


def test_protocol_folders_are_closed():
    """Outside protocols and the lab nobody imports a protocol, tests for its class, or spells its name in a string."""
    wrong = []
    for path in modules():
        if room_of(path) in ("protocols", "lab"):
            continue
        wrong += [
            f"{relative(path)} imports {module}"
            for module in imports_of(path)
            if module.startswith(tuple(f"zesty_burrow.protocols.{name}" for name in PROTOCOLS))
        ]
        wrong += [
            f"{relative(path)}:{line}: {text!r:.60}"
            for line, text in strings_of(path)
            if SPELLED.search(text) and (relative(path), text) != DEFAULT_OF_THE_FORMAT
        ]
    assert wrong == []


def test_protocols_do_not_know_each_other():
    """A protocol's folder imports no other protocol's, but for what L2TP, PPTP and IKE share by their standards."""
    shared = {("l2tp_ipsec", "ikev2")}
    wrong = []
    for path in modules():
        parts = path.relative_to(SOURCE).parts
        if parts[0] != "protocols" or parts[1] not in PROTOCOLS:
            continue
        for module in imports_of(path):
            other = module.split(".")[2] if module.startswith("zesty_burrow.protocols.") else ""
            if other in PROTOCOLS and other != parts[1] and (parts[1], other) not in shared:
                wrong.append(f"{relative(path)} imports {module}")
    assert wrong == []


def test_options_stay_in_commands():
    """Below the commands nothing is parsed from options, printed, or read from the environment."""
    wrong = []
    for path in modules():
        if room_of(path) in ARGPARSE or relative(path) == "lab/devices/thin.py":  # a program of its own
            continue
        wrong += [f"{relative(path)} imports {module}" for module in imports_of(path) if module == "argparse"]
        if room_of(path) != "use_cases":
            continue
        for node in nodes_of(path):
            if isinstance(node, ast.Call) and ast.unparse(node.func) in ("print", "input", "os.getenv", "getpass"):
                wrong.append(f"{relative(path)}:{node.lineno}: {ast.unparse(node.func)}")
            if isinstance(node, ast.Attribute) and ast.unparse(node) == "os.environ":
                wrong.append(f"{relative(path)}:{node.lineno}: os.environ")
    assert wrong == []


def test_no_import_circles():
    """No module needs itself through others: inside functions, for annotations, and by a name in a string included."""
    known = {module_name(path): path for path in files()}
    graph = {}
    for name, path in known.items():
        needed = {text for _, text in strings_of(path) if text in known}
        for node in nodes_of(path):
            if isinstance(node, ast.ImportFrom) and node.module in known:
                full = {f"{node.module}.{alias.name}" for alias in node.names}
                needed |= (full & known.keys()) or {node.module}
        graph[name] = needed - {name}
    for name in ("zesty_burrow.cli", "zesty_burrow.commands"):
        # Completion describes the parser that calls it.
        graph[name] -= {"zesty_burrow.commands.completion"}
    order = TopologicalSorter(graph)
    order.prepare()  # raises CycleError


def test_files_and_functions_stay_small():
    """A file has at most 500 lines, a function at most 52."""
    wrong = []
    for path in modules():
        if len(path.read_text().splitlines()) > 500:
            wrong.append(f"{relative(path)} has more than 500 lines")
        for node in nodes_of(path):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and (node.end_lineno or 0) - node.lineno >= 52:
                wrong.append(f"{relative(path)}: {node.name}")
    assert wrong == []


BRANCHES = (
    ast.If, ast.For, ast.While, ast.AsyncFor, ast.IfExp, ast.ExceptHandler, ast.Assert, ast.match_case,
)  # fmt: skip
MOST_BRANCHES, MOST_IN_LOOPS, MOST_ATTRIBUTES = 20, 24, 20


def complexity_of(function):
    """Ways through a function: branches, loops, operands of and/or, and those within comprehensions."""
    count = 1
    for node in ast.walk(function):
        if isinstance(node, BRANCHES):
            count += 1
        elif isinstance(node, ast.comprehension):
            count += 1 + len(node.ifs)
        elif isinstance(node, ast.BoolOp):
            count += len(node.values) - 1
    return count


def test_functions_have_few_ways_through_them():
    """At most 20; compiled loops, where a call costs a packet's time, 24."""
    wrong = []
    for path in modules():
        most = MOST_IN_LOOPS if "loops" in path.parts else MOST_BRANCHES
        for node in nodes_of(path):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and (count := complexity_of(node)) > most:
                wrong.append(f"{relative(path)}: {node.name} has {count}")
    assert wrong == []


def test_classes_have_few_attributes():
    """What changes has few parts: at most 20 attributes, but for frozen values and the lab's stand-in of a gateway."""
    wrong = []
    for path in modules():
        if "lab" in path.relative_to(SOURCE).parts:
            continue
        for one in classes_of(path):
            if any("frozen=True" in ast.unparse(decorator) for decorator in one.decorator_list):
                continue
            stored = {
                node.attr
                for node in ast.walk(one)
                if isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store)
                and isinstance(node.value, ast.Name) and node.value.id == "self"
            }  # fmt: skip
            stored |= {
                node.target.id
                for node in one.body
                if isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name)
            }
            if len(stored) > MOST_ATTRIBUTES:
                wrong.append(f"{relative(path)}: {one.name} has {len(stored)}")
    assert wrong == []


def test_sessions_follow_tables():
    """Each protocol's session has its states in a table, and keeps none as a flag beside it."""
    without = []
    for folder in sorted((SOURCE / "protocols").iterdir()):
        if (folder / "protocol.py").exists() and not list(folder.rglob("table.py")):
            without.append(folder.name)
    assert without == []
    flags = []
    for path in (SOURCE / "protocols").rglob("session.py"):
        for node in nodes_of(path):
            if isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store) and node.attr.lstrip("_") in (
                "is_up", "is_over", "is_ended", "state",
            ):  # fmt: skip
                flags.append(f"{relative(path)}: {node.attr}")
    assert flags == []


def test_folders_stay_small():
    """A folder holds at most a dozen modules."""
    folders = Counter(path.parent for path in modules())
    assert {str(folder.relative_to(SOURCE)): count for folder, count in folders.items() if count > 12} == {}


CALLED_FROM_OUTSIDE = {"Supervisor", "Listener", "Attempt", "Stage"}
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
        "heavy = {'asyncio', 'cryptography', 'pyroute2', 'OpenSSL', 'tempfile', 'zesty_burrow.protocols.registry', "
        "'zesty_burrow.core.policy.policy'}\n"
        "bad = heavy & set(sys.modules)\nsys.exit(repr(bad) if bad else 0)"
    )
    code = code.replace("COMMAND", command)
    environment = {**os.environ, "ZESTY_BURROW_HOME": str(tmp_path)}
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=environment)
    assert ended.returncode == 0, ended.stderr


@pytest.mark.parametrize("guide", ["CONTRIBUTING.md", "docs/architecture.md"])
def test_guides_name_what_exists(guide):
    """Every path and room in the guides exists, in the checkout or in a room; CONTRIBUTING has every room."""
    text = (ROOT / guide).read_text()
    named = {name.strip("/") for name in re.findall(r"`([\w.-]+(?:/[\w.-]+)*(?:/|\.py|\.md|\.toml|\.json))`", text)}
    named |= set(re.findall(r"`([\w.-]+/[\w./-]+)`", text))
    tails = {"/" + str(place.relative_to(SOURCE)) for place in SOURCE.rglob("*")}
    missing = {
        name
        for name in named
        if not (ROOT / name).exists() and not any(tail.endswith("/" + name.strip("/")) for tail in tails)
    }
    assert len(named) > 20 and missing == set()
    if guide == "CONTRIBUTING.md":
        rooms = {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name != "__pycache__"}
        assert {name for name in rooms if f"`{name}/`" not in text} == set()
        assert set(FLOORS) - rooms == {"entry", "cli", "extras", "errors"}


def test_every_library_is_justified():
    """The table of libraries has each that the package may install, for the extras that have it."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    wanted = {}
    for extra, lines in {"base": project["dependencies"], **project["optional-dependencies"]}.items():
        for line in lines if extra not in ("all", "test") else ():
            wanted.setdefault(re.match(r"[\w-]+", line)[0], set()).add(extra)
    rows = re.findall(r"^\| ([\w-]+) \| ([\w, ]+) \|", (ROOT / "CONTRIBUTING.md").read_text(), re.MULTILINE)
    table = {name: set(extras.split(", ")) for name, extras in rows if name in wanted}
    assert table == wanted
