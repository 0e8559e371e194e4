"""The demo: the real program on the lab's workstation, step by step, with what each step must show."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from zesty_burrow.errors import MachineError
from zesty_burrow.host.paths import HOME_VARIABLE, Paths, program_as_root
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient, lab_folder
from zesty_burrow.records import dataclass, field

Check = Callable[[dict[str, Any]], bool]


@dataclass(frozen=True, slots=True)
class DemoStep:
    """A command of the program, told in ``words``; ``code`` is the exit code it must end with."""

    title: str
    words: str
    command: tuple[str, ...] = ()
    code: int = 0
    check: Check = lambda _: True
    faults: tuple[str, tuple[str, ...]] | None = None
    also: tuple[str, tuple[str, ...]] | None = None
    host: str = story.WORKSTATION
    """Where it is run; empty: on this machine."""
    seconds: float = 0.0
    """How long it may take; 0: that does not matter."""


def codes_of(document: dict[str, Any]) -> set[str]:
    """The codes of a document's findings."""
    return {entry["code"] for entry in document.get("findings", [])}


def _in_a_child(call: Callable[[], int]) -> int:
    """On this machine, as a process of its own would do it."""
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        os._exit(call())
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def silence() -> None:
    """What this process writes goes nowhere."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    os.dup2(nowhere, 2)


def steps(folder: Path, *, ssh: bool) -> tuple[DemoStep, ...]:
    """The story, in order. ``folder``: the lab's; ``ssh``: whether its laptop is reached."""
    kit = folder / "quillwort-relay.zip"
    laptop = _laptop(folder) if ssh else ()
    others = (*laptop, *_phone(folder, with_laptop=ssh))
    return (*_from_kit_to_tunnel(kit), *_where_udp_is_blocked(), *others, *_what_can_go_wrong())


def _from_kit_to_tunnel(kit: Path) -> tuple[DemoStep, ...]:
    return (
        DemoStep(
            "What the outside sees without a tunnel",
            "The workstation heron is in a cottage in Slovenia. An observatory on the internet tells which addresses "
            "it sees, and which resolver asks for names that only this test asks for.",
            ("verify", "--before"),
            check=lambda seen: seen["observation"]["ipv4"]["country"] == "SI",
        ),
        DemoStep(
            "What the provider sent",
            "A ZIP archive came from Quillwort Relay. Before anything is stored, each file is recognised and checked.",
            ("inspect", str(kit)),
            check=lambda seen: len(seen["profiles"]) == 5 and "kit-read-me" in codes_of(seen),
        ),
        DemoStep(
            "Import it",
            "All profiles are stored at once; the account name and password are encrypted.",
            ("import", str(kit)),
            check=lambda seen: all(row["outcome"] == "new" for row in seen["profiles"]),
        ),
        DemoStep(
            "Connect to Lisbon",
            "A real IKEv2 negotiation. The gateway must prove its identity before it gets the name or the password.",
            ("connect", "lisbon", "--detach"),
            check=lambda seen: seen["tunnel"]["country"] == "PT" and seen["tunnel"]["ipv6"] == "tunnel",
        ),
        DemoStep(
            "Does anything leak?",
            "The same observations again, side by side with those from before.",
            ("verify",),
            check=lambda seen: seen["verdict"] == "sealed" and seen["after"]["ipv4"]["country"] == "PT",
        ),
        DemoStep(
            "What may leave?",
            "The guard, an allow-list in the packet filter, lets the tunnel out and turns everything else away.",
            ("guard",),
            check=lambda seen: seen["guard"]["in_force"] and seen["guard"]["counted"]["dropped"]["packets"] == 0,
        ),
        DemoStep(
            "Disconnect", "The tunnel ends, the guard opens, this machine's settings are restored.", ("disconnect",)
        ),
    )


def _where_udp_is_blocked() -> tuple[DemoStep, ...]:
    """What the limit of three seconds holds for is the command as a whole, from its start to the standing tunnel."""
    return (
        DemoStep(
            "Which protocols does Wellington speak?",
            "The internet provider now lets no UDP out. The gateway is asked by every protocol and transport, for "
            "real and without a sign-in.",
            ("advise", "wellington", "--timeout", "0.6"),
            faults=(story.ROUTER, ("udp-blocked",)),
            check=lambda seen: seen["best_way"] == "connect-ip over TCP",
        ),
        DemoStep(
            "Leave it to the program",
            "Another protocol to the same gateway, by whichever transport is answered first. It hands out no name "
            "servers, so they are named.",
            ("choose", "wellington", "--protocol", "connect-ip", "--transport", "any",
             "--name-servers", f"{story.RESOLVER4},{story.RESOLVER6}"),
        ),
        DemoStep(
            "Connect where no UDP gets out",
            "Sessions are begun over UDP and TCP a quarter of a second apart; the first that is answered goes on.",
            ("connect", "wellington", "--detach"),
            check=lambda seen: seen["tunnel"]["over"].startswith("over TCP (") and seen["tunnel"]["country"] == "NZ",
            seconds=3.0,
        ),
        DemoStep(
            "Does it leak?",
            "All traffic goes over one TCP connection to port 443.",
            ("verify",),
            check=lambda seen: seen["verdict"] == "sealed" and seen["after"]["ipv4"]["country"] == "NZ",
        ),
        DemoStep("Disconnect", "The tunnel ends, and the guard opens.", ("disconnect",)),
    )  # fmt: skip


