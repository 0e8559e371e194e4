"""The log of a tunnel: one JSON object a line, with time, level, event and fields."""

from __future__ import annotations

import json
import logging
import os
import traceback
from collections.abc import Mapping
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

RESERVED = ("time", "level", "event")


def line(level: str, event: str, fields: Mapping[str, Any], at: float | None = None) -> str:
    """One line of the log, without its end. ``at``: seconds since the epoch; now by default."""
    when = datetime.now(UTC) if at is None else datetime.fromtimestamp(at, UTC)
    head = {"time": when.strftime("%Y-%m-%dT%H:%M:%S.%fZ"), "level": level, "event": event}
    return json.dumps({**head, **{key: value for key, value in fields.items() if key not in RESERVED}}, default=str)


def write(descriptor: int, level: str, event: str, **fields: Any) -> None:
    """A line at once; where it cannot be written, it is not."""
    with suppress(OSError):  # a log that cannot be written must not end the tunnel
        os.write(descriptor, line(level, event, fields).encode() + b"\n")


class LogLines(logging.Handler):
    """What the program's own loggers and its libraries' say, as lines. ``descriptor``: of an open file."""

    def __init__(self, descriptor: int) -> None:
        super().__init__()
        self._descriptor = descriptor

    def emit(self, record: logging.LogRecord) -> None:
        """The event is the message, or what ``event`` of the record's extras says."""
        fields: dict[str, Any] = {"logger": record.name, **getattr(record, "fields", {})}
        if record.exc_info and record.exc_info[1] is not None:
            fields["trace"] = "".join(traceback.format_exception(record.exc_info[1]))
        write(self._descriptor, record.levelname.lower(), record.getMessage(), **fields)


class ForPeople(logging.Formatter):
    """The same on a terminal: time, level, event, and fields as ``name=value``."""

    def format(self, record: logging.LogRecord) -> str:
        """One line, and the trace of an exception below it."""
        fields = " ".join(f"{key}={value}" for key, value in getattr(record, "fields", {}).items())
        when = datetime.fromtimestamp(record.created, UTC).strftime("%H:%M:%S.%f")[:-3]
        text = f"{when} {record.levelname.lower():<7} {record.getMessage()}  {fields}".rstrip()
        return f"{text}\n{self.formatException(record.exc_info)}" if record.exc_info else text


class InWords(logging.Formatter):
    """For somebody who watches: what has happened and why, alone."""

    def format(self, record: logging.LogRecord) -> str:
        fields = getattr(record, "fields", {})
        what, why = str(fields.get("what", "")), str(fields.get("why", ""))
        said = f"{record.getMessage()}: {what}" if what else record.getMessage()
        return f"  {said} ({why})" if why else f"  {said}"


def note(logger: logging.Logger, level: int, event: str, **fields: Any) -> None:
    """Something that has happened, with its particulars."""
    logger.log(level, event, extra={"fields": fields})


def read_lines(text: str) -> list[dict[str, Any]]:
    """The lines of a log. A line of another form, such as an interpreter's message, becomes an entry too."""
    found = []
    for one in text.splitlines():
        try:
            document = json.loads(one)
        except ValueError:
            document = None
        if not isinstance(document, dict) or "event" not in document:
            document = {"time": "", "level": "error", "event": one}
        found.append(document)
    return found
