"""One module a command: ``add_arguments(parser)`` and ``run(args, context) -> Result``. Loaded when it is called."""

from __future__ import annotations

from typing import NamedTuple


class Entry(NamedTuple):
    """A command's module and its line in the overview."""

    module: str
    summary: str


COMMANDS: dict[str, Entry] = {
    "inspect": Entry("kits.inspect_kit", "show what a provider's kit contains, without changing anything"),
    "import": Entry("kits.import_kit", "store a kit's profiles and credentials"),
    "create": Entry("profiles.create", "create a profile, guided by questions"),
    "portal": Entry("kits.portal", "show a provider's portal: its places and what it recommends"),
    "list": Entry("profiles.list_profiles", "list profiles, all or those that match"),
    "show": Entry("profiles.show_profile", "show one profile and the credentials that it uses"),
    "tag": Entry("profiles.tag_profiles", "add tags to profiles or remove them, to find profiles by"),
    "rename": Entry("profiles.rename_profile", "give a profile another name"),
    "credentials": Entry("credentials.credentials", "list, change, forget or try names, passwords and keys"),
    "export": Entry("profiles.export_profiles", "write profiles to a file or an archive that can be imported again"),
    "remove": Entry("profiles.remove_profiles", "remove profiles, or a provider with its credentials"),
    "advise": Entry("profiles.advise", "compare what both ends can negotiate with what they should, and say why"),
    "choose": Entry("profiles.choose", "change a profile's algorithms and how its gateway is reached"),
    "rehearse": Entry("tunnel.rehearse", "try profiles for real without changing this machine, and compare them"),
    "connect": Entry("tunnel.connect", "bring a tunnel up"),
    "status": Entry("tunnel.status", "show whether a tunnel is up, and its counters"),
    "verify": Entry("tunnel.verify", "check from outside that nothing leaks"),
    "disconnect": Entry("tunnel.disconnect", "end the tunnel and restore this machine's settings"),
    "restore": Entry("tunnel.restore", "restore this machine's settings after a crash"),
    "explain": Entry("kits.explain", "explain the code of a finding or error, and what to do"),
    "seal": Entry("credentials.seal", "choose what the stored secrets are encrypted with"),
    "observatory": Entry("lab.observatory", "run an observatory: a server that reports what it sees of its clients"),
    "completion": Entry("completion", "print completion of commands, options and names for the shell"),
    "lab": Entry("lab.lab", "run the simulated internet that ships with the program"),
    "demo": Entry("lab.demo", "run a full example on demo data, from kit to verdict"),
}
"""In the order of the work."""
