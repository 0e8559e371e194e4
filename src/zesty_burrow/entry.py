"""The program's first steps: before anything else is loaded, Ctrl-C ends it with 130 and without a trace."""

import os
import signal
import sys

from zesty_burrow.interrupt import end_at_once


def main() -> int:
    """Load the command line and run it."""
    signal.signal(signal.SIGINT, end_at_once)
    if len(sys.argv) == 1:
        # The name alone: no parser is needed for that.
        from zesty_burrow.commands.overview import show_quickly

        if show_quickly():
            # Everything is written; taking the interpreter apart would take as long as half of it.
            os._exit(0)
    from zesty_burrow import cli

    return cli.run_to_the_end()
