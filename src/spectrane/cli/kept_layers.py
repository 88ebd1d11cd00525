"""What the options of layers say, as tables of a layer file, to be drawn again with one word."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from spectrane.cli.values import NoData, with_fields
from spectrane.model.regular_files import named_from

if TYPE_CHECKING:
    from spectrane.cli.layering import LayerOptions

_FILES = ("file", "outline", "clip", "look")


def kept_tables(
    options: LayerOptions, layers: Sequence[Any], path: str
) -> tuple[list[dict[str, Any]], dict[str, Any] | None]:
    """Return the tables of layers that options made, named from where a layer file will lie, and
    the grid's.

    ``layers`` are what ``layers_of`` made of the options.
    """
    if options.layers:
        from spectrane.display.layer_file import layer_tables  # which needs pydantic

        given = layer_tables(options.layers)
        listed = [dict(one) for one in given["layer"]]
        for one in listed:
            one |= {key: named_from(one[key], path) for key in _FILES
                    if isinstance(one.get(key), str)}  # fmt: skip
        return listed, given.get("grid")
    count = len(options.files)
    listed = [_raster(k, options, layers[k], path) for k in range(count)]
    listed += [_relief(text, options, path) for text in options.relief]
    for outline in options.outline:
        said = {"outline": named_from(outline, path), "color": options.outline_color,
                "width": options.outline_width, "label": options.label,
                "crs": options.outline_crs, "layer": options.layer}  # fmt: skip
        listed.append({key: value for key, value in said.items() if value is not None})
    return listed, None


def _raster(number: int, options: LayerOptions, layer: Any, path: str) -> dict[str, Any]:
    from spectrane.cli.layering import OF_LAYERS, OWN

    count = len(options.files)
    file, said = with_fields(options.files[number], (*OWN, *OF_LAYERS))
    opening = options.opening(number, count)
    nodata = NoData().convert(said["nodata"], None, None) if "nodata" in said else options.nodata
    made: dict[str, Any] = {"file": named_from(file, path)}
    made |= {"member": opening["member"]} if "member" in opening else {}
    made |= {"name": layer.name} if layer.name else {}
    if nodata is not None:
        made["nodata"] = [list(one) if isinstance(one, tuple) else one for one in nodata]
    computed = {}
    for text in options.compute:
        name, equals, expression = text.partition("=")
        computed[name.strip()] = expression if equals else name
    made |= {"compute": computed} if computed else {}
    made |= {"unit": options.unit} if options.unit else {}
    look = layer.look.to_dict() if layer.look is not None else {}
    made |= {"look": look} if look else {}
    made |= {"opacity": layer.opacity} if layer.opacity != 1 else {}
    made |= {"mode": layer.mode} if layer.mode != "normal" else {}
    return made | ({"base": True} if layer.base else {})


def _relief(text: str, options: LayerOptions, path: str) -> dict[str, Any]:
    from spectrane.cli.layering import relief_given

    file, exaggeration = relief_given(text)
    lit: dict[str, Any] = {"exaggeration": exaggeration}
    if options.sun:
        lit["suns"] = [{"azimuth": azimuth, "altitude": altitude}
                       for azimuth, altitude in options.sun]  # fmt: skip
    return {"file": named_from(os.fspath(file), path), "name": "relief", "relief": lit,
            "mode": "multiply"}  # fmt: skip
