"""Band expressions: a small grammar of our own over Python's ``ast``; nothing is evaluated.

``+ - * / **``, comparisons, ``and or not``, numbers, and ``where abs sqrt log log10 exp db min max
clip``, of which ``db(power)`` is 10·log10; bands by name, role, ``band(1)``, or
``band("any name")``, and named indices. Values are physical; 0/0 and x/0 are invalid.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.engine.volumes import VolumeSource
from spectrane.kernels.records import record
from spectrane.model.band import Band, BandName, find_band
from spectrane.model.errors import BandError, LookError, nearest
from spectrane.model.physical import physical, value_dtype
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window

_BY_NUMBER = ("band", "frame")
"""What names a band, or a volume's frame, by its number."""
_DEEPEST, _LONGEST = 64, 4000
_OPERATORS: dict[type[ast.operator], Callable[[Any, Any], Any]] = {
    ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul, ast.Div: operator.truediv,
    ast.Pow: operator.pow,
}  # fmt: skip
_COMPARISONS: dict[type[ast.cmpop], Callable[[Any, Any], Any]] = {
    ast.Lt: operator.lt, ast.LtE: operator.le, ast.Gt: operator.gt, ast.GtE: operator.ge,
    ast.Eq: operator.eq, ast.NotEq: operator.ne,
}  # fmt: skip
_FUNCTIONS: dict[str, tuple[int, Callable[..., Any]]] = {
    "where": (3, lambda test, yes, no: np.where(
        np.isnan(test), np.nan, np.where(np.asarray(test) != 0, yes, no))),
    "abs": (1, np.abs), "sqrt": (1, np.sqrt), "log": (1, np.log), "log10": (1, np.log10),
    "exp": (1, np.exp), "db": (1, lambda power: 10 * np.log10(power)),
    "min": (2, np.minimum), "max": (2, np.maximum), "clip": (3, np.clip),
}  # fmt: skip

INDICES: dict[str, str] = {
    "ndvi": "(nir - red) / (nir + red)",
    "ndwi": "(green - nir) / (green + nir)",
    "ndbi": "(swir16 - nir) / (swir16 + nir)",
    "nbr": "(nir - swir22) / (nir + swir22)",
    "ndsi": "(green - swir16) / (green + swir16)",
    "ndre": "(nir - rededge) / (nir + rededge)",
    "evi": "2.5 * (nir - red) / (nir + 6 * red - 7.5 * blue + 1)",
    "savi": "1.5 * (nir - red) / (nir + red + 0.5)",
}
"""Named indices of the trade, by role."""


@record(frozen=True)
class Expression:
    """A checked expression: its text, and the bands (from 0) it needs."""

    text: str
    tree: ast.expr
    bands: tuple[int, ...]
    names: Mapping[BandName, int]

    def value(self, planes: Mapping[int, NDArray[np.float64]]) -> NDArray[np.float64]:
        """Return the value for physical planes by band index; what is undefined is not finite."""
        with np.errstate(all="ignore"):
            result = np.asarray(self._of(self.tree, planes), np.float64)
        shape = next(iter(planes.values())).shape
        return np.where(np.isfinite(result), result, np.nan) + np.zeros(shape)

    def _of(self, node: ast.expr, planes: Mapping[int, NDArray[np.float64]]) -> Any:
        if isinstance(node, ast.Constant):
            return float(node.value)  # type: ignore[arg-type]
        if isinstance(node, ast.Name):
            return planes[self.names[node.id]]
        if isinstance(node, ast.BinOp):
            left, right = self._of(node.left, planes), self._of(node.right, planes)
            return _OPERATORS[type(node.op)](np.asarray(left), np.asarray(right))
        if isinstance(node, ast.UnaryOp):
            inner = self._of(node.operand, planes)
            if isinstance(node.op, ast.Not):
                return np.where(np.isnan(inner), np.nan, np.asarray(inner) == 0)
            return -inner if isinstance(node.op, ast.USub) else inner
        if isinstance(node, ast.BoolOp):
            return self._logic(node, planes)
        if isinstance(node, ast.Compare):
            return self._compared(node, planes)
        assert isinstance(node, ast.Call)
        assert isinstance(node.func, ast.Name)
        if node.func.id in _BY_NUMBER:
            return planes[self.names[_band_text(node)]]
        _, function = _FUNCTIONS[node.func.id]
        return function(*(self._of(argument, planes) for argument in node.args))

    def _logic(self, node: ast.BoolOp, planes: Mapping[int, NDArray[np.float64]]) -> Any:
        parts = [np.asarray(self._of(part, planes)) for part in node.values]
        join = np.logical_and if isinstance(node.op, ast.And) else np.logical_or
        unknown = np.logical_or.reduce(np.broadcast_arrays(*[np.isnan(part) for part in parts]))
        result = join.reduce(np.broadcast_arrays(*[part != 0 for part in parts]))
        return np.where(unknown, np.nan, result)

    def _compared(self, node: ast.Compare, planes: Mapping[int, NDArray[np.float64]]) -> Any:
        sides = [np.asarray(self._of(side, planes)) for side in (node.left, *node.comparators)]
        result: Any = True
        for test, left, right in zip(node.ops, sides, sides[1:], strict=False):
            result = result & _COMPARISONS[type(test)](left, right)
        unknown = np.logical_or.reduce(np.broadcast_arrays(*[np.isnan(side) for side in sides]))
        return np.where(unknown, np.nan, result)


