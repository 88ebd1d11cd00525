"""Where ``spectrane`` starts: an interrupt is one line from the first import on."""

from __future__ import annotations

import signal

from spectrane.cli import interrupts


def main() -> None:
    """Run the command line."""
    try:
        signal.signal(signal.SIGINT, interrupts.interrupt)
        from spectrane.cli.entry import run

        run()
    except interrupts.Interrupted:
        interrupts.end_interrupted()
