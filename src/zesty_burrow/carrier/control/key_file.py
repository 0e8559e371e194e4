"""Session keys for an analyser, written only where the user asked for them."""

from __future__ import annotations

import logging
import os
from pathlib import Path

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.errors import Clash
from zesty_burrow.protocols.session import Session
from zesty_burrow.store.seal import write_private

log = logging.getLogger(__name__)


class KeyFile:
    """A file of the tunnel's own, readable by its owner only; made once, never over another file.

    A tunnel that comes back adds its new keys to it. Without a path nothing is written.
    """

    def __init__(self, path: Path | None) -> None:
        if path is not None and path.exists():
            raise Clash(f"the key file {path} exists already", next_step="Name another file.")
        self._path = path
        self._made = False

    def add(self, session: Session) -> None:
        """The keys of one session. Where later ones cannot be written, the tunnel goes on."""
        if self._path is None:
            return
        text = session.exported_keys()
        if not self._made:
            try:
                write_private(self._path, text.encode())
            except FileExistsError:
                raise Clash(f"the key file {self._path} exists already", next_step="Name another file.") from None
            self._made = True
            return
        try:
            descriptor = os.open(self._path, os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC)
            with os.fdopen(descriptor, "ab") as stream:
                stream.write(text.encode())
        except OSError as problem:
            note(log, logging.WARNING, "keys not exported", file=str(self._path), why=problem.strerror)
