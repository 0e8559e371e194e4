"""Where use cases work: the user's paths, settings and stores, and who can be asked."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from contextlib import closing

from zesty_burrow.errors import RightsMissing, SealError
from zesty_burrow.host.paths import (
    HOME_VARIABLE,
    Paths,
    SettingsFile,
    find_paths,
    machine_paths,
    may_write,
    read_settings,
    running_as_root,
)
from zesty_burrow.records import dataclass, replace

TYPE_CHECKING = False  # `typing` takes as long to load as all of this; the name alone of the program needs it not
if TYPE_CHECKING:
    from datetime import datetime
    from pathlib import Path

    from zesty_burrow.core.policy.policy import Policy
    from zesty_burrow.intake.readers.vocabulary import Vocabulary
    from zesty_burrow.store.database import Database
    from zesty_burrow.store.layered_store import LayeredStore
    from zesty_burrow.store.rows import ProfileRow
    from zesty_burrow.store.seal import Seal
    from zesty_burrow.store.store import Store
    from zesty_burrow.use_cases.interaction import Interaction


CALLER_VARIABLE = "SUDO_UID"
"""In which sudo tells who has called it."""


@dataclass(frozen=True)
class Workspace:
    """``paths``: the user's own files; ``machine``: those that every user of this machine may use. ``caller``: the
    number of the user who has called this program with sudo, as sudo tells it; empty otherwise. ``machine_alone``: that
    user's own store is not to be read.
    """

    paths: Paths
    machine: Paths
    interaction: Interaction
    passphrase_file: Path | None = None
    caller: str = ""
    machine_alone: bool = False

    @classmethod
    def of_user(cls, environment: Mapping[str, str], interaction: Interaction | None = None) -> Workspace:
        """The workspace that ``zesty`` uses with this environment, usually ``os.environ``."""
        from zesty_burrow.use_cases.interaction import Unattended

        paths = find_paths(environment, root=running_as_root())
        told = environment.get(CALLER_VARIABLE, "")
        return cls(paths, machine_paths(environment), interaction or Unattended(), caller=told)

    @classmethod
    def in_folder(cls, folder: Path, interaction: Interaction | None = None) -> Workspace:
        """A workspace with all its files below one folder."""
        return cls.of_user({HOME_VARIABLE: str(folder)}, interaction)

    def callers_paths(self) -> Paths | None:
        """Where the user who has called root's program with sudo has their own files; None without sudo."""
        if not (self.paths.shared and self.caller.isascii() and self.caller.isdecimal() and int(self.caller)):
            return None
        if os.geteuid() != 0 or self.machine_alone:
            return None
        import pwd

        try:
            home = pwd.getpwuid(int(self.caller)).pw_dir
        except (KeyError, OverflowError):
            return None
        return find_paths({"HOME": home}, root=False, whom="me")

    def now(self) -> datetime:
        """The time, with its zone."""
        from datetime import UTC, datetime

        return datetime.now(UTC)

    def settings(self) -> SettingsFile:
        """The settings file. Raises :class:`InputError` with the key that is wrong.

        Root's program that a user has called with sudo takes that user's observatories where the machine has none.
        """
        settings = read_settings(self.paths.settings)
        own = None if settings.observatory else self.callers_paths()
        if own is None:
            return settings
        from zesty_burrow.use_cases.owners_store import with_rights_of

        path = own.settings
        try:
            theirs = with_rights_of(lambda: read_settings(path), int(self.caller))
        except PermissionError:
            # A home that its own user cannot enter, as after a chain of calls: nothing is read for them.
            return settings
        names = ("observatory", "observatory_key", "observatory_authority")
        return replace(settings, **{name: getattr(theirs, name) for name in names})

    def device(self) -> str:
        """This machine's name among the user's devices: from the settings, else the host name."""
        return self.settings().device or os.uname().nodename.partition(".")[0]

    def policy(self) -> Policy:
        """The organisation's policy: the file that the settings name, else ``policy.toml``, else the default."""
        from pathlib import Path

        from zesty_burrow.core.policy.policy import DEFAULT

        named = self.settings().policy
        path = Path(named) if named else self.paths.settings.with_name("policy.toml")
        if not named and not path.exists():
            return DEFAULT
        from zesty_burrow.host.files import read_bounded
        from zesty_burrow.profiles.policy import read_policy

        data, _ = read_bounded(path, 1 << 16)
        return read_policy(data.decode("utf-8", "replace"), str(path))

    def words(self) -> Vocabulary:
        """Labels on sheets: the shipped languages, and the user's ``words.toml`` beside the settings."""
        from zesty_burrow.intake.readers.vocabulary import shipped, with_own_words

        path = self.paths.settings.with_name("words.toml")
        if not path.exists():
            return shipped()
        from zesty_burrow.host.files import read_bounded

        data, _ = read_bounded(path, 1 << 18)
        return with_own_words(data.decode("utf-8", "replace"), str(path))

    def store(self) -> closing[Store]:
        """The store that is changed, to be used in a ``with`` block. Raises :class:`RightsMissing`."""
        return closing(self._writable())

    def has_store(self) -> bool:
        """Whether there is anything to read yet."""
        return bool(self.settings().store) or self.paths.store.exists()

    def _writable(self) -> Store:
        from zesty_burrow.store.database import SqliteDatabase, open_database

        if self.paths.shared and not may_write(self.paths.data):
            raise RightsMissing(
                "the machine's store cannot be changed",
                why=f"{self.paths.data} belongs to root; every user may only read it",
                next_step="Run the command as root; or leave out --for machine to use your own store.",
            )
        mode = 0o600
        if self.paths.shared:
            self.paths.make(self.paths.data)
            mode = 0o644
        url = self.settings().store
        return self._open(open_database(url) if url else SqliteDatabase(self.paths.store, mode))

    def _open(self, database: Database) -> Store:
        from zesty_burrow.store.store import Store

        method = self.settings().seal
        return Store(
            database,
            lambda store: self.seal(method, store),
            lambda: self.now().strftime("%Y-%m-%dT%H:%M:%SZ"),
            lambda: f"{_user_name(self.caller)} at {self.device()}",
        )

    def layered_store(self) -> LayeredStore:
        """The user's own store and the machine's, read as one, in a ``with`` block. Creates neither."""
        from zesty_burrow.store.layered_store import LayeredStore
        from zesty_burrow.store.rows import MACHINE, OWN

        stores = {MACHINE if self.paths.shared else OWN: self._readable()} if self.has_store() else {}
        machine = replace(self, paths=self.machine)
        if not self.paths.shared and os.access(machine.paths.store, os.R_OK):
            stores[MACHINE] = machine._readable()
        own = self.callers_paths()
        if own is not None:
            self._add_callers(stores, own)
        return LayeredStore(stores)

    def _add_callers(self, stores: dict[str, Store], own: Paths) -> None:
        """The store of the user who has called root's program with sudo, where they have one."""
        from zesty_burrow.use_cases.owners_store import owners_store, with_rights_of

        theirs, user = replace(self, paths=own), int(self.caller)
        try:
            there = with_rights_of(lambda: read_settings(own.settings).store != "" or own.store.exists(), user)
        except PermissionError:
            return
        if there:
            stores[_name_of(user)] = owners_store(theirs._readable, user)

    def list_profiles(self, words: Sequence[str] = (), **where: str) -> list[tuple[str, ProfileRow]]:
        """Whose store it is in and the row, of each profile that matches."""
        with self.layered_store() as layered_store:
            return layered_store.list_profiles(words, **where)

    def _readable(self) -> Store:
        """This workspace's store; read-only if another user owns it."""
        if self.paths.store.exists() and not os.access(self.paths.store, os.W_OK) and not self.settings().store:
            from zesty_burrow.store.database import SqliteDatabase

            return self._open(SqliteDatabase(self.paths.store, read_only=True))
        return self._writable()

    def seal(self, method: str, store: Store) -> Seal:
        """The seal of a store by a method's name. A shared store holds its own salt. Raises :class:`SealError`."""
        from zesty_burrow.store import seal

        self.paths.make(self.paths.data)
        if method == "key-file":
            return seal.Seal(seal.key_from_file(self.paths.data / "seal.key"))
        if method == "keyring":
            return seal.Seal(seal.key_from_keyring())
        if method == "passphrase":
            shared = bool(self.settings().store)
            salt = store.shared_salt() if shared else seal.salt_from_file(self.paths.data / "seal.salt")
            return seal.Seal(seal.key_from_passphrase(salt, self._passphrase))
        raise SealError(
            f"seal method {method!r} is not known",
            why=f"the methods are {', '.join(seal.METHODS)}",
            next_step=f"Correct `seal` in {self.paths.settings}.",
        )

    def _passphrase(self) -> str:
        return self.ask_passphrase("Passphrase of the store: ", self.passphrase_file)

    def ask_passphrase(self, question: str, file: Path | None, *, confirm: bool = False, slug: str = "seal") -> str:
        """From a file that was named, else asked for; ``confirm`` asks twice. Raises :class:`SealError`."""
        if file is not None:
            passphrase = _passphrase_from_file(file)
        elif not self.interaction.can_ask_secret:
            raise SealError(
                "the passphrase cannot be asked for",
                why="there is no terminal",
                next_step="Name a file that holds it: --passphrase-file FILE (for a kit's: --kit-passphrase-file)",
                slug=slug,
            )
        else:
            passphrase = self.interaction.ask_secret(question)
            if passphrase and confirm and self.interaction.ask_secret("The same again: ") != passphrase:
                raise SealError("the two passphrases differ", next_step="Try again.")
        if not passphrase:
            raise SealError("no passphrase was given", slug=slug)
        return passphrase


def _user_name(caller: str) -> str:
    """Who runs this program; as root, with its caller."""
    own = _name_of(os.getuid())
    by_sudo = os.getuid() == 0 and caller.isascii() and caller.isdigit() and int(caller) != 0
    return f"{_name_of(int(caller))} as {own}" if by_sudo else own


def _name_of(user: int) -> str:
    import pwd

    try:
        return pwd.getpwuid(user).pw_name
    except (KeyError, OverflowError):
        return str(user)


def _passphrase_from_file(path: Path) -> str:
    from zesty_burrow.host.files import read_bounded

    data, mode = read_bounded(path, 4096)
    if mode & 0o077:
        raise SealError(
            f"other users can read the passphrase file {path}",
            why=f"its mode is {mode:04o}",
            next_step=f"Run `chmod 600 {path}`.",
        )
    return data.decode("utf-8", "replace").rstrip("\r\n")
