"""Options that find limits elsewhere than in the file that is drawn, or in all files together."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.looks import LookOptions
from spectrane.cli.options import option
from spectrane.kernels.records import record
from spectrane.model.addresses import has_ending
from spectrane.model.look import Look


@record(frozen=True)
class CommonLimitsOptions(LookOptions):
    """Where limits are found."""

    shared_scenes: bool = option(
        "--shared-scenes", group="Look", is_flag=True,
        help="One pair of limits for all files, found in the values of all.",
    )  # fmt: skip
    limits_like: str | None = option(
        "--limits-like", group="Look", type=click.Path(),
        help="Limits as they are found in this file.",
    )  # fmt: skip
    limits_without: str | None = option(
        "--limits-without", group="Look", type=click.Path(),
        help="Limits do not see where this raster is not 0 (or passes --bits), nor what lies in "
        "these outlines: clouds.",
    )  # fmt: skip
    bits: str | None = words.bits()

    def limits_of(self) -> str:
        """Return whose limits are taken: of ``each`` file, of ``all``, or a file's name."""
        if self.shared_scenes and self.limits_like:
            raise click.UsageError("say one of --shared-scenes and --limits-like")
        if self.limits_without is None:
            self.refuse(["bits"], "without --limits-without")
        return "all" if self.shared_scenes else self.limits_like or "each"

    def with_limits(
        self, rasters: Sequence[Any], looks: Sequence[Look], stack: contextlib.ExitStack
    ) -> list[Look]:
        """Return the looks of rasters with the limits that the options find for them."""
        from spectrane.display.common_limits import common_limits
        from spectrane.model.source import source_of

        if self.limits_of() == "each" and self.limits_without is None:
            return list(looks)
        if self.limits_like is not None:
            return self._like(looks, stack)
        seen = [source_of(self._uncovered(raster, stack)) for raster in rasters]
        scenes = list(zip(seen, looks, strict=True))
        groups = [scenes] if self.shared_scenes else [[scene] for scene in scenes]
        covered = self.limits_without is not None
        return [look for group in groups for look in common_limits(group, covered=covered)]

    def _like(self, looks: Sequence[Look], stack: contextlib.ExitStack) -> list[Look]:
        """Return looks with the limits they find in the file of ``--limits-like``."""
        from spectrane.display.common_limits import common_limits
        from spectrane.model.source import source_of
        from spectrane.opening import open_raster

        assert self.limits_like is not None
        raster = self.computed(stack.enter_context(open_raster(self.limits_like)))
        seen, covered = source_of(self._uncovered(raster, stack)), self.limits_without is not None
        own = (raster.look or Look()).limits  # and not those that are kept with what is drawn
        made = []
        for look in looks:
            asked = look if self.limits or self.look else replace(look, limits=own)
            found = common_limits([(seen, asked)], covered=covered)[0]
            made.append(look if look.classes else replace(look, limits=found.limits, shared=False))
        return made

    def _uncovered(self, raster: Any, stack: contextlib.ExitStack) -> Any:
        """Return a raster without what limits shall not see."""
        from spectrane.looking import uncovered
        from spectrane.opening import open_raster

        cover = self.limits_without
        if cover is None:
            return raster
        if has_ending(cover, ".json", ".geojson", ".gpkg"):
            self.refuse(["bits"], "with outlines, only with a raster")
            return uncovered(raster, cover)
        tested = stack.enter_context(open_raster(cover))
        if len(tested.bands) > 1:
            names = ", ".join(band.name for band in tested.bands[:12])
            raise click.UsageError(f"--limits-without: {cover} has {len(tested.bands)} bands "
                                   f"({names}); expected a mask of one")  # fmt: skip
        return uncovered(raster, tested, bits=self.bits)
