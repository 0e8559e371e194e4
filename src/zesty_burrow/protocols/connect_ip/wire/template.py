"""The address of the request (RFC 9484 §3, §4.6): a URI template with the variables ``target`` and ``ipproto``."""

from __future__ import annotations

import re
from urllib.parse import quote, unquote

WELL_KNOWN = "/.well-known/masque/ip/{target}/{ipproto}/"
ANY = "*"
MAX_LENGTH = 1024
_PLACE = re.compile(r"\{(\??)([a-z_]+(?:,[a-z_]+)*)\}")
_NAMES = ("target", "ipproto")
_PATH = re.compile(r"/[A-Za-z0-9\-._~!$&'()*+,;=:@%/?]*")


def check_template(text: str) -> str:
    """Why this template cannot be used here; empty if it can (RFC 6570: simple and form-style expansion)."""
    if not text.startswith("/") or len(text) > MAX_LENGTH:
        return f"it has to begin with / and to have at most {MAX_LENGTH} characters"
    names = [name for _, places in _PLACE.findall(text) for name in places.split(",")]
    if unknown := sorted(set(names) - set(_NAMES)):
        return f"{unknown[0]!r} is no variable of it; {' and '.join(_NAMES)} are (RFC 9484 §3)"
    if len(names) != len(set(names)):
        return "a variable is in it twice"
    if not _PATH.fullmatch(_PLACE.sub("x", text)):
        return "it has a character that no path has"
    return ""


def expand(template: str, target: str = ANY, protocol: str = ANY) -> str:
    """The path of the request. What both variables take is escaped, but for the asterisk (RFC 9484 §4.6)."""
    values = dict(zip(_NAMES, (quote(target, safe=ANY), quote(protocol, safe=ANY)), strict=True))

    def put(place: re.Match[str]) -> str:
        names = place.group(2).split(",")
        if place.group(1):
            return "?" + "&".join(f"{name}={values[name]}" for name in names)
        return ",".join(values[name] for name in names)

    return _PLACE.sub(put, template)


def scope_of(path: str, template: str) -> tuple[str, str] | None:
    """Target and protocol that a request's path asks for; None where the template does not make such a path."""
    parts: list[str] = []
    at = 0
    for place in _PLACE.finditer(template):
        parts.append(re.escape(template[at : place.start()]))
        names = place.group(2).split(",")
        rows = [f"(?P<{name}>[^/?&,]{{1,200}})" for name in names]
        if place.group(1):
            parts.append(r"\?" + "&".join(f"{name}={row}" for name, row in zip(names, rows, strict=True)))
        else:
            parts.append(",".join(rows))
        at = place.end()
    parts.append(re.escape(template[at:]))
    found = re.fullmatch("".join(parts), path)
    if found is None:
        return None
    values = {name: unquote(value) for name, value in found.groupdict().items()}
    return values.get("target", ANY), values.get("ipproto", ANY)
