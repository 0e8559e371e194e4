"""Who is who in the lab: hosts, links, addresses, operators, places. Values only.

Tidewrack Survey's workstation ``heron`` is in a cottage in Slovenia behind the internet provider Cobblewire;
its exits come from the provider Quillwort Relay. Addresses are those of RFC 5737, RFC 3849 and RFC 1918.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import ip_network

from zesty_burrow.records import dataclass

PROVIDER = "Quillwort Relay"
DOMAIN = "quillwort.example"
ACCOUNT = "tidewrack_heron"
WORKSTATION = "heron"
OBSERVATORY_NAME = "observatory.example"
LINKS_NAME, LINKS_PORT = "links.tidewrack.example", 8443
LINKS_URL = f"https://{LINKS_NAME}:{LINKS_PORT}"
"""Where the administrator serves links; in the lab on the observatory's host."""
LINKS_AUTHORITY, LINKS_CERTIFICATE, LINKS_KEY = "links-authority.pem", "links.pem", "links.key"
"""In the lab's folder."""
PROBE_ZONE = "probe.observatory.example"
OBSERVATORY_URL = f"https://{OBSERVATORY_NAME}"
OBSERVATORY_KEY = "observatory-signing.pem"
ZONE_KEY = "observatory-zone-key.pem"
OBSERVATORY_AUTHORITY = "observatory-authority.pem"
"""In the lab's folder: what the observatory signs with, and the authority of its certificate."""

PORTAL_HOST = "portal"
PORTAL_NAME = f"portal.{DOMAIN}"
PORTAL_URL = f"https://{PORTAL_NAME}/"
PORTAL_ACCOUNT = "tidewrack@survey.example"
OFFICE_PROVIDER = "Tidewrack Survey"
OFFICE_NETWORK = "10.20.0.0/16"
OFFICE_RESOLVER, OFFICE_FILES = "10.20.0.53", "10.20.0.10"
OFFICE_SUFFIX = "office.tidewrack.example"
CALLERS_NETWORKS = (ip_network("10.99.0.0/16"), ip_network("fd99::/16"))
"""Of these an account may tell its gateway that they are behind it."""
OFFICE_ENCRYPTED_RESOLVER = f"resolver.{OFFICE_SUFFIX}"

FAULTS = {
    "expired-certificate": "its certificate has expired",
    "wrong-name": "its certificate is for another name",
    "untrusted-authority": "its certificate comes from an unknown authority",
    "refused-password": "it refuses every password",
    "silent": "it answers nothing",
    "weak-proposals": "it accepts only 3DES, SHA-1 and the 1024-bit MODP group",
    "leaking-resolver": "it hands out the internet provider's resolver",
    "no-ipv6": "it carries no IPv6",
    "grants-less": "it carries only 10.0.0.0/8",
    "redirects": "it sends its callers to itself by another message, as a group of gateways does (RFC 5685)",
    "redirects-away": "it sends its callers to a gateway that cannot prove to be this one",
    "short-sign-in": "it wants every sign-in to be repeated within eight seconds (RFC 4478)",
    "wrong-shared-key": "its key for L2TP over IPsec is another one",
    "asks-for-pap": "by L2TP it wants passwords as they are",
    "numbers-packets": "by L2TP it gives packets numbers (RFC 2661 §5.4)",
    "old-tls": "it speaks HTTP in TLS 1.2 alone, and so no QUIC",
    "no-http2": "it speaks HTTP/1.1 alone",
    "no-extended-connect": "its HTTP/2 has no extended CONNECT (RFC 8441)",
    "no-datagrams": "its QUIC takes no datagrams (RFC 9221)",
    "exit-elsewhere": "its exit is in another country than promised",
}
"""What a gateway of the lab can do wrong."""

PORTAL_FAULTS = {
    "wrong-name": "its certificate is for another name",
    "refused-password": "it refuses every password",
    "not-allowed": "it does not let this account in, and says whom to ask",
    "slow": "it answers slowly",
    "breaks-off": "each download breaks off half-way",
    "changed-kit": "each download breaks off, and the kit has changed afterwards",
}
"""What the provider's portal can do wrong."""

ROUTER = "cobblewire"
ROUTER_FAULTS = {
    "dhcp-routes": "hands out routes to 0.0.0.0/1 and 128.0.0.0/1 by DHCP (RFC 3442)",
    "rogue-resolver": "hands out a resolver by DHCP that answers every name with its own address",
    "advertised-routes": "advertises a route to 2000::/3 (RFC 4191)",
    "address-claims": "somebody on the local network claims the router's addresses (ARP, neighbour discovery)",
    "forged-too-big": 'somebody says "too big" (552 octets) to each large packet of a tunnel over IPv4',
    "captive-portal": "lets nobody out who has not signed in on its page",
    "udp-blocked": "lets no UDP out",
    "only-web": "lets nothing out but TCP to port 443",
    "resets": "a device on the way resets each TCP connection that says something",
    "only-proxy": "lets nothing out but by the provider's proxies",
    "proxy-sign-in": "the proxies want name and password",
    "proxy-refuses": "the proxies open no connection",
    "proxy-no-datagrams": "the SOCKS 5 proxy passes no datagrams on",
    "proxy-dies": "the proxies end every connection at once, once",
}
"""How the local network can turn hostile."""