class ResultMeaning(NamedTuple):
    """What follows of a value from the bands it is made of; ``number`` is a bare number."""

    unit: str | None = None
    role: str | None = None
    wavelength: float | None = None
    number: bool = False


_KEEPING = ("min", "max", "clip", "where")
"""Functions that pick one of their values (of ``where`` the test is none)."""


def meaning(tree: ast.expr, expression: Expression, bands: Sequence[Band]) -> ResultMeaning:
    """Return unit, role and wavelength of an expression where they follow; else None.

    Sums and differences of one unit keep it, ratios of one unit have unit 1; what picks or bounds
    values keeps unit and role. A bare number has no unit of its own, so that what it is added to or
    multiplied with has none either. Decibels have the unit dB.

    >>> bands = (Band("B8", role="nir", unit="K"), Band("B4", unit="K"))
    >>> index = parse_expression("(band(1) - band(2)) / (band(1) + band(2))", bands)
    >>> meaning(index.tree, index, bands).unit, parse_expression("clip(band(1), 0, 9)", bands).text
    ('1', 'clip(band(1), 0, 9)')
    """
    if isinstance(tree, ast.Constant):
        return ResultMeaning(number=True)
    name: BandName | None = tree.id if isinstance(tree, ast.Name) else None
    if isinstance(tree, ast.Call) and isinstance(tree.func, ast.Name):
        if tree.func.id in _BY_NUMBER:
            name = _band_text(tree)
        else:
            return _meaning_of_call(tree, expression, bands)
    if name is not None:
        band = bands[expression.names[name]]
        return ResultMeaning(band.unit, band.role, band.wavelength)
    if isinstance(tree, ast.UnaryOp) and not isinstance(tree.op, ast.Not):
        inner = meaning(tree.operand, expression, bands)
        return (
            inner
            if isinstance(tree.op, ast.UAdd)
            else ResultMeaning(inner.unit, number=inner.number)
        )
    if isinstance(tree, ast.BinOp):
        left, right = meaning(tree.left, expression, bands), meaning(tree.right, expression, bands)
        if left.unit is None or left.unit != right.unit:
            return ResultMeaning(number=left.number and right.number)
        if isinstance(tree.op, ast.Add | ast.Sub):
            return ResultMeaning(left.unit)
        one_of_one = isinstance(tree.op, ast.Div) or left.unit == "1"
        return ResultMeaning("1" if one_of_one and not isinstance(tree.op, ast.Pow) else None)
    return ResultMeaning()


def _meaning_of_call(
    tree: ast.Call, expression: Expression, bands: Sequence[Band]
) -> ResultMeaning:
    assert isinstance(tree.func, ast.Name)
    parts = [meaning(argument, expression, bands) for argument in tree.args]
    if tree.func.id == "abs":
        return ResultMeaning(parts[0].unit, number=parts[0].number)
    if tree.func.id == "db":
        return ResultMeaning("dB")
    if tree.func.id not in _KEEPING:
        return ResultMeaning()
    picked = {part for part in parts[tree.func.id == "where" :] if not part.number}
    if len(picked) == 1:
        return picked.pop()
    units = {part.unit for part in picked}
    return ResultMeaning(units.pop()) if len(units) == 1 else ResultMeaning()


def parse_expression(text: str, bands: Sequence[Band]) -> Expression:
    """Check an expression against the bands there are.

    Raises LookError for what the grammar has no place for, BandError for an unknown band.

    >>> parse_expression("(nir - b1) / 2", (Band("B1"), Band("B2", role="nir"))).bands
    (0, 1)
    """
    text = INDICES.get(text.strip().lower(), text)
    if len(text) > _LONGEST:
        raise LookError(f"expression: longer than {_LONGEST} letters")
    try:
        tree = ast.parse(text.strip(), mode="eval").body
    except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
        raise LookError(f"expression {text!r}: cannot be read: {error}") from error
    tree = _Indices(bands).visit(tree)
    names: dict[BandName, int] = {}
    for node in _checked(tree, text, 0):
        name = node.id if isinstance(node, ast.Name) else _band_text(node)
        names[name] = _band_index(bands, name, isinstance(node, ast.Name))
    if not names:
        raise LookError(f"expression {text!r}: names no band")
    return Expression(text, tree, tuple(sorted(set(names.values()))), names)


