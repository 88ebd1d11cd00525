"""``python -m spectrane.cli``: the command without its script."""

from spectrane.cli.entry import run

run()
