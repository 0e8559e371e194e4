"""The program's first steps: before anything else is loaded, Ctrl-C ends it with 130 and without a trace."""

import signal

from zesty_burrow.interrupt import end_at_once


def main() -> int:
    """Load the command line and run it."""
    signal.signal(signal.SIGINT, end_at_once)
    from zesty_burrow import cli

    return cli.run_to_the_end()
