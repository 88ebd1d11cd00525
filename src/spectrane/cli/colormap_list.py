"""``--colormap list``: the colour maps there are, and what each is made for."""

from __future__ import annotations

from typing import Any

import click

from spectrane.cli.written import file_facts, size_text
from spectrane.model.colormaps import colormaps
from spectrane.model.purposes import PURPOSES


def tell_colormaps(said: dict[str, Any]) -> None:
    """Print the colour maps; draw them as swatches where ``-o`` names a picture.

    ``said`` are the options on the command line, by their fields' names.
    """
    target = said.get("output")
    results: list[dict[str, Any]] = [
        {"name": name, "kind": colormap.kind, "purpose": PURPOSES[name]}
        for name, colormap in colormaps.items()
    ]
    lines = [f"{result['name']:<12} {result['kind']:<12} {result['purpose']}" for result in results]
    lines += ["'NAME reversed' turns one round; auto takes the one that fits what a band means"]
    if target is not None:
        from spectrane.figures.colorbar import swatches
        from spectrane.figures.paper import save_figure

        save_figure(swatches(), target, overwrite=bool(said.get("overwrite")))
        results.append(file_facts(target))
        lines.append(f"{target}: swatches, {size_text(target)}")
    if said.get("as_json"):
        from spectrane.cli.documents import document

        click.echo(document("colormaps", results, []))
    elif not said.get("quiet"):
        click.echo("\n".join(lines))
