"""The machine is suspended and runs again: the gateway is told at once, and not when a timer ends."""

from __future__ import annotations

import asyncio
import os
import select

import pytest

from zesty_burrow.carrier.network import machine_watch
from zesty_burrow.carrier.network.machine_watch import MachineWatch
from zesty_burrow.host.watches.sleep_watch import drain_sleep_watch, open_sleep_watch, seconds_asleep

PEER = "127.0.0.1"


def after(monkeypatch, *moments):
    """Whether this machine counts as moved after each time that the clock was set, with so much sleep in all."""
    clock = {"asleep": 5.0}
    made = os.eventfd(0, os.EFD_NONBLOCK)
    monkeypatch.setattr(machine_watch, "open_sleep_watch", lambda: made)
    monkeypatch.setattr(machine_watch, "drain_sleep_watch", os.eventfd_read)
    monkeypatch.setattr(machine_watch, "seconds_asleep", lambda: clock["asleep"])

    async def run():
        wake, found = asyncio.Event(), []
        watch = MachineWatch(wake)
        watch.start()
        watch.note(PEER)
        for asleep in moments:
            clock["asleep"] = asleep
            os.eventfd_write(made, 1)
            await asyncio.sleep(0.02)
            found.append((wake.is_set(), watch.take_move(PEER)))
            wake.clear()
        watch.stop()
        return found

    return asyncio.run(run())


@pytest.mark.parametrize(
    ("moments", "found"),
    [
        ([5.0], [(False, False)]),
        ([5.4], [(False, False)]),
        ([65.0], [(True, True)]),
        ([65.0, 65.0, 9000.0], [(True, True), (False, False), (True, True)]),
    ],
)
def test_only_sleep_counts(monkeypatch, moments, found):
    """A clock that a program sets is no sleep; each sleep counts once."""
    assert after(monkeypatch, *moments) == found


def test_the_kernel_s_timer():
    """It is there, silent as long as nobody sets the clock, and can be begun again."""
    watch = open_sleep_watch()
    assert watch >= 0
    try:
        for _ in range(2):
            assert select.select([watch], [], [], 0.05)[0] == []
            drain_sleep_watch(watch)
    finally:
        os.close(watch)
    assert seconds_asleep() > -0.1
