"""One module a command: ``add_arguments(parser)`` and ``run(args, context) -> Result``. Loaded when it is called."""

from __future__ import annotations

from typing import NamedTuple


class Entry(NamedTuple):
    """A command's module and its line in the overview."""

    module: str
    summary: str


COMMANDS: dict[str, Entry] = {
    "inspect": Entry("inspect_kit", "say what is in a provider's kit; changes nothing"),
    "import": Entry("import_kit", "take a kit's profiles and credentials into the store"),
    "create": Entry("create", "set a profile up from scratch, guided"),
    "portal": Entry("portal", "look at a provider's portal: its places, and what it recommends"),
    "list": Entry("list_profiles", "list profiles, all or those that match some words"),
    "show": Entry("show_profile", "show one profile, and which credentials it uses"),
    "tag": Entry("tag_profiles", "give profiles words of your own, to find them by"),
    "rename": Entry("rename_profile", "give a profile another name"),
    "credentials": Entry("credentials", "list, change, forget or try names, passwords and keys"),
    "export": Entry("export_profiles", "write profiles to a file or an archive that can be imported again"),
    "remove": Entry("remove_profiles", "remove profiles, or a provider with its credentials"),
    "advise": Entry("advise", "say what each end can do, what would be negotiated, what should be, and why"),
    "choose": Entry("choose", "change a profile's algorithms and how it reaches its gateway"),
    "rehearse": Entry("rehearse", "go through profiles for real, without touching this machine, and compare them"),
    "connect": Entry("connect", "bring a tunnel up"),
    "status": Entry("status", "say whether a tunnel is up, and how it does"),
    "verify": Entry("verify", "observe what the outside sees, and judge"),
    "disconnect": Entry("disconnect", "end the tunnel and put this machine back"),
    "restore": Entry("restore", "put this machine back after a crash"),
    "explain": Entry("explain", "say what a finding's or error's code means and what to do"),
    "seal": Entry("seal", "choose what the stored secrets are sealed with"),
    "observatory": Entry("observatory", "run an observatory, the outside's eye"),
    "completion": Entry("completion", "let the shell complete commands, options and names"),
    "lab": Entry("lab", "run the simulated internet that ships with the program"),
    "demo": Entry("demo", "show all of it on demo data, from kit to verdict"),
}
"""In the order of the work."""
