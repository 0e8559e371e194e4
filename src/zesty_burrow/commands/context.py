"""What commands are given: places, time, store, reporter."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import dataclass, field
from datetime import UTC, datetime
from getpass import GetPassWarning, getpass
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.errors import SealError
from zesty_burrow.host.paths import Paths, Settings, read_settings

if TYPE_CHECKING:
    from zesty_burrow.report.reporter import Reporter
    from zesty_burrow.store.seal import Seal
    from zesty_burrow.store.store import Store


@dataclass(frozen=True)
class Context:
    """``paths`` where things lie; ``reporter`` for what happens along the way; ``program`` the command line's main."""

    paths: Paths
    environment: Mapping[str, str]
    reporter: Reporter
    passphrase_file: Path | None = None
    program: Callable[[list[str]], int] = field(default=lambda _: 1)

    def now(self) -> datetime:
        """The time, with its zone."""
        return datetime.now(UTC)

    def settings(self) -> Settings:
        """The settings file."""
        return read_settings(self.paths.settings)

    def store(self) -> closing[Store]:
        """The store, to be used in a ``with`` block. Loads SQLAlchemy."""
        from zesty_burrow.store.store import Store, sqlite_url

        settings = self.settings()
        url = settings.store or sqlite_url(self.paths.store)
        return closing(Store(url, lambda: self.seal(settings.seal), lambda: self.now().strftime("%Y-%m-%dT%H:%M:%SZ")))

    def seal(self, method: str) -> Seal:
        """The seal by a method's name."""
        from zesty_burrow.store import seal

        self.paths.make(self.paths.data)
        if method == "key-file":
            return seal.Seal(seal.key_from_file(self.paths.data / "seal.key"))
        if method == "keyring":
            return seal.Seal(seal.key_from_keyring())
        if method == "passphrase":
            return seal.Seal(seal.key_from_passphrase(self.paths.data / "seal.salt", self._passphrase))
        raise SealError(
            f"seal method {method!r} is not known",
            why=f"there are {', '.join(seal.METHODS)}",
            next_step=f"Correct `seal` in {self.paths.settings}.",
        )

    def _passphrase(self) -> str:
        return self.ask_passphrase("Passphrase of the store: ")

    def ask_passphrase(self, question: str, *, confirm: bool = False) -> str:
        """From the file that was named, else asked for without echo; ``confirm`` asks twice."""
        if self.passphrase_file is not None:
            passphrase = self._passphrase_from_file(self.passphrase_file)
        elif not sys.stdin.isatty():
            raise SealError(
                "the passphrase cannot be asked for",
                why="there is no terminal",
                next_step="Name a file that holds it: --passphrase-file FILE",
            )
        else:
            try:
                passphrase = getpass(question)
                if confirm and getpass("The same again: ") != passphrase:
                    raise SealError("the two passphrases differ", next_step="Try again.")
            except (EOFError, GetPassWarning):
                passphrase = ""
        if not passphrase:
            raise SealError("no passphrase was given")
        return passphrase

    @staticmethod
    def _passphrase_from_file(path: Path) -> str:
        from zesty_burrow.host.files import read_bounded

        data, mode = read_bounded(path, 4096)
        if mode & 0o077:
            raise SealError(
                f"the passphrase file {path} is open to others",
                why=f"its mode is {mode:04o}",
                next_step=f"chmod 600 {path}",
            )
        return data.decode("utf-8", "replace").rstrip("\r\n")
