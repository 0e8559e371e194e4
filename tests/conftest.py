"""Fixtures that all tests share."""

from __future__ import annotations

from zlib import crc32

import pytest
from hypothesis import HealthCheck, settings
from xdist.scheduler import LoadFileScheduling

from rotation import in_this_run
from zesty_burrow.carrier.fast_path.compile_cache import CompileCache

CompileCache().choose_folder()
settings.register_profile(
    "house", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow], derandomize=True
)
settings.load_profile("house")


LONGEST_FILES = ("tests/lab/test_nothing_leaves.py", "tests/lab/test_datapath.py", "tests/carrier/", "tests/lab/")
"""Begun first, so that no worker ends long after the others."""
IN_PIECES = {
    "tests/lab/test_nothing_leaves.py": 4,
    "tests/lab/test_tunnel.py": 2,
    "tests/lab/test_connect_ip.py": 2,
    "tests/carrier/test_same_result.py": 2,
}
"""Files whose tests are given to several workers, in so many pieces; of the others one worker takes all."""
ALL_EACH_TIME = ("tests/lab/test_documents.py", "tests/lab/test_nothing_leaves.py")
"""Where every page of the documents counts, and where the tests themselves say what runs on which day."""
EACH_DAY = ("tests/lab/test_leaks.py",)
"""Of which a part of the cases runs every day."""
CASES, FILES = 4, 3
"""Every third file of the lab's tests has its day; of its cases that are many alike a fourth runs then."""


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(config, items):
    """Of the lab's tests a part with each run, the others in a soak; the longest files first; what stays together.

    A run that names a file or a test takes all its cases.
    """
    families = {}
    for item in items:
        if item.nodeid.startswith("tests/lab/") and not item.nodeid.startswith(ALL_EACH_TIME):
            families.setdefault(item.nodeid.partition("[")[0], []).append(item)
    places = {name: place for place, name in enumerate(dict.fromkeys(name.partition("::")[0] for name in families))}
    if not any(".py" in word for word in config.args):
        for name, family in families.items():
            for number, item in enumerate(family):
                by_file = name.startswith(EACH_DAY) or in_this_run(places[name.partition("::")[0]], FILES)
                if not by_file or (len(family) > 3 and not in_this_run(number, CASES)):
                    item.add_marker("soak")
    items.sort(
        key=lambda item: next(
            (n for n, name in enumerate(LONGEST_FILES) if item.nodeid.startswith(name)), len(LONGEST_FILES)
        )
    )


class Pieces(LoadFileScheduling):
    """The tests of a file, or of a piece of it, go to one worker."""

    def _split_scope(self, nodeid):
        name = nodeid.partition("::")[0]
        return f"{name} {crc32(nodeid.encode()) % IN_PIECES.get(name, 1)}"


def pytest_xdist_make_scheduler(config, log):
    return Pieces(config, log) if config.getvalue("dist") == "loadfile" else None


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
