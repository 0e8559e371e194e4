"""A table of devices as text (CSV, RFC 4180): a heading, then a device a line."""

from __future__ import annotations

import csv
import io

from zesty_burrow.errors import InputError, Malformed
from zesty_burrow.store.devices import COLUMNS, Device, from_texts

MOST_DEVICES = 100_000
LONGEST_CELL = 4096
SEPARATORS = ",;\t"


def read_devices(text: str, where: str) -> list[Device]:
    """All or none: :class:`Malformed` names the line that is wrong. Spreadsheets separate cells in three ways."""
    first = text.lstrip("\ufeff").partition("\n")[0]
    separator = max(SEPARATORS, key=first.count)
    rows = csv.reader(io.StringIO(text.lstrip("\ufeff"), newline=""), delimiter=separator, strict=True)
    found: dict[str, Device] = {}
    heading: list[str] = []
    try:
        for row in rows:
            if not any(cell.strip() for cell in row):
                continue
            if not heading:
                heading = [cell.strip().lower().replace(" ", "_").replace("-", "_") for cell in row]
                if not {"name", "kind"} <= set(heading):
                    raise InputError(
                        f"{where}: the heading needs the columns name and kind",
                        why=f"it has {', '.join(heading)}",
                        next_step=f"There are {', '.join(COLUMNS)}.",
                    )
                continue
            made = _device(heading, row, f"{where}, line {rows.line_num}")
            if made.name in found:
                raise Malformed(f"{where}, line {rows.line_num}: {made.name} is there already")
            found[made.name] = made
            if len(found) > MOST_DEVICES:
                raise Malformed(f"{where}: more than {MOST_DEVICES} devices")
    except csv.Error as problem:
        raise Malformed(f"{where}, line {rows.line_num}: this is no CSV", why=str(problem)) from None
    if not found:
        raise InputError(f"{where}: there is no device in it", next_step="A heading and a line a device are needed.")
    return list(found.values())


def _device(heading: list[str], row: list[str], where: str) -> Device:
    if len(row) > len(heading):
        raise Malformed(f"{where}: more cells than the heading has", why=f"{len(row)} instead of {len(heading)}")
    long = next((name for name, cell in zip(heading, row, strict=False) if len(cell) > LONGEST_CELL), "")
    if long:
        raise Malformed(f"{where}: {long} is longer than {LONGEST_CELL} letters")
    try:
        return from_texts({name: cell for name, cell in zip(heading, row, strict=False) if name})
    except ValueError as problem:
        raise Malformed(f"{where}: {problem}", next_step="Correct the line; nothing was stored.") from None
