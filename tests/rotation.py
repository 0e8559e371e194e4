"""Tests that are many alike: a part of them with each run, another one each day; all of them in a soak."""

from __future__ import annotations

import os
import time

import pytest

DAY = int(os.environ.get("ZESTY_PART", time.strftime("%j")))
"""Which part: the day of the year, or what ``ZESTY_PART`` says."""


def in_this_run(number, parts):
    """Whether the test of that number is in this run's part."""
    return number % parts == DAY % parts


def marks_of(number, parts):
    """For the test of that number: none if it is in this run's part, else the soak's."""
    return () if in_this_run(number, parts) else (pytest.mark.soak,)


def on_day(number, parts):
    """A mark for a whole test: it runs on its day, and in a soak."""
    return pytest.mark.soak if marks_of(number, parts) else lambda test: test
