"""Kinds of colour maps, and what each built-in one is made for."""

from __future__ import annotations

from typing import Literal, get_args

ENTRIES = 256
"""Colours of a map that is not of classes."""
ColormapKind = Literal["sequential", "diverging", "cyclic", "categorical"]
KINDS: tuple[ColormapKind, ...] = get_args(ColormapKind)

PURPOSES = {
    "slate": "any measure where colour should not speak: a cool grey",
    "kelpbed": "amounts of living things in water, or any measure in green",
    "hearth": "heat and radiance: dark to glowing",
    "foxglove": "densities and concentrations, in violet to rose",
    "estuary": "depth of water and moisture, dark to pale blue",
    "peatbog": "heights and soils, in browns",
    "grey": "values as they are, black to white",
    "kiln": "any measure, with the most steps that an eye can tell apart",
    "sward": "vegetation indices: bare ground to dense green",
    "ebbflow": "differences from 0: losses blue, gains red",
    "heathsea": "differences from 0: violet against ochre",
    "gorsewine": "differences from 0: purple against olive",
    "weathervane": "directions and phases, whose end is their beginning",
    "chartroom": "depth and height on one scale, with a sharp shore at 0",
    "pebbles": "classes, each a colour of its own",
}
"""Name -> what for."""
