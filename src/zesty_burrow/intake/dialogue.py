"""The questions of a guided set-up, in order: what each field means, where it usually comes from, what fits.

Pure: answers are texts by key. What must be looked up (does the name resolve, what is in a file) is handed in.
"""

from __future__ import annotations

import ipaddress
import re
from functools import cache

from zesty_burrow.core.host_names import look_alike
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.profile import (
    IPV6_HANDLING,
    MAX_MTU,
    MIN_MTU,
    NAME,
    RESERVED_NAMES,
    Gateway,
    Profile,
    Traffic,
    TunnelSettings,
)
from zesty_burrow.errors import InputError
from zesty_burrow.intake.readers.credentials import paste_slips
from zesty_burrow.intake.readers.places import country_code, place_in_name
from zesty_burrow.intake.readers.sheet import slug_of
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.facets.questions import Answers, Question, QuestionFacet
from zesty_burrow.protocols.parts import question_facets
from zesty_burrow.records import replace

SCOPES = ("everything", "networks")
QUOTES = "\"'`\u2018\u2019\u201c\u201d\u201e\u201a\u00ab\u00bb"
"""Quotation marks that come along with what is pasted."""


def slips_of(text: str) -> list[str]:
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
    """The port after a host in an answer; empty without a port."""
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


def _protocol(answers: Answers) -> str:
    return answers.get("protocol") or registry.DEFAULT


def _facet(answers: Answers) -> QuestionFacet:
    return question_facets()[_protocol(answers)]


_GENERAL = (
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
        choices=("password", "certificate", "shared-key", "raw-key"),
        default=lambda answers: "password",
    ),
    Question(
        "authority",
        "File with the authority's certificate, or system",
        "With it the gateway proves its identity. Without it a false gateway cannot be detected.",
        "A download beside the settings: .pem, .crt, .cer, .der or .p7b. The word system takes the public authorities "
        "that this machine trusts, for a gateway with such a certificate: then any of them can prove it.",
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
)


def _of_protocols() -> list[Question]:
    """Which protocol, how its gateway is reached, and what each protocol asks itself."""
    facets = question_facets()
    *others, last = facets
    transports = tuple(dict.fromkeys(word for facet in facets.values() for word in facet.transports))
    usual = ", ".join(f"{facet.transports[0]} for {name}" for name, facet in facets.items())
    ports = ", ".join(f"{facet.ports[facet.transports[0]]} for {name}" for name, facet in facets.items())
    return [
        Question(
            "protocol",
            f"Protocol: {', '.join(others)} or {last}" if others else f"Protocol: {last}",
            "; ".join(facet.introduction for facet in facets.values()) + ".",
            f"On the sheet; else {registry.DEFAULT}.",
            choices=tuple(facets),
            default=lambda answers: registry.DEFAULT,
            applies=lambda answers: len(_speaking(answers.get("sign-in", "password"))) > 1,
        ),
        Question(
            "transport",
            f"Transport: {', '.join(transports[:-1])} or {transports[-1]}",
            "UDP handles lost packets better; TCP passes networks that block UDP; any takes what is answered first.",
            f"On the sheet; else {usual}.",
            choices=transports,
            default=lambda answers: _facet(answers).transports[0],
            applies=lambda answers: len(_facet(answers).transports) > 1,
        ),
        Question(
            "port",
            "Port of the gateway",
            "The port for the first message. IPsec over UDP continues on 4500 (RFC 7296 §2, §2.23).",
            f"On the sheet; else {ports}.",
            _port,
            lambda answers: str(_facet(answers).ports[answers.get("transport") or _facet(answers).transports[0]]),
        ),
        *(_only_for(name, question) for name, facet in facets.items() for question in facet.questions),
    ]


def _only_for(name: str, question: Question) -> Question:
    applies = question.applies
    return replace(question, applies=lambda answers: _protocol(answers) == name and applies(answers))


def _speaking(sign_in: str) -> list[str]:
    """The protocols that have a way to sign in."""
    return [name for name, facet in question_facets().items() if sign_in in facet.sign_ins]


_LAST = (
    Question(
        "mtu",
        "MTU of the tunnel device",
        "Larger packets are cut or refused. 1400 suits nearly every line.",
        "Leave it, unless large downloads hang.",
        _mtu,
        lambda answers: "1400",
    ),
)


@cache
def questions() -> dict[str, Question]:
    """All questions by their keys, in order."""
    return {question.key: question for question in (*_GENERAL, *_of_protocols(), *_LAST)}


FIRST = ("host", "protocol", "sign-in", "authority", "name")
"""What a phone's form asks as well, but for account and password, which are asked for at the end."""


def first_questions(answers: Answers) -> list[Question]:
    """Those of the first that are still to be asked, in their order."""
    wanted = (questions()[key] for key in FIRST)
    return [question for question in wanted if question.key not in answers and question.applies(answers)]


def open_questions(answers: Answers) -> list[Question]:
    """What is still to be asked."""
    return [question for question in questions().values() if question.key not in answers and question.applies(answers)]


def take_given(given: Answers) -> dict[str, str]:
    """Answers that came all at once, each checked. :class:`InputError` names the key."""
    taken: dict[str, str] = {}
    if "port" not in given and (port := port_beside(given.get("host", ""))):
        given = {**given, "port": port}
    for key in given:
        if key not in questions():
            raise InputError(f"there is no question {key!r:.60}", next_step=f"The keys are {', '.join(questions())}.")
    for question in questions().values():
        if question.key not in given or not question.applies(taken):
            continue
        try:
            taken[question.key] = question.take(given[question.key])
        except ValueError as problem:
            raise InputError(
                f"{question.key}: {given[question.key]!r:.80}", why=str(problem), next_step=question.source
            ) from None
    named, sign_in = given.get("protocol", ""), taken.get("sign-in", "password")
    facet = question_facets().get(named)
    if facet is not None and sign_in not in facet.sign_ins:
        what = f"protocol: {named} has no sign-in by {sign_in}"
        raise InputError(what, why=facet.why_no_other, next_step=f"Choose one of these, or {registry.DEFAULT}.")
    return taken


def with_defaults(answers: Answers) -> dict[str, str]:
    """Everything that has a default or may be empty; :class:`InputError` names what is missing."""
    filled = dict(answers)
    missing = []
    for question in questions().values():
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


def profile_of(answers: Answers, authorities: tuple[str, ...]) -> Profile:
    """The profile that whole answers describe; the text form's own rules judge it."""
    everything = answers.get("traffic") == "everything"
    networks = () if everything else tuple(map(ipaddress.ip_network, answers["networks"].split()))
    identity = Identity.of(answers["identity"])
    if "@" in identity.value:
        identity = Identity(IdType.ID_RFC822_ADDR, identity.value)
    facet = _facet(answers)
    profile = Profile(
        name=answers["name"],
        provider=answers.get("provider", ""),
        country=answers.get("country", ""),
        city=answers.get("city", ""),
        gateway=Gateway(tuple(answers["host"].split())),
        settings=facet.settings(answers, identity),
        tunnel=TunnelSettings(_protocol(answers), int(answers["mtu"])),
        sign_in=facet.sign_in(answers),
        authorities=authorities,
        traffic=Traffic(
            networks=networks or Traffic().networks,
            ipv6=answers.get("ipv6", "tunnel"),
            name_servers=tuple(map(ipaddress.ip_address, answers.get("name-servers", "").split())),
            suffixes=tuple(answers.get("suffixes", "").replace(",", " ").split()),
        ),
    )
    return read_profile(write_profile(profile), "the answers")
