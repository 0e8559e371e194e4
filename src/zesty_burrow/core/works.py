"""What does a data path's work on octets, in one of two ways: by columns, or by loops that were compiled."""

from __future__ import annotations

from typing import NamedTuple

from zesty_burrow.core.esp.batch import Opener, Sealer
from zesty_burrow.core.offload.join import Joiner
from zesty_burrow.core.offload.split import Splitter


class Works(NamedTuple):
    """One way."""

    sealer: type[Sealer]
    opener: type[Opener]
    splitter: type[Splitter]
    joiner: type[Joiner]


COLUMNS = Works(Sealer, Opener, Splitter, Joiner)
