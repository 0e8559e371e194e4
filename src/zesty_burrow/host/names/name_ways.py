"""Read who is asked for names on this machine: the C library's files, forwarders, proxies, browsers' encrypted
resolvers.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

from zesty_burrow.host.names.resolv_conf import MAX_FILE, RESOLV_CONF, servers_in, suffixes_in, word_lines
from zesty_burrow.host.names.resolved import NSSWITCH, STUBS

HOSTS = Path("/etc/hosts")
UPLINKS = Path("/run/systemd/resolve/resolv.conf")
"""Where systemd-resolved lists the servers of all links (systemd-resolved.service(8))."""
PROXY_VARIABLES = ("http_proxy", "https_proxy", "all_proxy", "ftp_proxy", "socks_proxy")
USUAL_HOSTS = frozenset(
    {"localhost", "ip6-localhost", "ip6-loopback", "ip6-allnodes", "ip6-allrouters", "broadcasthost"}
)
MOST_HOSTS, MOST_FILES = 64, 32
BROWSER_POLICIES = ("/etc/chromium/policies/managed/*.json", "/etc/opt/*/policies/managed/*.json")
BROWSER_STATES = (".config/*/Local State", ".config/*/*/Local State")
BROWSER_PREFERENCES = (".mozilla/*/*/prefs.js", ".mozilla/*/*/user.js")
PREFERENCE = re.compile(r'user_pref\("network\.trr\.(mode|uri|custom_uri)",\s*"?([^")]{1,200})"?\)')


class ServerNamed(NamedTuple):
    """An address, and where it is named."""

    address: str
    source: str


class ProxyNamed(NamedTuple):
    """A proxy in the environment; ``host`` may be a name."""

    variable: str
    host: str
    port: int


def _read(path: Path) -> bytes:
    with suppress(OSError), path.open("rb") as file:
        return file.read(MAX_FILE)
    return b""


def servers_named(resolv_conf: Path = RESOLV_CONF, uplinks: Path = UPLINKS) -> tuple[ServerNamed, ...]:
    """The C library's name servers; behind systemd-resolved's stub also those that it asks."""
    own = servers_in(_read(resolv_conf))
    rows = [ServerNamed(str(server), str(resolv_conf)) for server in own]
    if any(server in STUBS for server in own):
        rows += [ServerNamed(str(server), str(uplinks)) for server in servers_in(_read(uplinks))]
    return tuple(dict.fromkeys(rows))


def suffixes_named(resolv_conf: Path = RESOLV_CONF) -> tuple[str, ...]:
    return suffixes_in(_read(resolv_conf))


def lookup_order(nsswitch: Path = NSSWITCH) -> tuple[str, ...]:
    """The sources for hosts, in their order (nsswitch.conf(5)); what is done by answer left out."""
    for words in word_lines(_read(nsswitch)):
        if words[0] == "hosts:":
            return tuple(word for word in words[1:] if not word.startswith("["))
    return ("files", "dns")


def hosts_named(hosts: Path = HOSTS, own: str = "") -> tuple[tuple[str, str], ...]:
    """Names that the file answers, with their addresses: without those that every machine has, and its own."""
    rows: list[tuple[str, str]] = []
    for words in word_lines(_read(hosts)):
        with suppress(ValueError):
            address = ip_address(words[0])
            if address.is_loopback and any(name in USUAL_HOSTS or name == own for name in words[1:]):
                continue
            rows += [(name.lower(), str(address)) for name in words[1:] if name not in USUAL_HOSTS and name != own]
    return tuple(rows[:MOST_HOSTS])


def proxies_named(environment: Mapping[str, str]) -> tuple[ProxyNamed, ...]:
    """Programs that read these variables send their requests to the proxy."""
    rows = []
    for name in PROXY_VARIABLES:
        value = environment.get(name) or environment.get(name.upper()) or ""
        with suppress(ValueError):
            parts = urlsplit(value if "//" in value else f"//{value}")
            if parts.hostname:
                rows.append(ProxyNamed(name, parts.hostname, parts.port or 80))
    return tuple(dict.fromkeys(rows))


def browser_resolvers(home: Path, root: Path = Path("/")) -> tuple[tuple[str, str], ...]:
    """Files of browsers that name an encrypted resolver, and what they say. What they decide while they run is in no
    file.
    """
    rows = [*_from_policies(root), *_from_states(home), *_from_preferences(home)]
    return tuple(dict.fromkeys(rows))[:MOST_FILES]


def _files(folder: Path, patterns: Iterable[str]) -> Iterator[Path]:
    for pattern in patterns:
        with suppress(OSError):
            yield from sorted(folder.glob(pattern.lstrip("/")))[:MOST_FILES]


def _from_policies(root: Path) -> Iterator[tuple[str, str]]:
    for path in _files(root, BROWSER_POLICIES):
        with suppress(ValueError, RecursionError):
            known = json.loads(_read(path))
            if isinstance(known, dict) and known.get("DnsOverHttpsMode", "off") != "off":
                yield str(path), str(known.get("DnsOverHttpsTemplates", "") or known["DnsOverHttpsMode"])[:200]


def _from_states(home: Path) -> Iterator[tuple[str, str]]:
    for path in _files(home, BROWSER_STATES):
        with suppress(ValueError, RecursionError):
            known = json.loads(_read(path))
            chosen = known.get("dns_over_https", {}) if isinstance(known, dict) else {}
            if isinstance(chosen, dict) and chosen.get("mode", "off") not in ("off", ""):
                yield str(path), str(chosen.get("templates") or chosen["mode"])[:200]


def _from_preferences(home: Path) -> Iterator[tuple[str, str]]:
    for path in _files(home, BROWSER_PREFERENCES):
        known = dict(PREFERENCE.findall(_read(path).decode("utf-8", "replace")))
        if known.get("mode", "0") in ("2", "3"):
            yield str(path), known.get("custom_uri") or known.get("uri") or f"mode {known['mode']}"