OFFLINE, CLOCK_OFF = "offline", "clock-off"
DEVICE_FAULTS = {OFFLINE: "it is not in any network", CLOCK_OFF: "its clock is 400 days slow"}
"""What every device can do wrong."""
CLOCK_OFF_DAYS = -400

LAPTOP_FAULTS = {
    **DEVICE_FAULTS,
    "wrong-host-key": "its SSH host key is another one",
    "refuses": "it lets nobody in by SSH",
    "full-disk": "its disk is full",
}
"""What the laptop can do wrong."""

PHONE_FAULTS = {
    **DEVICE_FAULTS,
    "owner-says-no": "its owner agrees to nothing",
    "old-code": "its owner scans the code from before, not the new one",
    "opens-twice": "its owner opens each link twice",
    "lost": "it is lost; somebody who finds it opens the links that come, and sets nothing up",
}
"""What a phone, or its owner, can do wrong."""


@dataclass(frozen=True, slots=True)
class DeviceSite:
    """A device elsewhere, in a network of its own of the user's internet provider.

    ``last``: the last number of its address; ``part``: a part of its IPv6 prefix; ``faults``: what it can do wrong.
    """

    name: str
    last: int
    part: str
    region: str
    city: str
    faults: Mapping[str, str]

    @property
    def net4(self) -> str:
        return f"203.0.113.{self.last - 2}/28"

    @property
    def net6(self) -> str:
        """The same for IPv6."""
        return f"2001:db8:{self.part}::"

    @property
    def address4(self) -> str:
        return f"203.0.113.{self.last}"

    @property
    def address6(self) -> str:
        """The same for IPv6."""
        return f"{self.net6}{self.last}"


LAPTOP, PHONE, OLD_PHONE, BOX = "curlew", "plover", "dunlin", "shearwater"
DEVICES = (
    DeviceSite(LAPTOP, 82, "b7", "SI-050", "Koper", LAPTOP_FAULTS),
    DeviceSite(PHONE, 98, "b8", "SI-090", "Piran", PHONE_FAULTS),
    DeviceSite(OLD_PHONE, 114, "b9", "SI-040", "Izola", PHONE_FAULTS),
    DeviceSite(BOX, 34, "ba", "SI-213", "Ankaran", DEVICE_FAULTS),
)
"""A laptop with this program, two phones of which the old one's client knows L2TP over IPsec alone, a box."""
PHONES = (PHONE, OLD_PHONE)
LAPTOP4 = DEVICES[0].address4


@dataclass(frozen=True, slots=True)
class Site:
    """A gateway: its names, addresses, and where its exit is. ``outer`` is what its name resolves to."""

    name: str
    city: str
    country: str
    region: str
    number: int
    outer_version: int = 4
    key_kind: str = "ecdsa"
    provider: str = PROVIDER
    own_name: str = ""
    is_old: bool = False
    """Whether it speaks the protocols of old as well: L2TP over IPsec."""

    @property
    def host_name(self) -> str:
        """The gateway's name in the DNS."""
        return self.own_name or f"{self.name}.{DOMAIN}"

    def address4(self, position: int) -> str:
        """1: the router; 2: the gateway; 3: the exit."""
        return f"198.51.100.{16 * self.number + position}"

    def address6(self, position: int) -> str:
        """1: the router; 2: the gateway; 3: the exit."""
        return f"2001:db8:{0x1000 + self.number:x}::{position}"

    @property
    def outer(self) -> str:
        """The address that clients reach it at."""
        return self.address4(2) if self.outer_version == 4 else self.address6(2)

    @property
    def elsewhere4(self) -> str:
        """Another exit address, which the geofeed places in another country."""
        return f"203.0.113.{128 + 16 * self.number + 3}"

    @property
    def elsewhere6(self) -> str:
        """The same for IPv6."""
        return f"2001:db8:{0x1800 + self.number:x}::3"

    @property
    def pool4(self) -> str:
        """Inner addresses, first three numbers."""
        return f"10.66.{self.number}."

    @property
    def pool6(self) -> str:
        return f"fd66:{self.number:x}::"


