"""What ``inspect`` and ``import`` share: reading the kits that were named."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.host.files import read_members, read_standard_input
from zesty_burrow.intake.kit import Kit, read_kit


def read_kits(paths: Sequence[Path], provider: str, context: Context) -> tuple[Kit, ...]:
    """All kits, or the first error; nothing is taken before all of them were read."""
    kits = []
    for path in paths:
        members, beside = read_standard_input() if str(path) == "-" else read_members(path)
        origin = "standard input" if str(path) == "-" else path.name or str(path)
        kits.append(
            read_kit(
                origin,
                members,
                context.now(),
                provider=provider,
                neighbour=beside,
                ask=context.ask_passphrase,
            )
        )
    return tuple(kits)
