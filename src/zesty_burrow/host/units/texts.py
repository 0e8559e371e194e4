"""What the units say. Values only: nothing is written here."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Sequence
from pathlib import Path

from zesty_burrow.records import dataclass

PREFIX = "zesty-"
GUARD, REPORT, VERIFY = "guard", "report", "verify"
TIMERS = "timers.target"
HOMES = ("/home", "/root", "/run/user")
"""What ProtectHome= hides (systemd.exec(5))."""
AFTER_BOOT = 5
"""Minutes until the first report."""
MADE_BY = "# Written by `zesty startup`; `zesty startup remove` takes it away."
HARDENING = (
    # It configures the network, and nothing else of the machine.
    "CapabilityBoundingSet=CAP_NET_ADMIN CAP_NET_BIND_SERVICE",
    "AmbientCapabilities=",
    "NoNewPrivileges=yes",
    "UMask=0077",
    "LimitCORE=0",
    "LimitMEMLOCK=infinity",
    # Of the disk it writes its own state, and the resolver's settings.
    "ProtectSystem=strict",
    "ReadWritePaths=-/etc/resolv.conf -/run/resolvconf",
    "PrivateMounts=yes",
    "DevicePolicy=closed",
    "DeviceAllow=/dev/net/tun rw",
    "ProtectProc=invisible",
    "ProtectControlGroups=yes",
    "ProtectKernelLogs=yes",
    "ProtectKernelModules=yes",
    "ProtectKernelTunables=yes",
    "ProtectClock=yes",
    "ProtectHostname=yes",
    # Of the kernel it uses sockets, and netlink to configure.
    "RestrictAddressFamilies=AF_INET AF_INET6 AF_NETLINK AF_UNIX",
    "RestrictNamespaces=yes",
    "RestrictRealtime=yes",
    "RestrictSUIDSGID=yes",
    "LockPersonality=yes",
    "RemoveIPC=yes",
    "KeyringMode=private",
    "SystemCallArchitectures=native",
    "SystemCallFilter=@system-service",
    "SystemCallFilter=~@privileged @resources @obsolete @mount @swap @reboot @module @raw-io",
    "SystemCallFilter=~@clock @debug @cpu-emulation",
    "SystemCallErrorNumber=EPERM",
)
"""Not MemoryDenyWriteExecute: compiled packet loops are machine code that is made while the tunnel runs."""
LOOKING = {
    # It watches packets and names their senders; it carries none.
    "CapabilityBoundingSet": "CapabilityBoundingSet=CAP_NET_ADMIN CAP_NET_RAW CAP_SYS_PTRACE",
    "RestrictAddressFamilies": "RestrictAddressFamilies=AF_INET AF_INET6 AF_NETLINK AF_UNIX AF_PACKET",
    "ProtectProc": "ProtectProc=default",
}
NOT_FOR_LOOKING = ("ReadWritePaths=", "DeviceAllow=")


@dataclass(frozen=True, slots=True)
class Unit:
    """``name``: of the file; ``wanted_by``: the target that starts it. ``timer``: the text of the timer that does it
    instead, which has the service's name.
    """

    name: str
    text: str
    wanted_by: str
    timer: str = ""


def unit_name(what: str) -> str:
    """The file of a profile's unit, or of the guard's."""
    return f"{PREFIX}{what}.service"


def timer_name(service: str) -> str:
    """The file of a service's timer."""
    return f"{service.removesuffix('.service')}.timer"


def sessions_of(user: int) -> str:
    """The unit that runs as long as a user has signed in (user@.service(5))."""
    return f"user@{user}.service"


def tunnel_unit(
    profile: str, program: Sequence[str], environment: Sequence[tuple[str, str]] = (), *, user: int | None = None
) -> Unit:
    """A tunnel from boot on, or for as long as a ``user`` (its number) has signed in; it keeps trying.

    Nothing that systemd does to it opens the guard: whatever ends it but `zesty disconnect` has it started again, and
    after `systemctl stop` the guard stays closed.
    """
    wanted_by = "multi-user.target" if user is None else sessions_of(user)
    while_signed_in = [] if user is None else [f"After={wanted_by}", f"PartOf={wanted_by}"]
    lines = [
        MADE_BY,
        "[Unit]",
        f"Description=Tunnel {profile}",
        # The process that owns the guard is there first, and is not this one's child.
        f"Wants=network.target {unit_name(GUARD)}",
        f"After=network.target {unit_name(GUARD)}",
        *while_signed_in,
        "StartLimitIntervalSec=0",
        "",
        "[Service]",
        "Type=exec",
        *_environment(environment),
        f"ExecStart={_line(program)} connect {shlex.quote(profile)} --keep-trying --beside",
        # Any end but that by `zesty disconnect`, which has the exit code 0, starts it again.
        "Restart=always",
        "RestartPreventExitStatus=0",
        "SuccessExitStatus=143",
        "RestartSec=2",
        "TimeoutStopSec=20",
        "OOMScoreAdjust=-500",
        "OOMPolicy=continue",
        "StateDirectory=zesty-burrow",
        "StateDirectoryMode=0755",
        "RuntimeDirectory=zesty-burrow",
        "RuntimeDirectoryMode=0700",
        "RuntimeDirectoryPreserve=yes",
        "ConfigurationDirectory=zesty-burrow",
        *_homes(program, environment),
        *HARDENING,
        "",
        "[Install]",
        f"WantedBy={wanted_by}",
        "",
    ]
    return Unit(unit_name(profile), "\n".join(lines), wanted_by)


