"""Libraries that only some work needs: they are installed by extras, named after what people do."""

from __future__ import annotations

import contextlib
import importlib.util

from zesty_burrow.errors import ExtraMissing

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator

EXTRAS = {
    "cards": ("printed cards", ("fpdf", "segno")),
    "codes": ("QR codes", ("PIL", "segno", "zxingcpp")),
    "documents": (
        "office documents, PDF and rich text",
        ("docx", "odfdo", "openpyxl", "pypdf", "striprtf", "PIL", "zxingcpp"),
    ),
    "fast": ("the compiled data path", ("numba", "numpy")),
    "http3": ("HTTP/3", ("qh3",)),
    "keyring": ("the system keyring", ("keyring",)),
    "pages": ("pages with timelines", ("matplotlib",)),
    "postgresql": ("a shared store", ("psycopg",)),
    "server": ("the server for links, reports and the observatory", ("aiohttp",)),
    "ssh": ("handing over by SSH", ("asyncssh",)),
}
"""For each extra: what it is for, and the modules that it installs."""


@contextlib.contextmanager
def extra(name: str) -> Iterator[None]:
    """Around imports of an extra's libraries: raises :class:`ExtraMissing` if one is not installed."""
    try:
        yield
    except ModuleNotFoundError as problem:
        if (problem.name or "").partition(".")[0] not in EXTRAS[name][1]:
            raise
        raise _missing(name) from None


def require(*names: str) -> None:
    """Raises :class:`ExtraMissing` for the first of these extras that is not installed. Loads nothing."""
    for name in names:
        if not is_installed(name):
            raise _missing(name)


def is_installed(name: str) -> bool:
    """Whether all libraries of an extra can be found. Loads nothing."""
    try:
        return all(importlib.util.find_spec(module) is not None for module in EXTRAS[name][1])
    except ModuleNotFoundError:
        return False


def _missing(name: str) -> ExtraMissing:
    purpose = EXTRAS[name][0]
    return ExtraMissing(
        f"{purpose} cannot be used here",
        why=f"the extra [{name}] is not installed",
        next_step=f"Install it: pip install 'zesty-burrow[{name}]'. The extra [all] has everything.",
    )
