"""A user's own store, read by root with that user's rights: root reads nothing that the user could not read."""

from __future__ import annotations

import importlib
import os
import pwd
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from typing import TYPE_CHECKING, Any, TypeVar, cast

if TYPE_CHECKING:
    from zesty_burrow.store.store import Store

T = TypeVar("T")


@contextmanager
def acting_as(user: int) -> Iterator[None]:
    """With the rights of a user and of their own group alone; root's again afterwards. For root, in one thread."""
    own = os.getegid(), os.getgroups()
    group = pwd.getpwuid(user).pw_gid
    try:
        os.setgroups([])
        os.setegid(group)
        os.seteuid(user)
        yield
    finally:
        os.seteuid(0)
        os.setegid(own[0])
        os.setgroups(own[1])


class _AsOwner:
    """Each call of the store is made with its owner's rights: it opens files when it needs them."""

    def __init__(self, store: Store, user: int) -> None:
        self._store, self._user = store, user

    def __getattr__(self, name: str) -> Any:
        value = getattr(self._store, name)
        if not callable(value):
            return value

        @wraps(value)
        def called(*given: Any, **named: Any) -> Any:
            return with_rights_of(lambda: value(*given, **named), self._user)

        return called


def with_rights_of(call: Callable[[], T], user: int) -> T:
    """Call something with a user's rights.

    Parts of this program that are loaded on the way are loaded as root: they may lie where only root may read.
    """
    loaded: set[str] = set()
    while True:
        try:
            with acting_as(user):
                return call()
        except ModuleNotFoundError as problem:
            if not problem.name or problem.name in loaded:
                raise
            loaded.add(problem.name)
            importlib.invalidate_caches()
            importlib.import_module(problem.name)


def owners_store(opened: Callable[[], Store], user: int) -> Store:
    """``opened``: opens it, which is done with the rights of ``user`` as well."""
    return cast("Store", _AsOwner(with_rights_of(opened, user), user))