def guard_unit(program: Sequence[str], environment: Sequence[tuple[str, str]] = ()) -> Unit:
    """The process that owns the guard, before there is a network; stopping it leaves the guard in the kernel."""
    lines = [
        MADE_BY,
        "[Unit]",
        "Description=Guard: nothing but the tunnels leaves this machine",
        # At shutdown it is not stopped before the network is: what it has set stays in the kernel in any case.
        "DefaultDependencies=no",
        "Wants=network-pre.target",
        "After=local-fs.target systemd-modules-load.service",
        "Before=network-pre.target",
        "StartLimitIntervalSec=0",
        "",
        "[Service]",
        "Type=notify",
        "NotifyAccess=main",
        *_environment(environment),
        f"ExecStart={_line(program)} guard serve",
        "Restart=always",
        "RestartSec=1",
        "KillMode=mixed",
        "TimeoutStopSec=5",
        "OOMScoreAdjust=-900",
        "StateDirectory=zesty-burrow",
        "StateDirectoryMode=0755",
        *_homes(program, environment),
        *(line for line in HARDENING if "resolv.conf" not in line and "net/tun" not in line),
        "",
        "[Install]",
        "WantedBy=sysinit.target",
        "",
    ]
    return Unit(unit_name(GUARD), "\n".join(lines), "sysinit.target")


def report_unit(program: Sequence[str], environment: Sequence[tuple[str, str]], minutes: int) -> Unit:
    """A verification and its report, again and again."""
    return _timed(REPORT, "Verify the tunnel, and report the verdict", program, environment, minutes, "report")


def verify_unit(
    program: Sequence[str], environment: Sequence[tuple[str, str]], minutes: int, on_change: Path | None
) -> Unit:
    """A verification, again and again. ``on_change``: a program that gets what has changed."""
    command = "verify" if on_change is None else f"verify --on-change {shlex.quote(str(on_change))}"
    return _timed(VERIFY, "Verify the tunnels of this machine", program, environment, minutes, command)


def _timed(
    what: str,
    about: str,
    program: Sequence[str],
    environment: Sequence[tuple[str, str]],
    minutes: int,
    command: str,
) -> Unit:
    """The delay is random, so that not all devices ask at once. A verdict is no failure of the unit."""
    lines = [
        MADE_BY,
        "[Unit]",
        f"Description={about}",
        "Wants=network-online.target",
        "After=network-online.target",
        "",
        "[Service]",
        "Type=oneshot",
        *_environment(environment),
        f"ExecStart={_line(program)} {command}",
        "SuccessExitStatus=10 11",
        "StateDirectory=zesty-burrow",
        "StateDirectoryMode=0755",
        *_homes(program, environment),
        "PrivateDevices=yes",
        *(LOOKING.get(line.partition("=")[0], line) for line in HARDENING if not line.startswith(NOT_FOR_LOOKING)),
        "",
    ]
    timer = [
        MADE_BY,
        "[Unit]",
        f"Description={about}",
        "",
        "[Timer]",
        f"OnBootSec={AFTER_BOOT}min",
        f"OnUnitActiveSec={minutes}min",
        f"RandomizedDelaySec={minutes * 10}s",
        "",
        "[Install]",
        f"WantedBy={TIMERS}",
        "",
    ]
    return Unit(unit_name(what), "\n".join(lines), TIMERS, "\n".join(timer))


def _homes(program: Sequence[str], environment: Sequence[tuple[str, str]]) -> list[str]:
    """Users' homes and temporary files are hidden, but for a program that is installed there, and the folder that the
    user has named.
    """
    places = [Path(program[0]).resolve(), Path(sys.prefix).resolve(), Path(sys.base_prefix).resolve()]
    hidden = not any(place.is_relative_to(home) for place in places for home in HOMES)
    named = [f"BindPaths={shlex.quote(value)}" for _, value in environment]
    in_tmp = any(place.is_relative_to(folder) for place in places for folder in ("/tmp", "/var/tmp"))  # noqa: S108
    return [f"ProtectHome={'yes' if hidden else 'read-only'}", f"PrivateTmp={'no' if in_tmp else 'yes'}", *named]


def _line(program: Sequence[str]) -> str:
    return " ".join(shlex.quote(word) for word in program)


def _environment(rows: Sequence[tuple[str, str]]) -> list[str]:
    return [f"Environment={shlex.quote(f'{name}={value}')}" for name, value in rows]