PLACES = (
    Site("lisbon", "Lisbon", "PT", "PT-11", 1, key_kind="rsa", is_old=True),
    Site("tallinn", "Tallinn", "EE", "EE-37", 2),
    Site("montevideo", "Montevideo", "UY", "UY-MO", 3),
    Site("nairobi", "Nairobi", "KE", "KE-30", 4),
    Site("wellington", "Wellington", "NZ", "NZ-WGN", 5, outer_version=6),
)
OFFICE = Site(
    "tromso",
    "Tromsø",
    "NO",
    "NO-55",
    6,
    provider=OFFICE_PROVIDER,
    own_name="tidewrack-office.dynamic.example",
    is_old=True,
)
"""The office's own gateway, reached by a dynamic DNS name."""
GATEWAYS = (*PLACES, OFFICE)
PLACE_BY_NAME = {place.name: place for place in GATEWAYS}
FAULTS_OF = {
    **dict.fromkeys(PLACE_BY_NAME, FAULTS),
    PORTAL_HOST: PORTAL_FAULTS,
    ROUTER: ROUTER_FAULTS,
    **{one.name: dict(one.faults) for one in DEVICES},
}
"""What each host can do wrong."""

ISP_RESOLVER4, ISP_RESOLVER6 = "192.0.2.53", "2001:db8:c0b::53"
COTTAGE_PUBLIC4 = "192.0.2.77"
RESOLVER4, RESOLVER6 = "198.51.100.242", "2001:db8:10ff::2"
PORTAL4, PORTAL6 = "203.0.113.66", "2001:db8:b6::66"
OBSERVATORY4, OBSERVATORY6 = "203.0.113.10", "2001:db8:b5::10"


@dataclass(frozen=True, slots=True)
class Port:
    """One end of a link: a host's device with its addresses and the routes that lead out of it."""

    host: str
    device: str
    addresses: tuple[str, ...]
    routes: tuple[tuple[str, str], ...] = ()
    is_used: bool = True
    """Whether the host is in this network at the start."""


@dataclass(frozen=True, slots=True)
class Wire:
    """A wire between two hosts."""

    one: Port
    other: Port


EVERYWHERE = ("0.0.0.0/0", "::/0")
HOME_NETWORK = "cottage"
LOCAL_NETWORKS = {"cottage": "lan", "harbour": "wlan"}
"""Where the workstation can be, and by which device. The router's device has the network's name."""


def _leaf(host: str, net4: str, net6: str, own: tuple[str, ...], behind: tuple[str, ...] = ()) -> Wire:
    """A site behind the hub: the router has address 1, the host ``own``; ``behind`` is routed to the site too."""
    hub4, hub6 = f"{net4}", f"{net6}1"
    first4, first6 = own[0].partition("/")[0], own[1].partition("/")[0]
    routes = tuple((entry, first6 if ":" in entry else first4) for entry in behind)
    return Wire(
        Port("hub", host[:12], (hub4, f"{hub6}/64"), routes),
        Port(host, "wan", own, ((EVERYWHERE[0], hub4.partition("/")[0]), (EVERYWHERE[1], hub6))),
    )


def _local_networks() -> tuple[Wire, ...]:
    """Where the workstation can be."""
    return (
        Wire(
            Port(ROUTER, "cottage", ("192.168.77.1/24", "2001:db8:c0b:77::1/64")),
            Port(
                WORKSTATION,
                "lan",
                ("192.168.77.20/24", "2001:db8:c0b:77::20/64"),
                ((EVERYWHERE[0], "192.168.77.1"), (EVERYWHERE[1], "2001:db8:c0b:77::1")),
            ),
        ),
        Wire(
            Port(ROUTER, "harbour", ("192.168.88.1/24", "2001:db8:c0b:88::1/64")),
            Port(
                WORKSTATION,
                LOCAL_NETWORKS["harbour"],
                ("192.168.88.20/24", "2001:db8:c0b:88::20/64"),
                ((EVERYWHERE[0], "192.168.88.1"), (EVERYWHERE[1], "2001:db8:c0b:88::1")),
                is_used=False,
            ),
        ),
    )


