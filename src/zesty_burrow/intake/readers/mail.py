"""A mail as a container (RFC 5322, MIME): its text becomes one file, each attachment another."""

from __future__ import annotations

import email
import email.policy
import re
from email.message import EmailMessage
from html.parser import HTMLParser

from zesty_burrow.intake import limits
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

HEADER = re.compile(
    rb"^(From|Received|Return-Path|Delivered-To|Date|Subject|To|MIME-Version|Message-ID|DKIM-Signature|X-[\w-]+):",
    re.IGNORECASE,
)
SIGNS = (b"\nsubject:", b"\nfrom:", b"\nmime-version:", b"\nmessage-id:", b"\ndate:")
MAX_PARTS = 200


def looks_like_mail(data: bytes) -> bool:
    """Whether octets are a mail: a header line first, and two more that every mail has."""
    head = b"\n" + data[:8192].replace(b"\r\n", b"\n").partition(b"\n\n")[0].lower()
    return bool(HEADER.match(data)) and sum(sign in head for sign in SIGNS) >= 2


class _PlainText(HTMLParser):
    """The text of a page: blocks and rows become lines, cells are joined."""

    BREAKS = frozenset({"br", "p", "div", "tr", "li", "h1", "h2", "h3", "table", "dt"})
    HIDDEN = frozenset({"script", "style", "head"})

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.parts: list[str] = []
        self._hidden = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in self.HIDDEN:
            self._hidden += 1
        elif tag in self.BREAKS:
            self.parts.append("\n")
        elif tag in ("td", "th", "dd"):
            self.parts.append("\t" if self.parts and not self.parts[-1].rstrip(" ").endswith((":", "\n")) else " ")

    def handle_endtag(self, tag: str) -> None:
        if tag in self.HIDDEN and self._hidden:
            self._hidden -= 1

    def handle_data(self, data: str) -> None:
        if not self._hidden:
            self.parts.append(re.sub(r"\s+", " ", data))


def text_of_html(page: str) -> str:
    """The lines that a reader of the page sees."""
    reader = _PlainText()
    reader.feed(page)
    reader.close()
    lines = (line.strip() for line in "".join(reader.parts).splitlines())
    return "\n".join(line for line in lines if line)


def read_mail_untrusted(mail: KitFile) -> list[KitFile]:
    """The mail's text (plain if it has one, else from its HTML) and its attachments."""
    try:
        message = email.message_from_bytes(mail.data, _class=EmailMessage, policy=email.policy.default)
        return _parts(mail, message)
    except (ValueError, LookupError, TypeError, AttributeError, IndexError, KeyError, RecursionError) as problem:
        # The standard library's parser meets broken MIME with many kinds of errors.
        raise refused("kit-unreadable", mail.path, f"{type(problem).__name__}: {problem}"[:200]) from None


def _parts(mail: KitFile, message: EmailMessage) -> list[KitFile]:
    found: list[KitFile] = []
    texts: dict[str, list[str]] = {"plain": [], "html": []}
    for number, part in enumerate(message.walk()):
        if number >= MAX_PARTS:
            raise refused("archive-bomb", mail.path, f"more than {MAX_PARTS} parts")
        if part.is_multipart():
            continue
        name = part.get_filename()
        if part.get_content_maintype() == "text" and not name:
            kind = "html" if part.get_content_subtype() == "html" else "plain"
            texts[kind].append(_decoded(part))
            continue
        octets = part.get_payload(decode=True)
        data = octets if isinstance(octets, bytes) else b""
        if len(data) > limits.MAX_MEMBER:
            raise refused("archive-bomb", mail.path, f"an attachment of {len(data)} octets")
        plain = re.sub(r"[/\\\0:]+", "-", name or f"part-{number}").lstrip(".")
        found.append(mail.inside(str(plain or number), data))
    body = "\n".join(texts["plain"]) or "\n".join(text_of_html(page) for page in texts["html"])
    return [mail.inside("text of the mail", body.encode("utf-8", "replace")), *found]


def _decoded(part: EmailMessage) -> str:
    octets = part.get_payload(decode=True)
    charset = part.get_content_charset() or "utf-8"
    data = octets if isinstance(octets, bytes) else b""
    try:
        return data.decode(charset, "replace")
    except LookupError:
        return data.decode("utf-8", "replace")
