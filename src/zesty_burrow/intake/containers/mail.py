"""Mails as containers (RFC 5322, MIME; RFC 4155): the text is one file, each attachment another."""

from __future__ import annotations

import email
import email.errors
import email.policy
import re
from email.message import EmailMessage

from zesty_burrow.intake import limits
from zesty_burrow.intake.containers.budget import Budget, Left
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

HEADER = re.compile(
    rb"^(From|Received|Return-Path|Delivered-To|Date|Subject|To|MIME-Version|Message-ID|DKIM-Signature|X-[\w-]+):",
    re.IGNORECASE,
)
SIGNS = (b"\nsubject:", b"\nfrom:", b"\nmime-version:", b"\nmessage-id:", b"\ndate:")
FIRST_OF_BOX = re.compile(rb"\AFrom [^\n]{3,200}\n")
NEXT_OF_BOX = re.compile(rb"(?:\A|\r?\n\r?\n)From [^\n]{3,200}\n")
MAX_PARTS = 200
MAX_MAILS = 200
MAX_HEADERS = 256 << 10
"""Octets of a part's headers: what is longer is no mail, and costs the library time that grows with its square."""
QUOTED = re.compile(r"^(?:[>|] ?)+", re.MULTILINE)
DAMAGE = {
    "InvalidBase64PaddingDefect": "the end of its base64 is missing",
    "InvalidBase64CharactersDefect": "letters in it are no base64",
    "InvalidBase64LengthDefect": "its base64 has an impossible length",
    "CloseBoundaryNotFoundDefect": "its end is missing",
    "StartBoundaryNotFoundDefect": "its parts are missing",
    "NoBoundaryInMultipartDefect": "nothing says where its parts begin",
    "MultipartInvariantViolationDefect": "its parts are not marked as such",
}
"""What is worth telling, by the name of the library's defect."""
BODY = "text of the mail"


def looks_like_mail(data: bytes) -> bool:
    """Whether octets are a mail: a header line first, and two more that every mail has."""
    head = b"\n" + data[:8192].replace(b"\r\n", b"\n").partition(b"\n\n")[0].lower()
    return bool(HEADER.match(data)) and sum(sign in head for sign in SIGNS) >= 2


def looks_like_mailbox(data: bytes) -> bool:
    """Whether octets are several mails after each other, each behind a line that begins with ``From`` (RFC 4155)."""
    first = FIRST_OF_BOX.match(data[:300])
    return first is not None and looks_like_mail(data[first.end() : first.end() + 8192])


def read_mailbox_untrusted(box: KitFile, budget: Budget) -> list[KitFile]:
    """The mails of a box."""
    starts = [match.span() for match in NEXT_OF_BOX.finditer(box.data)][: MAX_MAILS + 1]
    if len(starts) > MAX_MAILS:
        raise refused("archive-bomb", box.path, f"more than {MAX_MAILS} mails")
    ends = [start for start, _ in starts[1:]] + [len(box.data)]
    files = []
    for number, ((_, begin), end) in enumerate(zip(starts, ends, strict=True), start=1):
        budget.spend(end - begin, f"mail {number}")
        files.append(box.inside(f"mail {number}", re.sub(rb"(?m)^>(>*From )", rb"\1", box.data[begin:end])))
    return files


def read_mail_untrusted(mail: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The mail's text (plain if it has one, else its page) and its attachments."""
    spending = budget or Budget.of(mail)
    head = min((at for at in (mail.data.find(b"\n\n"), mail.data.find(b"\n\r\n")) if at >= 0), default=len(mail.data))
    if head > MAX_HEADERS:
        raise refused("kit-unreadable", mail.path, f"its headers are {head} octets long")
    try:
        message = email.message_from_bytes(mail.data, _class=EmailMessage, policy=email.policy.default)
        files = _parts(mail, message, spending)
    except (ValueError, LookupError, TypeError, AttributeError, AssertionError, RecursionError) as problem:
        # The standard library's parser meets broken MIME with many kinds of errors.
        raise refused("kit-unreadable", mail.path, f"{type(problem).__name__}: {problem}"[:200]) from None
    for member in files:
        spending.spend(len(member.data), member.name)
    return files


def _parts(mail: KitFile, message: EmailMessage, budget: Budget) -> list[KitFile]:
    files: list[KitFile] = []
    texts: dict[str, list[str]] = {"plain": [], "html": []}
    for number, part in enumerate(message.walk()):
        if number >= MAX_PARTS:
            raise refused("archive-bomb", mail.path, f"more than {MAX_PARTS} parts")
        if part.is_multipart():
            _tell_damage(mail, "", part, budget)
            continue
        name = part.get_filename()
        if part.get_content_maintype() == "text" and not name:
            kind = "html" if part.get_content_subtype() == "html" else "plain"
            texts[kind].append(_decoded(part))
            _tell_damage(mail, BODY, part, budget)
            continue
        octets = part.get_payload(decode=True)
        data = octets if isinstance(octets, bytes) else b""
        if len(data) > limits.MAX_MEMBER:
            raise refused("archive-bomb", mail.path, f"an attachment of {len(data)} octets")
        plain = re.sub(r"[/\\\0:]+", "-", name or f"part-{number}").lstrip(".")
        files.append(mail.inside(str(plain or number), data))
        _tell_damage(mail, str(plain or number), part, budget)
    body = "\n".join(texts["plain"])
    if body.strip():
        return [mail.inside(BODY, QUOTED.sub("", body).encode("utf-8", "replace")), *files]
    pages = [mail.inside(f"{BODY}.html", page.encode("utf-8", "replace")) for page in texts["html"][:1]]
    return [*pages, *files]


def _tell_damage(mail: KitFile, name: str, part: EmailMessage, budget: Budget) -> None:
    for defect in part.defects:
        if words := DAMAGE.get(type(defect).__name__):
            budget.left.append(Left(mail.inside(name, b"") if name else mail, "mail-damaged", words))


def _decoded(part: EmailMessage) -> str:
    octets = part.get_payload(decode=True)
    charset = part.get_content_charset() or "utf-8"
    data = octets if isinstance(octets, bytes) else b""
    try:
        return data.decode(charset, "replace")
    except LookupError:
        return data.decode("utf-8", "replace")
