"""Units of systemd: understood by systemd itself, hardened by its own measure, and only ours are touched."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess

import pytest

from commands.conftest import Program

MOST_EXPOSED = 3.0
"""Of 10, by `systemd-analyze security`."""


@pytest.fixture
def imported(zesty, kit):
    """The program with the kit's profiles; each call says which exit code it expects."""

    def run(*words, check):
        ended = zesty(*words)
        assert ended.code == check, ended.text
        return ended

    run("import", str(kit), check=0)
    return run


def analyse(*words):
    return subprocess.run(["systemd-analyze", *words], capture_output=True, text=True)


@pytest.mark.parametrize("what", ["guard", "quillwort-lisbon"])
def test_systemd_understands_it(imported, tmp_path, what):
    """Every line is known, and the exposure is as low as a program that configures the network can have."""
    assert shutil.which("systemd-analyze"), "the tests need systemd-analyze: apt-get install systemd"
    folder = tmp_path / "units"
    imported("startup", "--into", str(folder), "add", what, check=0)
    path = folder / f"zesty-{what}.service"
    checked = analyse("verify", str(path))
    assert (checked.returncode, checked.stdout + checked.stderr) == (0, "")
    judged = analyse("security", "--offline=true", "--no-pager", str(path))
    exposure = float(re.search(r"exposure level for \S+: ([\d.]+)", judged.stdout)[1])
    assert exposure < MOST_EXPOSED, judged.stdout


def test_written_shown_listed_removed(imported, tmp_path):
    folder = tmp_path / "units"
    shown = imported("startup", "show", "quillwort-lisbon", check=0).out
    imported("startup", "--into", str(folder), "add", "quillwort-lisbon", check=0)
    path = folder / "zesty-quillwort-lisbon.service"
    assert path.read_text() == shown
    assert path.stat().st_mode & 0o777 == 0o644
    link = folder / "multi-user.target.wants" / path.name
    assert link.resolve() == path
    rows = imported("--json", "startup", "--into", str(folder), check=0).json["units"]
    # The guard's own process comes along, so that it is not the tunnel's child.
    assert [(row["what"], row["enabled"], row["when"]) for row in rows] == [
        ("guard", True, "with the machine"),
        ("quillwort-lisbon", True, "with the machine"),
    ]
    imported("startup", "--into", str(folder), "remove", "quillwort-lisbon", check=0)
    assert not path.exists() and not link.is_symlink() and not list(folder.rglob("zesty-guard*"))
    assert (
        imported("--json", "startup", "--into", str(folder), "remove", "quillwort-lisbon", check=4).json["code"]
        == "not-found"
    )


def test_at_a_user_s_sign_in(imported, tmp_path):
    """Instead of from boot on: with the user's sessions, and no longer; systemd understands that as well."""
    folder = tmp_path / "units"
    imported("startup", "--into", str(folder), "add", "quillwort-lisbon", check=0)
    imported("startup", "--into", str(folder), "add", "quillwort-lisbon", "--sign-in", "root", check=0)
    path = folder / "zesty-quillwort-lisbon.service"
    assert (folder / "user@0.service.wants" / path.name).resolve() == path
    assert not (folder / "multi-user.target.wants" / path.name).is_symlink()
    assert {"PartOf=user@0.service", "After=user@0.service", "WantedBy=user@0.service"} <= set(
        path.read_text().split("\n")
    )
    checked = analyse("verify", str(path))
    assert (checked.returncode, checked.stdout + checked.stderr) == (0, "")
    _, row = imported("--json", "startup", "--into", str(folder), check=0).json["units"]
    assert (row["enabled"], row["when"]) == (True, "when root signs in")
    assert "when root signs in" in imported("startup", "--into", str(folder), check=0).out
    assert imported("--json", "startup", "show", "quillwort-lisbon", "--sign-in", "no-such-user", check=4).json["what"]
    assert imported("startup", "show", "guard", "--sign-in", "root", check=2)
    imported("startup", "--into", str(folder), "remove", "quillwort-lisbon", check=0)
    assert not list(folder.rglob("*.service"))


def test_the_program_understands_its_own_command_line(imported):
    """What the unit runs is asked for its help: every word of it is known."""
    for what in ("quillwort-lisbon", "guard"):
        shown = imported("startup", "show", what, check=0).out
        words = shlex.split(re.search(r"ExecStart=(.*)", shown)[1])
        ended = subprocess.run([*words, "--help"], capture_output=True, text=True)
        assert ended.returncode == 0, ended.stderr
        # Nothing that systemd runs at a stop could open the guard.
        assert "ExecStop" not in shown and "disconnect" not in shown and "Restart=always" in shown


def test_somebody_else_s_unit_stays(imported, tmp_path):
    folder = tmp_path / "units"
    folder.mkdir()
    path = folder / "zesty-guard.service"
    path.write_text("[Unit]\nDescription=somebody's own\n")
    assert imported("--json", "startup", "--into", str(folder), "add", "guard", check=4).json["code"] == "clash"
    assert imported("startup", "--into", str(folder), "remove", "guard", check=4)
    assert path.read_text() == "[Unit]\nDescription=somebody's own\n"
    assert imported("--json", "startup", "--into", str(folder), check=0).json["units"] == []


