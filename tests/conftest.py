"""Fixtures that all tests share."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, settings

from rotation import in_this_run
from zesty_burrow.carrier.fast_path.compile_cache import CompileCache

CompileCache().choose_folder()
settings.register_profile(
    "house", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow], derandomize=True
)
settings.load_profile("house")


LONGEST_FILES = ("tests/lab/test_datapath.py", "tests/carrier/", "tests/lab/")
"""Begun first, so that no worker ends long after the other."""


ALL_EACH_TIME = ("tests/lab/test_documents.py", "tests/lab/test_nothing_leaves.py")
"""Where every page of the documents counts, and where the tests themselves say what runs on which day."""


PARTS = 4


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(config, items):
    """Of cases in the lab that are many alike, a fourth with each run, the others in a soak; the longest files first.

    A run that names a test takes all its cases.
    """
    families = {}
    for item in items:
        if "[" in item.nodeid and item.nodeid.startswith("tests/lab/") and not item.nodeid.startswith(ALL_EACH_TIME):
            families.setdefault(item.nodeid.partition("[")[0], []).append(item)
    for family in families.values():
        for number, item in enumerate(family):
            if len(family) > 3 and not in_this_run(number, PARTS) and not any("::" in word for word in config.args):
                item.add_marker("soak")
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
