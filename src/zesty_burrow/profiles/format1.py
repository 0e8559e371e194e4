"""Format 1 of the tunnel profile, which knew one protocol; its keys were among those that every protocol has."""

from __future__ import annotations

from typing import Any, cast

from zesty_burrow.protocols import registry

FORMAT = 1


def _moved() -> dict[tuple[str, str], str]:
    """Where each key was, and what it is called in the protocol's table of format 2."""
    return cast(dict[tuple[str, str], str], registry.facet(registry.DEFAULT, "format1"))


def converted(document: dict[str, Any]) -> dict[str, Any]:
    """A document of format 1 as format 2 has it, without ``format``. What is not ours stays where it is."""
    found = {label: dict(value) if isinstance(value, dict) else value for label, value in document.items()}
    own = found.get(registry.DEFAULT)
    moved: dict[str, Any] = dict(own) if isinstance(own, dict) else {}
    for (label, key), name in _moved().items():
        table = found.get(label)
        if isinstance(table, dict) and key in table:
            moved[name] = table.pop(key)
    tunnel = found.get("tunnel")
    if isinstance(tunnel, dict) and "clamp_segment_size" in tunnel:
        tunnel["clamp_tcp_mss"] = tunnel.pop("clamp_segment_size")
    if not found.get("algorithms", True):
        del found["algorithms"]
    if moved:
        found[registry.DEFAULT] = moved
    return found
