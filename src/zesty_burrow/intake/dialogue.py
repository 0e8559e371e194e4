"""The questions of a guided set-up, in order: what each field means, where it usually comes from, what fits.

Pure: answers are texts by key. What must be looked up (does the name resolve, what is in a file) is handed in.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from zesty_burrow.core.host_names import look_alike
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import (
    IPV6_HANDLING,
    MAX_MTU,
    MIN_MTU,
    NAME,
    RESERVED_NAMES,
    Gateway,
    Profile,
    ProtocolSettings,
    SignIn,
    Traffic,
    TunnelSettings,
)
from zesty_burrow.errors import BurrowError, InputError
from zesty_burrow.intake.readers.credentials import paste_slips
from zesty_burrow.intake.readers.places import country_code, place_in_name
from zesty_burrow.intake.readers.sheet import slug_of
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols.connect_ip import settings as connect_ip
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings
from zesty_burrow.protocols.connect_ip.wire.template import WELL_KNOWN, check_template
from zesty_burrow.protocols.ikev2.choice import read_list, with_algorithms
from zesty_burrow.protocols.ikev2.settings import NAME as IKE
from zesty_burrow.protocols.ikev2.settings import PORTS, TRANSPORTS, IkeSettings
from zesty_burrow.protocols.l2tp_ipsec import settings as l2tp

Answers = Mapping[str, str]
METHODS = {
    "password": "eap-mschapv2",
    "certificate": "certificate",
    "shared-key": "pre-shared-key",
    "raw-key": "raw-public-key",
}
HTTP_METHODS = {"eap-mschapv2": connect_ip.BASIC, "certificate": connect_ip.CERTIFICATE}
L2TP_METHODS = {"eap-mschapv2": l2tp.SIGN_IN_METHODS[0]}
SIGN_INS = {
    connect_ip.NAME: (HTTP_METHODS, "it has password and certificate (RFC 9484, RFC 7617)"),
    l2tp.NAME: (L2TP_METHODS, "it has password, and the gateway's shared key besides (RFC 3193)"),
}
"""The ways to sign in that other protocols than IKEv2 have as well."""
SCOPES = ("everything", "networks")
QUOTES = "\"'`\u2018\u2019\u201c\u201d\u201e\u201a\u00ab\u00bb"
"""Quotation marks that come along with what is pasted."""


@dataclass(frozen=True, slots=True)
class Question:
    """One field. ``check`` gives the answer as it is kept, or raises ``ValueError`` with the reason.

    ``file``: the answer is a path, whose content is looked into; ``lookup``: a host name that should resolve.
    """

    key: str
    ask: str
    meaning: str
    source: str
    check: Callable[[str], str] = str.strip
    default: Callable[[Answers], str] = lambda _: ""
    applies: Callable[[Answers], bool] = lambda _: True
    optional: bool = False
    choices: tuple[str, ...] = ()
    file: bool = False
    lookup: bool = False

    def take(self, text: str) -> str:
        """The answer as it is kept; ``ValueError`` where it does not fit."""
        plain = text.strip().strip("\u200b\ufeff")
        if not plain:
            if self.optional:
                return ""
            raise ValueError("an answer is needed")
        if self.choices:
            fitting = [one for one in self.choices if one.startswith(plain.casefold())]
            if len(fitting) != 1:
                raise ValueError(f"it is one of {', '.join(self.choices)}")
            return fitting[0]
        return self.check(plain)

    def slips(self, text: str) -> list[str]:
        """What looks like a paste slip in an answer, in words."""
        return paste_slips(text.strip("\r\n")) if text.strip() else []


def _name(text: str) -> str:
    if NAME.fullmatch(text) and text not in RESERVED_NAMES:
        return text
    hint = f"; {suggestion} would do" if (suggestion := slug_of(text)) not in ("", text) else ""
    raise ValueError(f"lower-case letters, digits, dots and hyphens, up to 64, and no word of a command's{hint}")


def _hosts(text: str) -> str:
    parts = [_without_port(part.strip(QUOTES))[0] for part in text.replace(",", " ").split() if part.strip(QUOTES)]
    for part in parts:
        if words := look_alike(part):
            raise ValueError(f"{words}; type it yourself")
        if "://" in part or "/" in part:
            raise ValueError(f"{part!r} is a web address; the host name alone is needed")
        if not all(letter.isalnum() or letter in "-.:_" for letter in part) or len(part) > 253:
            raise ValueError(f"{part!r} is neither a host name nor an IP address")
    return " ".join(parts)


def _without_port(host: str) -> tuple[str, str]:
    """A host, and the port that stands behind it; an IPv6 address has brackets where there is one."""
    bracketed = re.fullmatch(r"\[([0-9a-fA-F:.]+)\](?::(\d{1,5}))?", host)
    plain = bracketed or re.fullmatch(r"([^:]+):(\d{1,5})", host)
    return (plain[1], plain[2] or "") if plain else (host, "")


def _port(text: str) -> str:
    if not text.isascii() or not text.isdigit() or not 0 < int(text) < 65536:
        raise ValueError("a whole number from 1 to 65535 is needed")
    return text


def port_beside(text: str) -> str:
    """The port that stands behind a host in an answer; empty where there is none."""
    ports = (_without_port(part.strip(QUOTES))[1] for part in text.replace(",", " ").split())
    return next((port for port in ports if port), "")


def _identity(text: str) -> str:
    plain = text.strip(QUOTES)
    if re.match(r"(?:[~.]{0,2}/|[A-Za-z]:\\|file:)", plain) or re.search(r"\.(?:pem|crt|cer|der|p12|pfx|key)$", plain):
        raise ValueError("it looks like a file's path; the gateway's name is needed, as its certificate has it")
    if "://" in plain:
        raise ValueError(f"{plain!r} is a web address; the name alone is needed")
    if words := look_alike(plain):
        raise ValueError(f"{words}; type it yourself")
    return plain


def _algorithms(kind: str) -> Callable[[str], str]:
    def check(text: str) -> str:
        try:
            read_list(kind, text, Policy())
        except BurrowError as problem:
            raise ValueError(str(problem)) from None
        return text

    return check


def _country(text: str) -> str:
    code = country_code(text)
    if not code:
        raise ValueError("it is no ISO 3166-1 code and no country's name that is known here")
    return code


def _networks(text: str) -> str:
    parts = text.replace(",", " ").split()
    return " ".join(str(ipaddress.ip_network(part)) for part in parts)


def _addresses(text: str) -> str:
    return " ".join(str(ipaddress.ip_address(part)) for part in text.replace(",", " ").split())


def _mtu(text: str) -> str:
    if not text.isascii() or not text.isdigit() or not MIN_MTU <= int(text) <= MAX_MTU:
        raise ValueError(f"a whole number from {MIN_MTU} to {MAX_MTU} is needed")
    return text


def _first_host(answers: Answers) -> str:
    return answers.get("host", "").split(" ")[0]


def _place(answers: Answers) -> tuple[str, str]:
    return place_in_name(_first_host(answers).partition(".")[0])


def _default_name(answers: Answers) -> str:
    return slug_of(_place(answers)[1]) or slug_of(_first_host(answers))


def _is_http(answers: Answers) -> bool:
    return answers.get("protocol") == connect_ip.NAME


def _is_l2tp(answers: Answers) -> bool:
    return answers.get("protocol") == l2tp.NAME


def _path(text: str) -> str:
    if why := check_template(text.strip()):
        raise ValueError(why)
    return text.strip()


QUESTIONS = (
    Question(
        "host",
        "Gateway's host name or IP address",
        "Where the gateway is. Several, with spaces between them, are tried in turn.",
        "On the provider's page for manual set-up, or on the IT department's sheet; not the address of the web page.",
        _hosts,
        lookup=True,
    ),
    Question(
        "name",
        "Name of the profile",
        "What you will call it on the command line.",
        "You choose it.",
        _name,
        _default_name,
    ),
    Question(
        "provider",
        "Provider",
        "Profiles of one provider share their credentials.",
        "The company that runs the gateway, or your own.",
        default=lambda answers: "",
        optional=True,
    ),
    Question(
        "identity",
        "Gateway's identity",
        "Who the gateway must prove to be: its certificate must hold this name.",
        "Nearly always the host name; otherwise it is beside it as remote identity.",
        _identity,
        _first_host,
    ),
    Question(
        "sign-in",
        "Sign-in by password, certificate, shared-key or raw-key",
        "How this side proves itself.",
        "With a name and a password it is password; with a file that ends with .p12 or .key it is certificate.",
        choices=tuple(METHODS),
        default=lambda answers: "password",
    ),
    Question(
        "authority",
        "File with the authority's certificate",
        "With it the gateway proves its identity. Without it a false gateway cannot be detected.",
        "A download beside the settings: .pem, .crt, .cer, .der or .p7b.",
        applies=lambda answers: answers.get("sign-in") != "shared-key",
        optional=True,
        file=True,
    ),
    Question(
        "traffic",
        "Through the tunnel: everything, or only some networks",
        "An office often takes only what is for its own networks.",
        "The sheet says something like 'send all traffic: yes or no'.",
        choices=SCOPES,
        default=lambda answers: "everything",
    ),
    Question(
        "networks",
        "Which networks",
        "What goes through the tunnel, as address and prefix length, with spaces between them.",
        "From the office's administrator; for example 10.20.0.0/16.",
        _networks,
        applies=lambda answers: answers.get("traffic") == "networks",
    ),
    Question(
        "ipv6",
        "IPv6: tunnel, block or outside",
        "What becomes of IPv6 while the tunnel is up. 'tunnel' blocks it where the gateway carries none.",
        "Leave it at tunnel unless somebody tells you otherwise: 'outside' shows your own address.",
        choices=IPV6_HANDLING,
        default=lambda answers: "tunnel",
        applies=lambda answers: answers.get("traffic") == "everything",
    ),
    Question(
        "name-servers",
        "Name servers",
        "Who resolves names while the tunnel is up; empty: those that the gateway names.",
        "First and second name server on the sheet.",
        _addresses,
        optional=True,
    ),
    Question(
        "suffixes",
        "Search suffixes",
        "What is added to short names; empty: those that the gateway names.",
        "Suffix or search domain on the sheet, for example office.tidewrack.example.",
        optional=True,
    ),
    Question(
        "country",
        "Country of the exit",
        "The country where your traffic should reach the internet; `verify` checks it.",
        "On the provider's list of places.",
        _country,
        lambda answers: _place(answers)[0],
        optional=True,
    ),
    Question(
        "city",
        "City of the exit",
        "For you, to find it by.",
        "On the provider's list of places.",
        default=lambda answers: _place(answers)[1],
        optional=True,
    ),
    Question(
        "protocol",
        "Protocol: ikev2, connect-ip or l2tp-ipsec",
        "IKEv2 is what phones and desktops have built in; CONNECT-IP goes over HTTPS and passes nearly every network; "
        "L2TP over IPsec is retired, for gateways that have nothing else.",
        "On the sheet; else ikev2.",
        choices=(IKE, connect_ip.NAME, l2tp.NAME),
        default=lambda answers: IKE,
        applies=lambda answers: METHODS.get(answers.get("sign-in", "password")) in HTTP_METHODS,
    ),
    Question(
        "transport",
        "Transport: udp, tcp or any",
        "UDP gets over lost packets better; TCP passes networks that let no UDP out; any takes what is answered first.",
        "On the sheet; else udp for IKEv2 and tcp for CONNECT-IP.",
        choices=TRANSPORTS,
        default=lambda answers: "tcp" if _is_http(answers) else "udp",
        applies=lambda answers: not _is_l2tp(answers),
    ),
    Question(
        "port",
        "Port of the gateway",
        "Where the first message goes; with IKEv2 over UDP everything after it goes to 4500 (RFC 7296 §2, §2.23).",
        "For IKEv2 500 (UDP) or 4500 (TCP), for CONNECT-IP 443, unless the sheet names another.",
        _port,
        lambda answers: str(connect_ip.PORT if _is_http(answers) else PORTS[answers.get("transport", "udp")]),
    ),
    Question(
        "path",
        "Path of the tunnel",
        "Where the gateway's server has the tunnel: a URI template (RFC 9484 §3).",
        "On the sheet, if it is not the well-known one.",
        _path,
        lambda answers: WELL_KNOWN,
        applies=lambda answers: _is_http(answers),
    ),
    Question(
        "algorithms",
        "Algorithms: recommended or listed",
        "Which ciphers are offered to the gateway. The recommended ones suit every current gateway.",
        "Leave it, unless the sheet demands certain ones.",
        choices=("recommended", "listed"),
        default=lambda answers: "recommended",
        applies=lambda answers: not _is_http(answers) and not _is_l2tp(answers),
    ),
    *(
        Question(
            name.replace("_", "-"),
            f"{words}: IANA names with commas",
            "In the order of preference.",
            f"On the sheet, for example {example}.",
            _algorithms(name),
            applies=lambda answers: answers.get("algorithms") == "listed",
            optional=name == "integrity",
        )
        for name, words, example in (
            ("encryption", "Encryption", "ENCR_AES_GCM_16 256"),
            ("integrity", "Integrity, where the encryption has none of its own", "AUTH_HMAC_SHA2_256_128"),
            ("key_exchange", "Key exchange", "curve25519"),
        )
    ),
    Question(
        "mtu",
        "MTU of the tunnel device",
        "Larger packets are cut or refused. 1400 suits nearly every line.",
        "Leave it, unless large downloads hang.",
        _mtu,
        lambda answers: "1400",
    ),
)
ALGORITHMS = ("encryption", "integrity", "key_exchange")
BY_KEY = {question.key: question for question in QUESTIONS}


def open_questions(answers: Answers) -> list[Question]:
    """What is still to be asked."""
    return [one for one in QUESTIONS if one.key not in answers and one.applies(answers)]


def take_given(given: Answers) -> dict[str, str]:
    """Answers that came all at once, each checked. :class:`InputError` names the key."""
    taken: dict[str, str] = {}
    if "port" not in given and (port := port_beside(given.get("host", ""))):
        given = {**given, "port": port}
    for key in given:
        if key not in BY_KEY:
            raise InputError(f"there is no question {key!r:.60}", next_step=f"The keys are {', '.join(BY_KEY)}.")
    for question in QUESTIONS:
        if question.key not in given or not question.applies(taken):
            continue
        try:
            taken[question.key] = question.take(given[question.key])
        except ValueError as problem:
            raise InputError(
                f"{question.key}: {given[question.key]!r:.80}", why=str(problem), next_step=question.source
            ) from None
    named = given.get("protocol", "")
    methods, why = SIGN_INS.get(named, ({}, ""))
    if why and METHODS.get(taken.get("sign-in", "password")) not in methods:
        what = f"protocol: {named} has no sign-in by {taken.get('sign-in', '')}"
        raise InputError(what, why=why, next_step="Choose one of these, or ikev2.")
    return taken


def with_defaults(answers: Answers) -> dict[str, str]:
    """Everything that has a default or may be empty; :class:`InputError` names what is missing."""
    filled = dict(answers)
    missing = []
    for question in QUESTIONS:
        if question.key in filled or not question.applies(filled):
            continue
        default = question.default(filled)
        if question.key in ("name", "identity") and "host" in missing:
            continue  # it follows from the host
        if not default and not question.optional:
            missing.append(question.key)
        else:
            filled[question.key] = default
    if missing:
        raise InputError(
            "answers are missing",
            why=f"missing: {', '.join(missing)}",
            next_step=f"Add --{missing[0]}, or run `zesty create` on a terminal, where it is asked for.",
            slug="answers-missing",
        )
    return filled


def _http_settings(answers: Answers, identity: Identity) -> ConnectIpSettings:
    port, path = int(answers.get("port") or connect_ip.PORT), answers.get("path") or WELL_KNOWN
    return ConnectIpSettings(answers.get("transport") or "tcp", port, path, identity=identity)


def _own_settings(answers: Answers, identity: Identity) -> ProtocolSettings:
    if _is_http(answers):
        return _http_settings(answers, identity)
    if _is_l2tp(answers):
        return l2tp.L2tpSettings(int(answers.get("port") or l2tp.PORT), identity)
    return _settings(answers, identity)


def _sign_in(answers: Answers) -> SignIn:
    method = METHODS[answers["sign-in"]]
    if _is_http(answers):
        return SignIn("certificate", HTTP_METHODS.get(method, method))
    if _is_l2tp(answers):
        return SignIn(l2tp.SHARED_KEY, L2TP_METHODS.get(method, method))
    return SignIn("pre-shared-key" if method == "pre-shared-key" else "certificate", method)


def _settings(answers: Answers, identity: Identity) -> IkeSettings:
    transport = answers.get("transport", "udp")
    port = int(answers.get("port") or PORTS[transport])
    settings = IkeSettings(identity=identity, transport=transport, port=port)
    if answers.get("algorithms") != "listed":
        return settings
    chosen = {name: read_list(name, answers.get(name.replace("_", "-"), ""), Policy()) for name in ALGORITHMS
              if answers.get(name.replace("_", "-"))}  # fmt: skip
    return with_algorithms(settings, chosen, "both")


def profile_of(answers: Answers, authorities: tuple[str, ...]) -> Profile:
    """The profile that whole answers describe; the text form's own rules judge it."""
    everything = answers.get("traffic") == "everything"
    networks = () if everything else tuple(map(ipaddress.ip_network, answers["networks"].split()))
    identity = Identity.of(answers["identity"])
    if "@" in identity.value:
        identity = Identity(IdType.ID_RFC822_ADDR, identity.value)
    profile = Profile(
        name=answers["name"],
        provider=answers.get("provider", ""),
        country=answers.get("country", ""),
        city=answers.get("city", ""),
        gateway=Gateway(tuple(answers["host"].split())),
        settings=_own_settings(answers, identity),
        tunnel=TunnelSettings(answers.get("protocol") or IKE, int(answers["mtu"])),
        sign_in=_sign_in(answers),
        authorities=authorities,
        traffic=Traffic(
            networks=networks or Traffic().networks,
            ipv6=answers.get("ipv6", "tunnel"),
            name_servers=tuple(map(ipaddress.ip_address, answers.get("name-servers", "").split())),
            suffixes=tuple(answers.get("suffixes", "").replace(",", " ").split()),
        ),
    )
    return read_profile(write_profile(profile), "the answers")
