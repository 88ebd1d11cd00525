"""Where ``spectrane`` starts: an interrupt is one line from the first import on."""

from __future__ import annotations

import gc
import signal

from spectrane.cli import interrupts

_ALLOCATIONS = 50_000
"""Objects made between two searches for rings of garbage: a command makes few, and ends soon; by
Python's own 700 a start alone is searched a hundred times (5 to 8 % of its time)."""

_STACK = 17_000
"""Values that ``main`` keeps room for, which makes the first piece of Python's stack 256 kB. Pieces
of 16 kB are mapped and given back at each call that crosses the end of one: 1800 times in a start,
where a loop happens to stand there (3 to 6 % of its time)."""


def main() -> None:
    """Run the command line."""
    try:
        gc.set_threshold(_ALLOCATIONS)
        signal.signal(signal.SIGINT, interrupts.interrupt)
        from spectrane.cli.entry import run
        from spectrane.cli.left_out import leave_out
        from spectrane.kernels import choice

        choice.process_is_ours = True
        leave_out()
        run()
    except interrupts.Interrupted:
        interrupts.end_interrupted()
    finally:
        gc.freeze()  # else the end of the process searches all there is for garbage, twice


main.__code__ = main.__code__.replace(co_stacksize=_STACK)
