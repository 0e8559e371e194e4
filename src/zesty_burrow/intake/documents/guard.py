"""Runs a library on a stranger's document: whatever it raises becomes one error that names the document."""

from __future__ import annotations

import logging
import warnings
from collections.abc import Iterator
from contextlib import contextmanager

from zesty_burrow.errors import BurrowError
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

LOGGERS = ("pypdf", "odfdo", "openpyxl", "docx")


@contextmanager
def reading(member: KitFile, what: str) -> Iterator[None]:
    """``what``: the kind of document. Memory and Ctrl-C go on as they are."""
    for name in LOGGERS:
        # What they have to say of a stranger's document would go to the terminal as it is.
        logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    except (BurrowError, MemoryError):
        raise
    except Exception as problem:
        # Libraries for documents meet damage with every kind of error there is.
        words = " ".join(f"{type(problem).__name__}: {problem}".split())[:150]
        raise refused("document-damaged", member.path, f"no {what} that can be read: {words}") from None
