"""Session keys for an analyser, written only where the user asked for them."""

from __future__ import annotations

from pathlib import Path

from zesty_burrow.errors import Clash
from zesty_burrow.store.seal import write_private


def write_key_file(path: Path, text: str) -> None:
    """Readable by its owner only; never over another file."""
    try:
        write_private(path, text.encode())
    except FileExistsError:
        raise Clash(f"the key file {path} exists already", next_step="Name another file.") from None