class _Indices(ast.NodeTransformer):
    """Writes named indices out, where no band has the name."""

    def __init__(self, bands: Sequence[Band]) -> None:
        self.bands = bands

    def visit_Name(self, node: ast.Name) -> ast.expr:
        """Return the index's expression in place of its name."""
        if node.id.lower() not in INDICES:
            return node
        try:
            find_band(self.bands, node.id)
        except BandError:
            return ast.parse(INDICES[node.id.lower()], mode="eval").body
        return node


def _checked(node: ast.expr, text: str, depth: int) -> Iterator[Any]:
    """Yield the nodes that name bands, or raise where the grammar has no place for one."""
    if depth > _DEEPEST:
        raise LookError(f"expression {text!r}: nested deeper than {_DEEPEST}")
    children: Sequence[ast.expr] = ()
    if isinstance(node, ast.Constant) and type(node.value) in (int, float, bool):
        return
    if isinstance(node, ast.Name):
        yield node
    elif isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
        children = (node.left, node.right)
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd | ast.Not):
        children = (node.operand,)
    elif isinstance(node, ast.BoolOp):
        children = node.values
    elif isinstance(node, ast.Compare) and all(type(op) in _COMPARISONS for op in node.ops):
        children = (node.left, *node.comparators)
    elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
        if node.func.id in _BY_NUMBER:
            _band_text(node)
            yield node
            return
        children = _arguments(node, text)
    else:
        raise LookError(
            f"expression {text!r}: {ast.unparse(node)!r} has no place in it; it may hold + - * / "
            f"**, comparisons, and or not, numbers, bands, {', '.join(_FUNCTIONS)}"
        )
    for child in children:
        yield from _checked(child, text, depth + 1)


def _arguments(node: ast.Call, text: str) -> Sequence[ast.expr]:
    assert isinstance(node.func, ast.Name)
    name = node.func.id
    if name not in _FUNCTIONS:
        raise LookError(f"expression {text!r}: no function {name!r}{nearest(name, _FUNCTIONS)}")
    count = _FUNCTIONS[name][0]
    if len(node.args) != count:
        raise LookError(f"expression {text!r}: {name} takes {count} values, not {len(node.args)}")
    return node.args


def _band_text(node: ast.Call) -> BandName:
    first = node.args[0] if len(node.args) == 1 else None
    named = first.value if isinstance(first, ast.Constant) else None
    if isinstance(named, bool) or not isinstance(named, str | int):
        raise LookError('expression: band takes one number or one name in quotes: band(1), '
                        'band("any name")')  # fmt: skip
    return named


def _band_index(bands: Sequence[Band], name: BandName, bare: bool) -> int:
    try:
        return find_band(bands, name)
    except BandError:
        number = str(name)[1:]
        if bare and str(name)[:1] == "b" and number.isdecimal() and len(number) < 9:
            raise BandError(
                f"no band is called {name!r}; the band of that number is band({int(number)})"
            ) from None
        raise


class Computed(Derived, FullSource):
    """Bands computed from another source's, block by block, in float32 (or float64)."""

    def __init__(self, parent: Source, given: Mapping[str, str], unit: str | None = None) -> None:
        if not isinstance(given, Mapping):
            raise LookError(f"compute {given!r}: expected {{name: expression}}, such as "
                            "{'dryness': '(swir16 - nir) / (swir16 + nir)'}")  # fmt: skip
        super().__init__(parent, look=None, alpha=None, nodata_when="any", has_mask=False,
                         coded=False, between=None)  # fmt: skip
        self.expressions = [parse_expression(text, parent.bands) for text in given.values()]
        self.dtype = value_dtype(parent.dtype)
        found = [
            ResultMeaning("1")
            if text.strip().lower() in INDICES
            else meaning(expression.tree, expression, parent.bands)
            for text, expression in zip(given.values(), self.expressions, strict=True)
        ]
        self.bands = tuple(
            Band(
                name,
                follows.role,
                follows.wavelength,
                unit or follows.unit,
                description=expression.text,
            )
            for name, expression, follows in zip(given, self.expressions, found, strict=True)
        )
        if not self.bands:
            raise LookError("compute: say at least one band: {name: expression}")

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Compute one window; another size is made from the computed values."""
        chosen = [self.expressions[band] for band in bands]
        needed = sorted({index for one in chosen for index in one.bands})
        pixels = self.parent.read(needed, window)
        return self._computed(chosen, needed, pixels)

    def _computed(
        self, chosen: Sequence[Expression], needed: Sequence[int], pixels: Pixels
    ) -> Pixels:
        valid = pixels.validity
        planes = {}
        for place, index in enumerate(needed):
            plane = physical(pixels.values[place], self.parent.bands[index], np.float64)
            planes[index] = np.where(valid[place], plane, np.nan)
        return Pixels(np.stack([one.value(planes) for one in chosen]).astype(self.dtype))


class ComputedVolume(Computed, VolumeSource):
    """Frames computed from another volume's."""