def links() -> tuple[Wire, ...]:
    """All wires of the lab."""
    rows = [
        Wire(
            Port(
                "hub",
                "cobblewire",
                ("192.0.2.1/30", "2001:db8:c0b:1::1/64"),
                (
                    ("192.0.2.53/32", "192.0.2.2"),
                    ("192.0.2.77/32", "192.0.2.2"),
                    ("2001:db8:c0b::/64", "2001:db8:c0b:1::2"),
                    ("2001:db8:c0b:77::/64", "2001:db8:c0b:1::2"),
                    ("2001:db8:c0b:88::/64", "2001:db8:c0b:1::2"),
                ),
            ),
            Port(
                "cobblewire",
                "wan",
                (
                    "192.0.2.2/30",
                    "2001:db8:c0b:1::2/64",
                    f"{ISP_RESOLVER4}/32",
                    f"{ISP_RESOLVER6}/128",
                    f"{COTTAGE_PUBLIC4}/32",
                ),
                ((EVERYWHERE[0], "192.0.2.1"), (EVERYWHERE[1], "2001:db8:c0b:1::1")),
            ),
        ),
        *_local_networks(),
        _leaf("resolver", "198.51.100.241/28", "2001:db8:10ff::", (f"{RESOLVER4}/28", f"{RESOLVER6}/64")),
        _leaf("observatory", "203.0.113.1/28", "2001:db8:b5::", (f"{OBSERVATORY4}/28", f"{OBSERVATORY6}/64")),
    ]
    rows.append(_leaf(PORTAL_HOST, "203.0.113.65/28", "2001:db8:b6::", (f"{PORTAL4}/28", f"{PORTAL6}/64")))
    for one in DEVICES:
        router = f"203.0.113.{one.last - 1}/28"
        rows.append(_leaf(one.name, router, one.net6, (f"{one.address4}/28", f"{one.address6}/64")))
    for place in GATEWAYS:
        prefix6 = place.address6(0).removesuffix("0")
        own = (f"{place.address4(2)}/28", f"{place.address6(2)}/64")
        exits = (f"{place.address4(3)}/32", f"{place.address6(3)}/128")
        elsewhere = (f"{place.elsewhere4}/32", f"{place.elsewhere6}/128")
        behind = (f"{place.address4(3)}/32", f"{place.address6(3)}/128", *elsewhere)
        rows.append(_leaf(place.name, f"{place.address4(1)}/28", prefix6, own + exits + elsewhere, behind))
    return tuple(rows)


def hosts() -> tuple[str, ...]:
    """All hosts but the hub, which is the lab's own process."""
    names = [port.host for link in links() for port in (link.one, link.other)]
    return tuple(name for name in dict.fromkeys(names) if name != "hub")


def static_names() -> dict[str, tuple[str, ...]]:
    """What the lab's resolvers know without asking."""
    names: dict[str, tuple[str, ...]] = {place.host_name: (place.outer,) for place in GATEWAYS}
    names[PORTAL_NAME] = (PORTAL4, PORTAL6)
    names[OBSERVATORY_NAME] = (OBSERVATORY4, OBSERVATORY6)
    names |= {f"ipv4.{OBSERVATORY_NAME}": (OBSERVATORY4,), f"ipv6.{OBSERVATORY_NAME}": (OBSERVATORY6,)}
    names[LINKS_NAME] = (OBSERVATORY4, OBSERVATORY6)
    return names


def geofeed() -> str:
    """Where the lab's addresses are (RFC 8805)."""
    rows = ["# prefix, country, region, city, postal code"]
    rows += ["192.0.2.0/24,SI,SI-061,Ljubljana,", "2001:db8:c0b::/48,SI,SI-061,Ljubljana,"]
    for place in GATEWAYS:
        own = f"{place.country},{place.region},{place.city},"
        rows.append(f"{place.address4(0)}/28,{own}")
        rows.append(f"{place.address6(0).removesuffix('0')}/48,{own}")
        rows.append(f"203.0.113.{128 + 16 * place.number}/28,DE,DE-HH,Hamburg,")
        rows.append(f"{place.elsewhere6.removesuffix('3')}/48,DE,DE-HH,Hamburg,")
    for one in DEVICES:
        rows += [f"{net},SI,{one.region},{one.city}," for net in (one.net4, f"{one.net6}/48")]
    rows += ["198.51.100.240/28,EE,EE-37,Tallinn,", "2001:db8:10ff::/48,EE,EE-37,Tallinn,"]
    rows += ["203.0.113.0/28,CH,CH-ZH,Zurich,", "2001:db8:b5::/48,CH,CH-ZH,Zurich,"]
    return "\n".join(rows) + "\n"


def operators() -> str:
    rows = [
        f"{OFFICE.address4(0)}/28,{OFFICE_PROVIDER}",
        f"{OFFICE.address6(0).removesuffix('0')}/48,{OFFICE_PROVIDER}",
        "192.0.2.0/24,Cobblewire",
        "2001:db8:c0b::/48,Cobblewire",
        "198.51.100.0/24,Quillwort Relay",
        "203.0.113.128/25,Quillwort Relay",
        "2001:db8:1000::/36,Quillwort Relay",
        "203.0.113.0/28,Farwatch",
        "2001:db8:b5::/48,Farwatch",
        *(f"{net},Cobblewire" for one in DEVICES for net in (one.net4, f"{one.net6}/48")),
    ]
    return "\n".join(rows) + "\n"
