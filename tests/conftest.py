"""Fixtures that all tests share."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, settings

from zesty_burrow.carrier.fast_path.compile_cache import CompileCache

CompileCache().choose_folder()
settings.register_profile(
    "house", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow], derandomize=True
)
settings.load_profile("house")


LONGEST_FILES = ("tests/lab/test_datapath.py", "tests/carrier/", "tests/lab/")
"""Begun first, so that no worker ends long after the other."""


def pytest_collection_modifyitems(items):
    """The longest files first, else in order."""
    items.sort(
        key=lambda item: next(
            (n for n, name in enumerate(LONGEST_FILES) if item.nodeid.startswith(name)), len(LONGEST_FILES)
        )
    )


@pytest.fixture(scope="session")
def authority():
    """The provider's authority."""
    from support import AUTHORITY

    return AUTHORITY


@pytest.fixture(scope="session")
def cluster():
    """A private PostgreSQL cluster."""
    from store.cluster import Cluster

    made = Cluster()
    yield made
    made.stop()
