"""Identities as IKE carries them (RFC 7296 §3.5). Light to load: every profile has one."""

from __future__ import annotations

import ipaddress
from enum import IntEnum

from zesty_burrow.records import dataclass

ANY_MORE = ",*"


class IdType(IntEnum):
    """RFC 7296 §3.5."""

    ID_IPV4_ADDR = 1
    ID_FQDN = 2
    ID_RFC822_ADDR = 3
    ID_IPV6_ADDR = 5
    ID_DER_ASN1_DN = 9
    ID_DER_ASN1_GN = 10
    ID_KEY_ID = 11


@dataclass(frozen=True, slots=True)
class Identity:
    """An IKE identity (RFC 7296 §3.5): the type by its IANA name, the value as people write it.

    A distinguished name that ends in ``,*`` stands for every name that holds its parts (RFC 4945 §3.1.5).
    """

    type: IdType
    value: str

    @property
    def is_pattern(self) -> bool:
        """Whether it stands for many."""
        return self.type == IdType.ID_DER_ASN1_DN and self.value.endswith(ANY_MORE)

    def octets(self) -> bytes:
        """The identification data; of a pattern that of its parts."""
        if self.type in (IdType.ID_IPV4_ADDR, IdType.ID_IPV6_ADDR):
            return ipaddress.ip_address(self.value).packed
        if self.type == IdType.ID_DER_ASN1_DN:
            from cryptography import x509

            return x509.Name.from_rfc4514_string(self.value.removesuffix(ANY_MORE)).public_bytes()
        return self.value.encode()

    @classmethod
    def of(cls, value: str) -> Identity:
        """The identity that a gateway's address suggests."""
        try:
            address = ipaddress.ip_address(value)
        except ValueError:
            return cls(IdType.ID_FQDN, value)
        return cls(IdType.ID_IPV4_ADDR if address.version == 4 else IdType.ID_IPV6_ADDR, value)
