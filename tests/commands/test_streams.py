"""Where words come from and where output goes: one document for every call, and no trace whatever the stream is like."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from commands.conftest import PROGRAM
from zesty_burrow.commands import COMMANDS

CALLS = {
    "no such command": ["nonsense"],
    "an unknown option": ["list", "--bad"],
    "an option without its value": ["list", "--place"],
    "a missing action": ["credentials"],
    "an unknown action": ["lab", "dance"],
    "a missing word": ["show"],
    "behind an action": ["credentials", "list", "--bad"],
    "a number that is none": ["connect", "lisbon", "--timeout", "soon"],
}


@pytest.mark.parametrize("words", CALLS.values(), ids=list(CALLS))
@pytest.mark.parametrize("place", ["in front", "behind"])
def test_wrong_words_as_a_document(zesty, words, place):
    """A usage error is one JSON document with code and next step, wherever --json stands; exit code 2."""
    ended = zesty(*(["--json", *words] if place == "in front" else [*words, "--json"]))
    assert ended.code == 2
    document = json.loads(ended.out)
    assert (document["code"], document["exit_code"]) == ("usage", 2)
    assert "zesty " in document["next_step"] and document["what"]


@pytest.mark.parametrize("name", [name for name in COMMANDS if name not in ("demo", "completion", "observatory")])
def test_one_document_from_every_command(zesty, name):
    """Whatever a command comes to, --json behind its words gives one document and nothing else on standard output."""
    words = {"credentials": ["list"], "lab": ["status"], "explain": ["dns-leak"], "show": ["x"], "rename": ["x", "y"],
             "tag": ["x", "--add", "y"], "remove": ["x"], "connect": ["x"], "export": ["x", "--to", "y.zip"], "choose": ["x"],
             "inspect": ["/nowhere"], "import": ["/nowhere"], "portal": ["http://127.0.0.1:1/"], "advise": ["x"],
             "rehearse": ["--no-exit"]}.get(name, [])  # fmt: skip
    ended = zesty(name, *words, "--json")
    assert isinstance(json.loads(ended.out), dict)


def run(zesty, words, **more):
    ended = subprocess.run([PROGRAM, *words], env={**zesty.environment, **more.pop("env", {})}, timeout=60, **more)
    for stream in (ended.stdout, ended.stderr):
        assert b"Traceback" not in (stream or b"") and b"Exception ignored" not in (stream or b"")
    return ended


@pytest.mark.parametrize("words", [["list"], ["list", "--json"], ["--help"], ["--version"], ["explain"], ["show", "x"]])
def test_a_full_output(zesty, kit, words):
    """/dev/full: said on standard error, exit code 5; the error of a command that fails anyway keeps its own."""
    zesty("import", kit)
    with open("/dev/full", "w") as full:
        ended = run(zesty, words, stdout=full, stderr=subprocess.PIPE)
        assert ended.returncode == (4 if words[0] == "show" else 5)
        if words[0] != "show":
            assert b"No space left on device" in ended.stderr
        assert run(zesty, words, stdout=subprocess.PIPE, stderr=full).returncode == (4 if words[0] == "show" else 0)
        assert run(zesty, words, stdout=full, stderr=full).returncode in (4, 5)


@pytest.mark.parametrize("words", [["explain"], ["explain", "--json"], ["--help"], ["show", "x"]])
def test_a_reader_that_goes_away(zesty, words):
    """A closed pipe is no error of ours; nor are streams that were never there."""
    reading, writing = os.pipe()
    os.close(reading)
    ended = run(zesty, words, stdout=writing, stderr=subprocess.PIPE)
    os.close(writing)
    assert ended.returncode in (0, 4)
    line = f"exec '{PROGRAM}' {' '.join(words)} >&- 2>&- <&-"
    closed = subprocess.run(["sh", "-c", line], env=zesty.environment, timeout=60)
    assert closed.returncode in (0, 4)


@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "utf-8"])
def test_letters_that_a_terminal_does_not_know(zesty, kit, encoding):
    """They are replaced, in results and in errors; words that are no text in any encoding too."""
    zesty("import", kit)
    zesty("tag", "quillwort-lisbon", "--add", "sea")
    for words in (["list"], ["show", "quillwort-lisbon"], ["show", "Tromsø"], ["show", b"\xff\xfe"], ["--help"]):
        ended = run(zesty, words, capture_output=True, env={"PYTHONIOENCODING": encoding, "LC_ALL": "C"})
        assert ended.returncode in (0, 3, 4), ended.stderr


def test_an_answer_that_is_not_utf8(zesty, kit):
    """Told as that, and nothing is stored."""
    zesty("import", kit)
    ended = run(
        zesty,
        ["credentials", "change", "Quillwort Relay", "--from", "-"],
        input=b"heron\n\xff\xfe\n",
        capture_output=True,
    )
    assert ended.returncode == 3 and b"UTF-8" in ended.stderr


@pytest.mark.parametrize("words", [["list"], ["rehearse", "--no-exit", "--timeout", "5"], ["--help"], ["explain"]])
@pytest.mark.parametrize("after", [0.06, 0.1, 0.15, 0.2, 0.3, 0.45])
def test_interrupted(zesty, kit, words, after):
    """Ctrl-C at any moment: 130 and no trace of ours, or it was done before."""
    if words[0] == "rehearse":
        zesty("import", kit)
    running = subprocess.Popen(
        [PROGRAM, *words], env=zesty.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    time.sleep(after)
    running.send_signal(signal.SIGINT)
    out, err = running.communicate(timeout=30)
    if "main()" not in err and (running.returncode == -signal.SIGINT or "Traceback" in err):
        return  # the interpreter itself was still starting, and had not called the program yet
    assert "Traceback" not in out + err, err
    assert running.returncode in (0, 1, 4, 12, 130), err


FILL = "dd if=/dev/zero of='{home}/filler' bs=1k 2>/dev/null;"


def in_a_small_disk(zesty, size, *calls):
    """The program with its home on a disk of that size, in namespaces of its own; how the last call ended."""
    home = zesty.home
    home.mkdir(exist_ok=True)
    lines = [f"mount -t tmpfs -o size={size} none '{home}' || exit 99"]
    for call in calls:
        words = " ".join(f"'{word}'" for word in map(str, call)) if not isinstance(call, str) else ""
        lines.append(
            call.format(home=home) if isinstance(call, str) else f"'{PROGRAM}' --json {words} > '{zesty.home}.out'"
        )
    script = "\n".join(lines)
    ended = subprocess.run(
        ["unshare", "-m", "-n", "sh", "-c", script], env=zesty.environment, capture_output=True, text=True, timeout=60
    )
    assert "Traceback" not in ended.stderr, ended.stderr
    return ended.returncode, json.loads(Path(f"{zesty.home}.out").read_text())


@pytest.mark.skipif(os.geteuid() != 0, reason="a disk of its own needs root")
def test_an_import_on_a_full_disk(zesty, kit):
    """It says so, with the folder, and stores nothing."""
    code, document = in_a_small_disk(zesty, "32k", ["import", kit])
    assert (code, document["code"]) == (5, "disk-full"), document
    assert str(zesty.home) in document["what"] and "stored" in document["why"]


@pytest.mark.skipif(os.geteuid() != 0, reason="a disk of its own needs root")
@pytest.mark.parametrize("words", [[], ["--detach"]], ids=["foreground", "detached"])
def test_connect_on_a_full_disk(zesty, kit, words):
    """The journal cannot be written: told, with the folder, exit code 5, and nothing on the machine was changed."""
    code, document = in_a_small_disk(
        zesty, "400k", ["import", kit], FILL, ["connect", "lisbon", "--keep-trying", *words]
    )
    assert (code, document["code"]) == (5, "disk-full"), document
    assert str(zesty.home) in document["what"] and "journal" in document["why"]


@pytest.mark.skipif(os.geteuid() != 0, reason="a disk of its own needs root")
def test_an_export_to_a_full_disk(zesty, kit):
    """No half of a file is left."""
    out = f"{zesty.home}/profiles.zip"
    code, document = in_a_small_disk(zesty, "400k", ["import", kit], FILL, ["export", "--all", "--to", out])
    assert (code, document["code"]) == (5, "disk-full"), document
    assert out in document["why"]


def test_a_narrow_terminal(zesty, kit):
    """60 columns and fewer: no figure and no name is cut; what does not fit side by side stands below each other."""
    zesty("import", kit)
    for columns in (100, 60, 40, 30):
        environment = {"COLUMNS": str(columns)}
        for words in (["list"], ["explain", "dns-leak"], ["explain"], ["credentials", "list"]):
            ended = run(zesty, words, capture_output=True, text=False, env=environment)
            lines = ended.stdout.decode().splitlines()
            assert max(map(len, lines)) <= columns
        listed = run(zesty, ["list"], capture_output=True, env=environment).stdout.decode()
        for name in ("quillwort-lisbon", "quillwort-montevideo", "Wellington,", "2026-"):
            assert name in listed


def test_interrupted_within_an_exec(zesty, tmp_path):
    """Under ``python -m`` Python would then end itself by the signal (-2), although the interrupt was caught."""
    (tmp_path / "interrupted.py").write_text(
        "import sys\nfrom zesty_burrow import cli\n"
        "cli.main = lambda words: exec('raise KeyboardInterrupt')\nsys.exit(cli.run_to_the_end())"
    )
    words = [sys.executable, "-m", "interrupted"]
    ended = subprocess.run(words, env=zesty.environment, cwd=tmp_path, capture_output=True, text=True)
    assert (ended.returncode, ended.stdout, ended.stderr) == (130, "", "")
