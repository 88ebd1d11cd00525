"""Which tiles of a folder are finished, so that a run that was killed goes on."""

from __future__ import annotations

import os
from collections.abc import Sequence

from spectrane.model.errors import AccessError, ExistingFile
from spectrane.model.regular_files import reason_of
from spectrane.pages.tile_matrices import Tile

_LIST = "tiles.parts"


class TileList:
    """Which tiles are finished, also those that are empty; an earlier run's, if it was this job."""

    def __init__(self, root: str, job: str, overwrite: bool) -> None:
        self.root, self.path = root, os.path.join(root, _LIST)
        self.done: dict[Tile, bool] = {}
        known = self._load(job)
        if not known:
            if os.path.isdir(root) and os.listdir(root) and not overwrite:
                raise ExistingFile(f"{root}: holds other files already; overwrite (--overwrite) "
                                   "writes among them")  # fmt: skip
            try:
                os.makedirs(root, exist_ok=True)
                with open(self.path, "w", encoding="utf-8") as file:
                    file.write(job + "\n")
            except OSError as error:
                raise AccessError(f"{root}: cannot be written: {reason_of(error)}") from error

    def _load(self, job: str) -> bool:
        try:
            with open(self.path, encoding="utf-8") as file:
                lines = file.read().split("\n")
        except OSError:
            return False
        if lines[0] != job:
            return False
        for line in lines[1:]:
            parts = line.split()
            if len(parts) == 4 and all(part.isdecimal() for part in parts):
                zoom, column, row, full = map(int, parts)
                self.done[zoom, column, row] = bool(full)
        return True

    def add(self, tiles: Sequence[tuple[Tile, bool]]) -> None:
        """Note finished tiles, and whether anything is in them."""
        with open(self.path, "a", encoding="utf-8") as file:
            for tile, full in tiles:
                self.done[tile] = full
                file.write(f"{tile[0]} {tile[1]} {tile[2]} {int(full)}\n")

    def abandon(self) -> None:
        """Leave nothing where there was nothing, if no tile was finished."""
        if not self.done and os.listdir(self.root) == [_LIST]:
            os.unlink(self.path)
            os.rmdir(self.root)

    def finish(self) -> None:
        """Forget the list: all is there."""
        os.unlink(self.path)
