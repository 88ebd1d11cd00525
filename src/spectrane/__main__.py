"""``python -m spectrane``: the command without its script."""

from spectrane.cli.start import main

if __name__ == "__main__":
    main()
