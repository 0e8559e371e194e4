"""What a file is, by its content first and its name second."""

from __future__ import annotations

import re
from enum import StrEnum

from zesty_burrow.core.profile import PEM_MARK
from zesty_burrow.errors import Malformed
from zesty_burrow.intake import sealed
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers import server_list, sheet, tables
from zesty_burrow.intake.readers.certificates import PKCS7_MARK
from zesty_burrow.intake.readers.codes import looks_like_picture
from zesty_burrow.intake.readers.credentials import looks_like_credentials
from zesty_burrow.intake.readers.encodings import decode_untrusted
from zesty_burrow.intake.readers.instance_data import looks_like_instance_data
from zesty_burrow.intake.readers.keys import looks_like_key, looks_like_pkcs12
from zesty_burrow.intake.readers.vocabulary import Vocabulary, shipped

READ_ME = re.compile(r"^(read[ _.-]?me|licen[cs]e|terms|changes|news|notes|instructions?|help|about)", re.IGNORECASE)
PROFILE_KEY = re.compile(rb"^\s*(?:format\s*=|\[(?:profile|gateway)\])", re.MULTILINE)
CERTIFICATE_ENDINGS = (".pem", ".crt", ".cer", ".der", ".p7b", ".p7c")
TABLE_ENDINGS = (".csv", ".tsv", ".json")
HEAD = 65536


class FileKind(StrEnum):
    """What a file of a kit is."""

    PROFILE = "profile"
    CERTIFICATE = "certificate"
    KEY = "private key"
    REVOCATION = "revocation list"
    CREDENTIALS = "credentials"
    SHEET = "sheet"
    TABLE = "table"
    DATA = "RFC 9061 data"
    SEALED = "sealed credentials"
    CODE = "QR code"
    READ_ME = "read-me"
    OTHER = "other"


def text_of(member: KitFile) -> str:
    """A file's text. Raises :class:`Malformed` if it is not text."""
    return member.data.decode("utf-8", "replace") if member.is_text else decode_untrusted(member.data, member.path).text


def recognise(member: KitFile, words: Vocabulary | None = None) -> FileKind:
    """The kind of a plain file; archives and mails were opened before."""
    data, lower = member.data, member.name.lower()
    head = data[:HEAD]
    is_profile = PROFILE_KEY.search(head) is not None
    if not is_profile and (kind := _recognise_octets(data, head, lower)) is not None:
        return kind
    try:
        text = text_of(member)
    except Malformed:
        return FileKind.PROFILE if is_profile or lower.endswith(".toml") else FileKind.OTHER
    if is_profile or PROFILE_KEY.search(text[:HEAD].encode("utf-8", "replace")):
        return FileKind.PROFILE
    return _recognise_text(member, lower, text, words or shipped())


def _recognise_octets(data: bytes, head: bytes, lower: str) -> FileKind | None:
    """Pictures, keys, certificates and revocation lists tell themselves by their octets."""
    if looks_like_picture(data):
        return FileKind.CODE
    if looks_like_pkcs12(data) or lower.endswith((".p12", ".pfx")) or looks_like_key(data):
        return FileKind.KEY
    if b"-----BEGIN X509 CRL-----" in head or lower.endswith(".crl"):
        return FileKind.REVOCATION
    if PEM_MARK.encode() in data or lower.endswith(CERTIFICATE_ENDINGS) or data.startswith(PKCS7_MARK):
        return FileKind.CERTIFICATE
    return None


def _recognise_text(member: KitFile, lower: str, text: str, words: Vocabulary) -> FileKind:
    if sealed.MARK in text[:200]:
        return FileKind.SEALED
    if looks_like_instance_data(text):
        return FileKind.DATA
    if tables.looks_like_table(text, words, by_name=lower.endswith(TABLE_ENDINGS)):
        return FileKind.TABLE
    if lower.endswith(".toml"):
        try:
            known = set(sheet.read_toml(text, words).values)
        except Malformed:
            return FileKind.PROFILE
        return FileKind.SHEET if known & sheet.ANCHORS else FileKind.PROFILE
    if lower.endswith((".csv", ".tsv")) and set(sheet.read_pairs(text, words).values) & sheet.ANCHORS:
        return FileKind.SHEET
    if sheet.looks_like_sheet(text, words):
        return FileKind.SHEET
    if READ_ME.match(member.name):
        return FileKind.READ_ME
    if looks_like_credentials(member.name, text):
        return FileKind.CREDENTIALS
    if server_list.looks_like_list(text):
        return FileKind.SHEET
    is_prose = lower.endswith((".txt", ".md", ".html")) or member.is_text or "text of the mail" in lower
    return FileKind.READ_ME if is_prose and text.count(" ") > 8 else FileKind.OTHER
