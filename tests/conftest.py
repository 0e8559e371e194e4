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


@pytest.fixture(scope="session")
def authority():
    """The provider's authority."""
    from support import AUTHORITY

    return AUTHORITY
