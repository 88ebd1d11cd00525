"""``python -m spectrane.cli``: the command without its script."""

from spectrane.cli.start import main

main()