def test_secrets_that_need_somebody(imported, tmp_path):
    """Sealed with a passphrase they cannot be opened before anybody has signed in; the guard needs none."""
    phrase = tmp_path / "phrase"
    phrase.write_text("a long and salty phrase\n")
    phrase.chmod(0o600)
    imported("--passphrase-file", str(phrase), "seal", "--method", "passphrase", check=0)
    refused = imported("--json", "startup", "show", "quillwort-lisbon", check=4).json
    assert refused["code"] == "secrets-need-you"
    imported("startup", "show", "guard", check=0)


def test_what_needs_a_word_each_time(imported, tmp_path):
    """PPTP is never started by the machine: there is nobody to say that it is meant."""
    imported("choose", "quillwort-lisbon", "--protocol", "pptp", check=0)
    folder = tmp_path / "units"
    folder.mkdir()
    refused = imported("--json", "startup", "--into", str(folder), "add", "quillwort-lisbon", check=3).json
    assert refused["code"] == "pptp-unprotected" and not list(folder.iterdir())


def test_reports_by_a_timer(imported, kit, tmp_path):
    """Only where an administrator wants them; systemd understands service and timer; both go when they are removed."""
    folder = tmp_path / "units"
    refused = imported("--json", "startup", "--into", str(folder), "add", "report", check=4).json
    assert "hand-over … --report" in refused["next_step"] and not folder.exists()
    administrator = Program(tmp_path / "administrator")
    (tmp_path / "curlew.key").write_text(imported("enrol", check=0).out)
    for words in (
        ("import", kit),
        ("devices", "add", "curlew", "--kind", "laptop"),
        ("devices", "change", "curlew", "--key", tmp_path / "curlew.key"),
        ("devices", "assign", "quillwort-nairobi"),
        ("hand-over", "curlew", "--to", tmp_path, "--report", "https://links.tidewrack.example"),
    ):
        assert (ended := administrator(*words)).code == 0, ended.text
    assert "zesty startup add report" in imported("receive", str(tmp_path / "curlew.bundle"), "--agree", check=0).text
    for words in (("--every", "4"), ("--every", "10081"), ("--sign-in", "root")):
        imported("startup", "--into", str(folder), "add", "report", *words, check=2)
    shown = imported("startup", "show", "report", "--every", "30", check=0).out
    imported("startup", "--into", str(folder), "add", "report", "--every", "30", check=0)
    service, timer = (folder / f"zesty-report.{kind}" for kind in ("service", "timer"))
    assert shown.strip() == f"{service.read_text()}\n{timer.read_text()}".strip()
    assert {"OnUnitActiveSec=30min", "RandomizedDelaySec=300s"} <= set(timer.read_text().split("\n"))
    assert (folder / "timers.target.wants" / timer.name).resolve() == timer
    checked = analyse("verify", str(service), str(timer))
    assert (checked.returncode, checked.stdout + checked.stderr) == (0, "")
    judged = analyse("security", "--offline=true", "--no-pager", str(service))
    assert float(re.search(r"exposure level for \S+: ([\d.]+)", judged.stdout)[1]) < MOST_EXPOSED, judged.stdout
    words = shlex.split(re.search(r"ExecStart=(.*)", shown)[1])
    assert subprocess.run([*words, "--help"], capture_output=True).returncode == 0
    (row,) = imported("--json", "startup", "--into", str(folder), check=0).json["units"]
    assert (row["what"], row["enabled"], row["when"]) == ("report", True, "by a timer")
    imported("startup", "--into", str(folder), "remove", "report", check=0)
    assert not list(folder.rglob("zesty-*"))


def test_verifications_by_a_timer(imported, tmp_path):
    """It may watch packets, which a tunnel's unit may not; a verdict is no failure; what has changed goes to a program."""
    folder = tmp_path / "units"
    for words in (("--on-change", "tell"), ("--every", "4"), ("--sign-in", "root")):
        imported("startup", "--into", str(folder), "add", "verify", *words, check=2)
    imported("startup", "--into", str(folder), "add", "guard", "--on-change", "/bin/true", check=2)
    words = ("--every", "15", "--on-change", "/opt/tell it")
    imported("startup", "--into", str(folder), "add", "verify", *words, check=0)
    service, timer = (folder / f"zesty-verify.{kind}" for kind in ("service", "timer"))
    checked = analyse("verify", str(service), str(timer))
    assert (checked.returncode, checked.stdout + checked.stderr) == (0, "")
    rows = service.read_text().splitlines()
    assert "SuccessExitStatus=10 11" in rows and "OnUnitActiveSec=15min" in timer.read_text()
    assert "CapabilityBoundingSet=CAP_NET_ADMIN CAP_NET_RAW CAP_SYS_PTRACE" in rows
    assert any("AF_PACKET" in row for row in rows) and not any("net/tun" in row for row in rows)
    (line,) = [row.removeprefix("ExecStart=") for row in rows if row.startswith("ExecStart=")]
    *command, option, program = shlex.split(line)
    assert (command[-1], option, program) == ("verify", "--on-change", "/opt/tell it")
    judged = analyse("security", "--offline=true", "--no-pager", str(service))
    assert float(re.search(r"exposure level for \S+: ([\d.]+)", judged.stdout)[1]) < MOST_EXPOSED, judged.stdout
    (row,) = imported("--json", "startup", "--into", str(folder), check=0).json["units"]
    assert (row["what"], row["when"]) == ("verify", "by a timer")
    imported("startup", "--into", str(folder), "remove", "verify", check=0)
    assert not list(folder.rglob("zesty-*"))
