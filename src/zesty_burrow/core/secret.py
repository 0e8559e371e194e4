"""A value that never shows itself."""

from __future__ import annotations


class Secret:
    """Octets that stay out of logs, traces and errors; :meth:`text` and :meth:`octets` are the only ways to them."""

    __slots__ = ("_octets",)

    def __init__(self, value: str | bytes) -> None:
        self._octets = value.encode() if isinstance(value, str) else bytes(value)

    def text(self) -> str:
        """The octets as UTF-8 text."""
        return self._octets.decode()

    def octets(self) -> bytes:
        """The octets themselves."""
        return self._octets

    def __repr__(self) -> str:
        return "Secret(…)"

    __str__ = __repr__

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other._octets == self._octets

    def __hash__(self) -> int:
        return hash(self._octets)
