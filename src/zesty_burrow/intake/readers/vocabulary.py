"""The words that people use on set-up sheets, in mails and in tables, and what each of them means to us.

To extend it, add a phrase to a row. Labels are compared without case, punctuation and filling words; what is not
understood is reported, never dropped silently.
"""

from __future__ import annotations

import re
from enum import StrEnum


class Field(StrEnum):
    """What a label can mean. The load of a gateway is understood and changes all the time: it is not kept."""

    HOST = "host"
    NAME = "name"
    PROVIDER = "provider"
    COUNTRY = "country"
    CITY = "city"
    PROTOCOL = "protocol"
    IDENTITY = "identity"
    ACCOUNT = "account"
    PASSWORD = "password"  # noqa: S105  (a label, not a password)
    DOMAIN = "domain"
    NAME_SERVER = "name server"
    SUFFIX = "suffix"
    NETWORKS = "networks"
    ALL_TRAFFIC = "all traffic"
    IPV6 = "IPv6"
    MTU = "MTU"
    SHARED_SECRET = "shared secret"  # noqa: S105
    NETBIOS = "NetBIOS name server"
    EVERYBODY = "others on this machine"
    LOAD = "load"
    SIGN_IN = "sign-in"
    EDITION = "edition"


PHRASES: dict[Field, str] = {
    Field.HOST: "host|host name|hostname|host name or ip address|server|server name|server address|gateway"
    "|gateway address|address|ip|ip address|remote host|remote address|vpn server|vpn gateway|internet address",
    Field.NAME: "name|connection|connection name|profile|profile name|title|label",
    Field.PROVIDER: "provider|company|operator|organisation|organization",
    Field.COUNTRY: "country|country code|land",
    Field.CITY: "city|town|place|location",
    Field.PROTOCOL: "protocol|type|vpn type|connection type|tunnel type",
    Field.IDENTITY: "identity|gateway identity|remote identity|remote id|server identity",
    Field.ACCOUNT: "user|user name|username|account|account name|login|login name|sign in name",
    Field.PASSWORD: "password|pass word|passphrase|pass phrase|secret word",
    Field.DOMAIN: "domain|login domain|logon domain|account domain",
    Field.NAME_SERVER: "name server|name servers|first name server|second name server|third name server|dns|dns server"
    "|dns servers|first dns|second dns|first dns server|second dns server|primary dns|secondary dns|resolver|resolvers",
    Field.SUFFIX: "suffix|suffixes|search suffix|dns suffix|search domain|search domains|dns domain",
    Field.NETWORKS: "network|networks|office network|office networks|remote network|remote networks|internal network",
    Field.ALL_TRAFFIC: "all traffic|send all traffic|everything|all traffic through|all traffic goes through",
    Field.IPV6: "ipv6",
    Field.MTU: "mtu",
    Field.SHARED_SECRET: "shared secret|shared key|pre shared key|preshared key|secret key",
    Field.NETBIOS: "netbios|netbios name server|netbios name servers|first netbios name server"
    "|second netbios name server",
    Field.EVERYBODY: "others|other people|others on this machine|all users|for all users|everybody on this machine",
    Field.LOAD: "load|usage",
    Field.SIGN_IN: "sign in|sign in method|authentication|authentication method|method",
    Field.EDITION: "edition|version of the settings|issued|valid from|date of issue",
}

_MEANING = {phrase: field for field, row in PHRASES.items() for phrase in row.split("|")}
_FILLING = frozenset({"the", "your", "our", "a", "of", "is", "to", "for", "use", "this", "please", "enter"})
_YES = frozenset({"yes", "y", "true", "on", "1", "all"})
_NO = frozenset({"no", "n", "false", "off", "0", "none"})


def meaning(label: str) -> Field | None:
    """What a label means, or None."""
    words = re.sub(r"[^a-z0-9]+", " ", label.casefold()).split()
    for candidate in (words, [word for word in words if word not in _FILLING]):
        field = _MEANING.get(" ".join(candidate))
        if field is not None:
            return field
    return None


def yes_or_no(text: str) -> bool | None:
    """A yes or a no in people's words, or None."""
    word = text.strip().casefold().rstrip(".!")
    return True if word in _YES else False if word in _NO else None
