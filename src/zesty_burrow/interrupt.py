"""How Ctrl-C ends the program where nothing has to be cleaned up, and how it waits where something is being changed.

An exception that a signal raises in the middle of a change, or of putting it back, would leave that half done.
"""

from __future__ import annotations

import os
import signal

INTERRUPTED = 130
"""128 and the number of SIGINT, as shells have it."""
END_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def end_at_once(*_: object) -> None:
    """A signal's handler: nothing has been begun, or everything is done."""
    os._exit(INTERRUPTED)


def raise_once(*_: object) -> None:
    """A SIGINT handler: what the first one brings about is not interrupted by another."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise KeyboardInterrupt


def hold_end_signals() -> None:
    """From here on the signals that end a tunnel wait."""
    signal.pthread_sigmask(signal.SIG_BLOCK, END_SIGNALS)


def deliver_end_signals() -> None:
    """Those that have waited are delivered now, to their handlers."""
    signal.pthread_sigmask(signal.SIG_UNBLOCK, END_SIGNALS)
