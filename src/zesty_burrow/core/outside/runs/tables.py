"""Tables as CSV (RFC 4180) that programs read without rules of their own: one line of names, one for each row."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping, Sequence
from typing import Any


def csv_table(columns: Sequence[str], rows: Iterable[Mapping[str, Any]]) -> bytes:
    """UTF-8. What a row lacks is empty; lists are joined by a space; True and False are ``true`` and ``false``."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(columns)
    for row in rows:
        writer.writerow([_cell(row.get(column)) for column in columns])
    return text.getvalue().encode()


def _cell(value: Any) -> Any:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list | tuple):
        value = " ".join(map(str, value))
    if value is None:
        return ""
    # A leading sign would be a formula to a program for tables.
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@") else value
