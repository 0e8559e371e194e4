"""One module a command: ``add_arguments(parser)`` and ``run(args, context) -> Result``. Loaded when it is called."""

from __future__ import annotations


class Command:
    """A command's module and its line in the overview."""

    def __init__(self, module: str, summary: str) -> None:
        self.module, self.summary = module, summary


COMMANDS: dict[str, Command] = {
    "inspect": Command("kits.inspect_kit", "show what a provider's kit contains, without changing anything"),
    "import": Command("kits.import_kit", "store a kit's profiles and credentials"),
    "create": Command("profiles.create", "create a profile, guided by questions"),
    "portal": Command("kits.portal", "show a provider's portal: its places and what it recommends"),
    "list": Command("profiles.list_profiles", "list profiles, all or those that match"),
    "show": Command("profiles.show_profile", "show one profile and the credentials that it uses"),
    "tag": Command("profiles.tag_profiles", "add tags to profiles or remove them, to find profiles by"),
    "rename": Command("profiles.rename_profile", "give a profile another name"),
    "credentials": Command("credentials.credentials", "list, change, forget or try names, passwords and keys"),
    "export": Command("profiles.export_profiles", "write profiles to a file or an archive that can be imported again"),
    "remove": Command("profiles.remove_profiles", "remove profiles, or a provider with its credentials"),
    "undo": Command("profiles.undo", "take changes of profiles and credentials back"),
    "advise": Command("profiles.advise", "compare what both ends can negotiate with what they should, and say why"),
    "change": Command("profiles.change_profiles", "change any key of profiles, or edit one's text"),
    "choose": Command("profiles.choose", "change a profile's algorithms and how its gateway is reached"),
    "rehearse": Command("tunnel.rehearse", "try profiles for real without changing this machine, and compare them"),
    "ready": Command("tunnel.ready", "check whether this machine is ready for a tunnel, and what to do"),
    "connect": Command("tunnel.connect", "bring a tunnel up"),
    "status": Command("tunnel.status", "show whether a tunnel is up, and its counters"),
    "guard": Command("tunnel.guard", "show or change the guard: nothing but the tunnel leaves this machine"),
    "verify": Command("verification.verify", "check from outside that nothing leaks"),
    "transitions": Command(
        "verification.transitions", "cause a loss, a rekey or a switch, and see what leaves during each"
    ),
    "history": Command(
        "verification.history", "list earlier verifications, what has changed since when, and check them"
    ),
    "monitor": Command("verification.monitor", "list what will need attention soon; also for monitoring systems"),
    "audit": Command("verification.audit", "make a report for auditors from signed evidence, or check one"),
    "disconnect": Command("tunnel.disconnect", "end the tunnel and restore this machine's settings"),
    "support": Command("tunnel.support", "gather what a help desk needs to help, without secrets"),
    "restore": Command("tunnel.restore", "restore this machine's settings after a crash"),
    "startup": Command("tunnel.startup", "have a tunnel or the guard start with the machine (systemd)"),
    "devices": Command("devices.devices", "list devices, say which profile each gets, see where each stands"),
    "hand-over": Command("devices.hand_over", "hand profiles over to devices"),
    "links": Command("devices.links", "serve one-time links for devices' owners, and see how far they have got"),
    "enrol": Command("devices.enrol", "make this device's key, and say from which administrator it takes profiles"),
    "receive": Command("devices.receive", "take on this device what an administrator has handed over"),
    "report": Command("devices.report", "verify on this device, and report the verdict to its administrator"),
    "explain": Command("kits.explain", "explain the code of a finding or error, and what to do"),
    "seal": Command("credentials.seal", "choose what the stored secrets are encrypted with"),
    "observatory": Command("lab.observatory", "run an observatory: a server that reports what it sees of its clients"),
    "completion": Command("completion", "print completion of commands, options and names for the shell"),
    "lab": Command("lab.lab", "run the simulated internet that ships with the program"),
    "demo": Command("lab.demo", "run a full example on demo data, from kit to verdict"),
}
"""In the order of the work."""
