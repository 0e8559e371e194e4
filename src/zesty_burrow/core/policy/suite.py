"""What two sides agreed on, by IANA numbers."""

from __future__ import annotations

from zesty_burrow.core.policy.algorithms import TransformType, describe
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Suite:
    """What was negotiated for an IKE SA or, with ``prf`` and ``group`` 0, for a child SA: IANA numbers.

    ``extra``: an additional key exchange (RFC 9370). ``name``: what the protocol itself calls its parts.
    """

    encryption: int
    key_bits: int
    integrity: int = 0
    prf: int = 0
    group: int = 0
    esn: int = 0
    extra: int = 0
    name: str = ""

    def __str__(self) -> str:
        """The algorithms by their IANA names."""
        if self.name:
            return self.name
        parts = [describe(TransformType.ENCR, self.encryption, self.key_bits)]
        for kind, number in (
            (TransformType.INTEG, self.integrity),
            (TransformType.PRF, self.prf),
            (TransformType.KE, self.group),
            (TransformType.ADDKE1, self.extra),
        ):
            if number:
                parts.append(describe(kind, number))
        if self.esn:
            parts.append(describe(TransformType.ESN, self.esn))
        return ", ".join(parts)
