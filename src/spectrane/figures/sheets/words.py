"""The words of a sheet: title and subtitle above, the small print at the foot."""

from __future__ import annotations

from dataclasses import replace

from spectrane.display.sheet_settings import SheetSettings
from spectrane.figures.sheets.pen import Box, Pen, line_height
from spectrane.figures.sheets.ticks import SMALL
from spectrane.kernels.records import record

_TITLE, _SUBTITLE = 17.0, 10.5
_QUIET = "#5b646c"


@record(frozen=True)
class Words:
    """What is written above and below all, and the room it leaves."""

    pen: Pen
    settings: SheetSettings
    foot: tuple[str, ...]

    @property
    def content(self) -> Box:
        """The sheet within its margins."""
        margin = self.settings.margin
        return Box(margin, margin, self.pen.wide - 2 * margin, self.pen.high - 2 * margin)

    def title_lines(self) -> tuple[list[str], list[str]]:
        """Return the lines of title and subtitle."""
        wide = self.content.width
        title, subtitle = self.settings.title, self.settings.subtitle
        return (self.pen.wrapped(title, wide, _TITLE, "bold") if title else [],
                self.pen.wrapped(subtitle, wide, _SUBTITLE) if subtitle else [])  # fmt: skip

    def foot_lines(self) -> list[str]:
        """Return the lines of the small print."""
        return [line for text in self.foot
                for line in self.pen.wrapped(text, self.content.width, SMALL)]  # fmt: skip

    def head_box(self) -> Box:
        """Return the place of title and subtitle."""
        title, subtitle = self.title_lines()
        high = len(title) * line_height(_TITLE) + len(subtitle) * line_height(_SUBTITLE)
        return replace(self.content, height=high)

    def foot_box(self) -> Box:
        """Return the place of the small print."""
        high = len(self.foot_lines()) * line_height(SMALL)
        return replace(self.content, top=self.content.bottom - high, height=high)

    def room(self) -> Box:
        """Return what is left for maps and elements."""
        head, foot = self.head_box(), self.foot_box()
        top = head.bottom + (3.0 if head.height else 0.0)
        bottom = foot.top - (2.5 if foot.height else 0.0)
        return replace(self.content, top=top, height=bottom - top)

    def draw(self) -> None:
        """Write it."""
        title, subtitle = self.title_lines()
        box, foot = self.head_box(), self.foot_box()
        top = self.pen.lines(box.left, box.top, title, _TITLE, weight="bold")
        self.pen.lines(box.left, top, subtitle, _SUBTITLE)
        self.pen.lines(foot.left, foot.top, self.foot_lines(), SMALL, color=_QUIET)
