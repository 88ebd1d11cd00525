"""``python -m spectrane``: the command without its script."""

from spectrane.cli.entry import run

if __name__ == "__main__":
    run()
