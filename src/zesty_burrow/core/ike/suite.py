"""What two sides agreed on, by IANA numbers."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Suite:
    """What was negotiated for an IKE SA or, with ``prf`` and ``group`` 0, for a child SA: IANA numbers.

    ``extra``: an additional key exchange (RFC 9370).
    """

    encryption: int
    key_bits: int
    integrity: int = 0
    prf: int = 0
    group: int = 0
    esn: int = 0
    extra: int = 0