def _laptop(folder: Path) -> tuple[DemoStep, ...]:
    """A device that this program runs on."""
    push = ("hand-over", "curlew", "--ssh-config", str(folder / "heron" / "ssh" / "config"))
    return (
        DemoStep(
            "Another device",
            "Marit's laptop curlew is reached by SSH, and this program runs on it.",
            ("devices", "add", "curlew", "--kind", "laptop", "--owner", "Marit Aune", "--reach", "curlew"),
        ),
        DemoStep("", "", ("devices", "assign", "nairobi", "--kind", "laptop")),
        DemoStep(
            "Hand the profile over",
            "It is encrypted to the laptop's own key. There it waits: nothing is trusted before Marit has agreed.",
            push,
            check=lambda seen: [one["state"] for one in seen["devices"]] == ["waiting"],
        ),
        DemoStep(
            "Marit agrees, on the laptop",
            "All of it is imported in one piece.",
            ("receive", "--agree"),
            check=lambda seen: seen["state"] == "imported",
            host=story.LAPTOP,
        ),
        DemoStep(
            "Has it arrived?",
            "The same command again does only what is left: the laptop says that it has the profile.",
            push,
            check=lambda seen: [one["state"] for one in seen["devices"]] == ["confirmed"],
        ),
    )


def _phone(folder: Path, *, with_laptop: bool) -> tuple[DemoStep, ...]:
    """A device that is set up by what its owner types and copies."""
    phone = ("lab", "phone", story.PHONE)
    return (
        DemoStep(
            "A phone",
            "This program does not run on Marit's phone plover: its built-in client is set up by hand.",
            ("devices", "add", "plover", "--kind", "phone", "--owner", "Marit Aune"),
        ),
        DemoStep("", "", ("devices", "assign", "nairobi", "--kind", "phone")),
        DemoStep(
            "A link for the phone",
            "It can be opened once, on the phone. The server that shows the page never has what is behind it.",
            ("hand-over", "plover", "--link", story.LINKS_URL, "--to", str(folder)),
            check=lambda seen: [one["form"] for one in seen["devices"]] == ["link"],
        ),
        DemoStep(
            "Marit opens it on the phone",
            "The page shows what will be trusted, and asks; then it gives each field in the order of typing. Before "
            "the tunnel is switched on, the check page looks at what the outside sees.",
            (*phone, "open", "--link", str(folder / "plover.link.txt")),
            check=lambda seen: seen["seen"]["typed"][-1] == "password" and seen["status"]["trusted"] == 1,
            host="",
        ),
        DemoStep(
            "She switches the tunnel on",
            "Nairobi now hands out a resolver that is not its own. Nothing on the phone shows it.",
            (*phone, "on"),
            check=lambda seen: seen["status"]["on"],
            faults=("nairobi", ("leaking-resolver",)),
            host="",
        ),
        DemoStep(
            "Does the phone leak?",
            "The check page looks again. The verdict is the same program's, from what the page has observed.",
            (*phone, "check"),
            check=lambda seen: seen["seen"]["verdict"] == "leaking" and "dns-leak" in codes_of(seen["seen"]),
            host="",
        ),
        DemoStep("", "", (*phone, "off"), host=""),
        DemoStep(
            "Where do they stand?",
            "The worst first: the administrator sees the phone's leak.",
            ("devices", "list"),
            check=lambda seen: (
                [one["state"] for one in seen["devices"]] == ["leaking", *(["in date"] if with_laptop else [])]
            ),
            also=("nairobi", ()),
        ),
    )


def _what_can_go_wrong() -> tuple[DemoStep, ...]:
    return (
        DemoStep(
            "A leaky gateway",
            "UDP gets out again. Tallinn now hands out the resolver of another internet provider, and its "
            "exit is not in Estonia. The tunnel comes up all the same: nothing on this machine looks wrong.",
            ("connect", "tallinn", "--detach"),
            also=(story.ROUTER, ()),
            faults=("tallinn", ("leaking-resolver", "exit-elsewhere")),
        ),
        DemoStep(
            "Is it detected?",
            "Exit code 10 says that it leaks, and the findings say why.",
            ("verify",),
            code=10,
            check=lambda seen: {"dns-leak", "exit-elsewhere"} <= codes_of(seen) and seen["verdict"] == "leaking",
        ),
        DemoStep("Disconnect", "This machine's settings are restored again.", ("disconnect",)),
        DemoStep(
            "What was verified",
            "Each run is kept, signed and chained: nobody can change one later without being noticed.",
            ("history", "--check"),
        ),
        DemoStep(
            "A false gateway",
            "Another machine answers in place of Montevideo with a valid certificate for another name. "
            "No credentials are sent to it.",
            ("connect", "montevideo", "--detach"),
            code=7,
            faults=("montevideo", ("wrong-name",)),
        ),
        DemoStep(
            "What leaves now?",
            "Nothing: the guard was closed before the first packet of `connect`, and only you open it.",
            ("status",),
            code=21,
            check=lambda seen: seen["condition"] == "blocked" and seen["guard"]["in_force"],
        ),
        DemoStep("Open it", "There is no tunnel to end, but the guard to open.", ("disconnect",)),
    )


