"""LCP's options (RFC 1661 §6): what each side can receive, how one signs in, whether a line leads back to itself."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.protocols.ppp.automaton import Options
from zesty_burrow.protocols.ppp.packet import Option
from zesty_burrow.protocols.ppp.sign_in import METHOD, OPTION

MRU, CHARACTER_MAP, AUTHENTICATION, QUALITY, MAGIC, SHORT_PROTOCOL, SHORT_ADDRESS = 1, 2, 3, 4, 5, 7, 8
LEAST_MRU, DEFAULT_MRU = 128, 1500


class LcpOptions(Options):
    """``mru``: the longest packet that this side takes. ``methods``: by which it signs in, the preferred one first.

    ``demanded``: the method by which it wants the other side to sign in, if it does.
    ``method``: what was agreed on; ``peer_mru``: what the other side takes; ``loops``: the line leads back to us.
    """

    def __init__(self, random: Random, mru: int, methods: tuple[str, ...] = (), demanded: str = "") -> None:
        self.mru, self.methods, self.demanded = mru, methods, demanded
        self.magic = random(4)
        self.method, self.unwanted = "", ""
        self.peer_mru = DEFAULT_MRU
        self.loops = False
        self._random = random
        self._left_out: set[int] = set()

    def wanted(self) -> list[Option]:
        found = [Option(MRU, self.mru.to_bytes(2)), Option(MAGIC, self.magic)]
        found += [Option(AUTHENTICATION, OPTION[self.demanded])] if self.demanded else []
        return [one for one in found if one.kind not in self._left_out]

    def judge(self, option: Option) -> Option | None:
        size = len(option.value)
        if option.kind == MRU and size == 2:
            return option if int.from_bytes(option.value) >= LEAST_MRU else Option(MRU, LEAST_MRU.to_bytes(2))
        if option.kind == AUTHENTICATION:
            return self._judge_method(option)
        if option.kind == MAGIC and size == 4:
            # RFC 1661 §6.4: the same number comes from this very side, if from anybody.
            self.loops = option.value == self.magic
            return Option(MAGIC, self._random(4)) if self.loops or option.value == bytes(4) else option
        known = (CHARACTER_MAP, 4), (SHORT_PROTOCOL, 0), (SHORT_ADDRESS, 0)
        return option if (option.kind, size) in known else None

    def _judge_method(self, option: Option) -> Option | None:
        if self.demanded or not self.methods:
            return None
        method = METHOD.get(option.value, "")
        if method in self.methods:
            return option
        self.unwanted = method or f"another method ({option.value[:8].hex()})"
        return Option(AUTHENTICATION, OPTION[self.methods[0]])

    def corrected(self, option: Option) -> None:
        if option.kind == MRU and len(option.value) == 2:
            self.mru = max(min(self.mru, int.from_bytes(option.value)), LEAST_MRU)
        elif option.kind == MAGIC:
            self.magic = self._random(4)

    def refused(self, option: Option) -> None:
        if option.kind != AUTHENTICATION:
            self._left_out.add(option.kind)

    def agreed(self, options: Sequence[Option]) -> None:
        self.method = ""
        for option in options:
            if option.kind == MRU:
                self.peer_mru = int.from_bytes(option.value)
            elif option.kind == AUTHENTICATION:
                self.method = METHOD[option.value]
