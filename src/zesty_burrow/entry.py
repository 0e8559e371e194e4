"""The program's first steps: before anything else is loaded, Ctrl-C ends it with 130 and without a trace."""

import os
import signal

INTERRUPTED = 130
"""128 and the number of SIGINT, as shells have it."""


def end_at_once(*_: object) -> None:
    """Nothing has been begun, or everything is done: there is nothing to clean up."""
    os._exit(INTERRUPTED)


def main() -> int:
    """Load the command line and run it."""
    signal.signal(signal.SIGINT, end_at_once)
    from zesty_burrow import cli

    return cli.run_to_the_end()