@dataclass(slots=True)
class Demo:
    """``program`` is the command line's main; ``say`` tells a sentence, ``head`` a step's title."""

    program: Callable[[list[str]], int]
    paths: Paths
    say: Callable[[str], None]
    head: Callable[[str], None]
    keep: bool = False
    failures: list[str] = field(default_factory=list)

    def run(self) -> list[str]:
        """Run it all; what did not show what it should."""
        began = time.monotonic()
        client = LabClient(lab_folder(self.paths))
        self.head("The lab")
        self.say(
            "A simulated internet is started in namespaces of its own: an internet provider, five gateways of a "
            "VPN provider, resolvers, an observatory. Nothing outside of it is touched."
        )
        status = client.start()
        try:
            self._require_devices(status)
            before = self._network(client)
            ssh = bool(status["hosts"][story.LAPTOP]["ssh"])
            self._serve_links(client)
            for step in steps(client.folder, ssh=ssh):
                self._step(client, step)
            self.head("Are the settings restored?")
            same = self._network(client) == before
            self.say(
                "Addresses, routes, rules and name servers of heron are exactly as before."
                if same
                else "heron has changed!"
            )
            if not same:
                self.failures.append("put back")
        finally:
            if not self.keep:
                client.stop()
        where = f" The lab is still running: {client.folder}" if self.keep else " The lab was stopped."
        self.say(f"The demo took {time.monotonic() - began:.1f} seconds.{where}")
        return self.failures

    def _require_devices(self, status: dict[str, Any]) -> None:
        notes = [row["note"] for name, row in status["hosts"].items() if name in story.PLACE_BY_NAME and row["note"]]
        if notes:
            raise MachineError(
                "the demo cannot bring up a tunnel on this machine",
                why=notes[0],
                next_step=f"Run the demo as root: {program_as_root()} demo",
                slug="tunnel-device-closed",
            )

    def _command(
        self,
        client: LabClient,
        words: tuple[str, ...],
        output: Path,
        host: str = story.WORKSTATION,
        *,
        quiet: bool = False,
    ) -> int:
        """The program on a host, in a process of its own that has it loaded already."""

        def call() -> int:
            if quiet:
                silence()
            return self.program(["--json-file", str(output), *words])

        return client.call(host, call) if host else _in_a_child(call)

    def _serve_links(self, client: LabClient) -> None:
        """The administrator's server of links, on the observatory's host; it ends with the lab."""
        words = ["links", "serve", "--port", str(story.LINKS_PORT), "--observatory", story.OBSERVATORY_NAME]
        words += ["--address", story.OBSERVATORY4, "--address", story.OBSERVATORY6]
        words += [
            "--certificate",
            str(client.folder / story.LINKS_CERTIFICATE),
            "--key",
            str(client.folder / story.LINKS_KEY),
        ]

        def serve() -> int:
            os.environ[HOME_VARIABLE] = str(client.folder / story.WORKSTATION)
            return self.program(words)

        if os.fork() == 0:
            silence()
            os._exit(client.call("observatory", serve))

    def _read(self, output: Path) -> dict[str, Any]:
        if not output.exists():
            return {}
        document = json.loads(output.read_text())
        output.unlink()
        return document if isinstance(document, dict) else {}

    def _network(self, client: LabClient) -> list[str]:
        output = client.folder / "result.json"
        self._command(client, ("status", "--network"), output, quiet=True)
        network: list[str] = self._read(output).get("network", [])
        return network

    def _step(self, client: LabClient, step: DemoStep) -> None:
        for faults in filter(None, (step.faults, step.also)):
            client.set_faults(*faults)
        if step.title:
            self.head(step.title)
            self.say(step.words)
        if step.command:
            self.say(f"$ zesty {' '.join(step.command)}")
        output = client.folder / "result.json"
        began = time.monotonic()
        code = self._command(client, step.command, output, step.host)
        took = time.monotonic() - began
        document = self._read(output)
        shown = bool(document) or step.code not in (0, 10, 11)
        if code != step.code or not shown or not (step.code == 7 or step.check(document)):
            self.failures.append(step.title or " ".join(step.command))
            self.say(f"This step did not end as expected (exit code {code}).")
        elif step.seconds and took > step.seconds:
            self.failures.append(step.title)
            self.say(f"This step took {took:.1f} seconds.")
