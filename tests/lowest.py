"""Print the oldest versions that the project declares, as requirements: for ``make lowest``."""

from __future__ import annotations

import tomllib
from pathlib import Path

PROJECT = tomllib.loads((Path(__file__).parent.parent / "pyproject.toml").read_text())["project"]


def lowest() -> list[str]:
    """Return every dependency, extras too, pinned to the version it is declared from."""
    extras = PROJECT["optional-dependencies"]
    listed = [*PROJECT["dependencies"], *extras["storage"], *extras["cluster"]]
    return [one.replace(">=", "==") for one in listed if not one.startswith("spectrane")]


if __name__ == "__main__":
    print("\n".join(lowest()))
