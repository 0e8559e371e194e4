"""The observatories that are asked: those of the settings, or one that is named."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.errors import UsageError
from zesty_burrow.observe.channel import ObservatoryAddress

if TYPE_CHECKING:
    from zesty_burrow.use_cases.workspace import Workspace


def observatories(workspace: Workspace, named: str = "") -> list[ObservatoryAddress]:
    """``named``: a URL in place of those of the settings; it keeps the key that the settings have for it. Empty where
    none is known. Raises :class:`UsageError` for what is no address, :class:`InputError` for wrong settings.
    """
    settings = workspace.settings()
    urls, keys = settings.observatory.split(), settings.observatory_key.split()
    if len(keys) > len(urls):
        raise UsageError(
            "the settings have more keys than observatories",
            why=f"{len(keys)} and {len(urls)}",
            next_step="observatory_key holds a key for each URL of observatory, in the same order.",
        )
    known = {url.rstrip("/"): key for url, key in zip(urls, keys, strict=False)}
    wanted = named.split() or urls
    return [
        ObservatoryAddress.of(url, known.get(url.rstrip("/"), ""), settings.observatory_authority) for url in wanted
    ]
