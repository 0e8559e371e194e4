"""Format 1 of the tunnel profile, in which what is IKEv2's own was among what every protocol has."""

from __future__ import annotations

from typing import Any

FORMAT = 1
_MOVED = {
    ("gateway", "port"): "port",
    ("gateway", "identity"): "gateway_identity",
    ("tunnel", "transport"): "transport",
    ("tunnel", "child_seconds"): "child_seconds",
    ("tunnel", "child_octets"): "child_octets",
    ("tunnel", "ike_seconds"): "ike_seconds",
    ("sign_in", "identity"): "own_identity",
    ("sign_in", "outer_identity"): "outer_identity",
    ("sign_in", "additional_key"): "additional_key",
    ("algorithms", "ike"): "ike",
    ("algorithms", "esp"): "esp",
}
"""Where each key was, and what it is called in the table ``ikev2`` of format 2."""


def converted(document: dict[str, Any]) -> dict[str, Any]:
    """A document of format 1 as format 2 has it, without ``format``. What is not ours stays where it is."""
    found = {label: dict(value) if isinstance(value, dict) else value for label, value in document.items()}
    own = found.get("ikev2")
    moved: dict[str, Any] = dict(own) if isinstance(own, dict) else {}
    for (label, key), name in _MOVED.items():
        table = found.get(label)
        if isinstance(table, dict) and key in table:
            moved[name] = table.pop(key)
    tunnel = found.get("tunnel")
    if isinstance(tunnel, dict) and "clamp_segment_size" in tunnel:
        tunnel["clamp_tcp_mss"] = tunnel.pop("clamp_segment_size")
    if not found.get("algorithms", True):
        del found["algorithms"]
    if moved:
        found["ikev2"] = moved
    return found
