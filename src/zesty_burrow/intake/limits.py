"""How much we agree to read (documented in docs/security.md), and how a refusal is reported."""

from __future__ import annotations

from zesty_burrow.core.finding import CODES
from zesty_burrow.errors import InputError, LimitExceeded

MAX_MEMBERS = 20_000
MAX_MEMBER = 4 << 20
MAX_TOTAL = 256 << 20
MAX_KIT_FILE = 128 << 20
MAX_DOCUMENT = 32 << 20
"""Unpacked octets of an office document: its library holds several times that in memory."""
MAX_DEPTH = 4
MAX_LZMA_MEMORY = 64 << 20
MAX_LISTS = 100
MAX_KIT_PIXELS = 120_000_000
MAX_KIT_KEYS = 200
MAX_KIT_CERTIFICATES = 1000
MAX_RATIO = 200
"""Unpacked octets for each packed one, beyond the first mebibyte."""


def refused(slug: str, subject: str, detail: str = "") -> InputError:
    """An error that stands for a finding's code: what it is about, why, and what to do."""
    code = CODES[slug]
    kind = LimitExceeded if slug == "archive-bomb" else InputError
    why = f"{code.title} ({detail})" if detail else code.title
    return kind(f"{subject} cannot be taken", why=why, next_step=code.remedy, slug=slug)
