"""What a sender of our own has noticed in a moment: values, and how they follow from what was sent and answered."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any, NamedTuple

from zesty_burrow.core.ways_out.seen import UnexplainedPackets
from zesty_burrow.records import asdict, dataclass

REKEY, LOSS, RETURN, SWITCH, END = "rekey", "loss", "return", "switch", "end"


class Exchange(NamedTuple):
    """A question of the sender: ``sent``, ``answered``: seconds of one clock, the second 0 for none; ``seen_as``: the
    address that it was seen to come from.
    """

    sent: float
    answered: float = 0.0
    seen_as: str = ""


@dataclass(frozen=True, slots=True)
class Moment:
    """``seconds``: how long it took; ``sent``, ``answered``: the sender's questions in that time; ``silence``: the
    longest time without an answer, in seconds. ``beside``: packets that left beside the tunnel; ``exits``: addresses
    that the questions were seen to come from, in order. ``not_done``: why it could not be caused.
    """

    name: str
    seconds: float = 0.0
    sent: int = 0
    answered: int = 0
    silence: float = 0.0
    beside: int = 0
    exits: tuple[str, ...] = ()
    not_done: str = ""

    def document(self) -> dict[str, Any]:
        return asdict(self)


def moment_of(
    name: str, began: float, ended: float, exchanges: Sequence[Exchange], beside: Sequence[UnexplainedPackets]
) -> Moment:
    """``beside``: what the watch has seen in that time alone."""
    own = [one for one in exchanges if began <= one.sent <= ended]
    answers = sorted(one.answered for one in exchanges if one.answered and began <= one.answered <= ended)
    edges = [began, *answers, ended]
    silence = max((later - earlier for earlier, later in pairwise(edges)), default=0.0)
    exits = tuple(dict.fromkeys(one.seen_as for one in own if one.seen_as))
    answered = sum(1 for one in own if one.answered)
    return Moment(name, ended - began, len(own), answered, silence, sum(row.packets for row in beside), exits)
