"""Coordinate systems that GeoKeys define part by part, as WKT (GeoTIFF 1.1, clauses 7.4 and 7.5).

A conversion is parsed by PROJ from its parameters in degrees and metres; base, axes and units are
then those of the keys.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

Keys = Mapping[int, Any]
_USER_DEFINED = 32767
_PROJECTED, _GEODETIC, _METHOD, _OPERATION = 3072, 2048, 3075, 3074
_CITATIONS = {_PROJECTED: (3073, 1026), _GEODETIC: (2049, 1026)}


class UnknownSystemError(ValueError):
    """Keys that define no system which can be understood; says which."""


def system_of(keys: Keys) -> str | None:
    """Return the WKT of a system that the keys define without a code; None where they define none.

    Raises UnknownSystemError for keys that cannot be understood.
    """
    projected = keys.get(1024) == 1
    if projected and not (keys.get(_METHOD) or _coded(keys, _OPERATION)):
        return None
    if not projected and keys.get(1024) != 2:
        return None
    import pyproj  # most files say a code, or nothing

    try:
        base = _geodetic(keys)
        if base is None:
            return None
        system = _bound(keys, _projected(keys, base) if projected else base)
        return str(system.to_wkt())
    except (pyproj.exceptions.CRSError, pyproj.exceptions.ProjError, KeyError, TypeError,
            ArithmeticError) as error:  # fmt: skip
        raise UnknownSystemError(f"its keys define no system: {error}") from error


def _register() -> Any:
    """Return pyproj's classes of the register's entries; here, since few files need them."""
    import pyproj.crs

    return pyproj.crs


def _name(keys: Keys, key: int) -> str:
    return next((str(keys[k]) for k in _CITATIONS[key] if keys.get(k)), "user-defined")


def _coded(keys: Keys, key: int) -> int | None:
    value = keys.get(key)
    return value if isinstance(value, int) and 0 < value < _USER_DEFINED else None


# Geodetic systems --------------------------------------------------------------------------


def _geodetic(keys: Keys) -> Any:
    """Return the geographic system: by its code, by its datum's, or by its ellipsoid; or None."""
    import pyproj

    code = _coded(keys, _GEODETIC)
    if code is not None:
        return pyproj.CRS.from_epsg(code)
    datum = _datum(keys)
    if datum is None:
        return None
    unit = _angular_unit(keys)
    axes = [
        {"name": name, "abbreviation": short, "direction": way, "unit": unit}
        for name, short, way in (("Longitude", "lon", "east"), ("Latitude", "lat", "north"))
    ]
    definition = {
        "type": "GeographicCRS", "name": _name(keys, _GEODETIC),
        "datum_ensemble" if datum["type"] == "DatumEnsemble" else "datum": datum,
        "coordinate_system": {"subtype": "ellipsoidal", "axis": axes},
    }  # fmt: skip
    return pyproj.CRS.from_json_dict(definition)


def _datum(keys: Keys) -> dict[str, Any] | None:

    code = _coded(keys, 2050)
    if code is not None:
        definition: dict[str, Any] = _register().Datum.from_epsg(code).to_json_dict()
        return definition
    ellipsoid = _ellipsoid(keys)
    if ellipsoid is None:
        return None
    return {"type": "GeodeticReferenceFrame", "name": "user-defined", "ellipsoid": ellipsoid,
            "prime_meridian": _meridian(keys)}  # fmt: skip


def _ellipsoid(keys: Keys) -> dict[str, Any] | None:

    code = _coded(keys, 2056)
    if code is not None:
        known: dict[str, Any] = _register().Ellipsoid.from_epsg(code).to_json_dict()
        return known
    if keys.get(2057) is None:
        return None
    to_metres = _linear_factor(keys, 2052, 2053)
    major = float(keys[2057]) * to_metres
    definition: dict[str, Any] = {"name": "user-defined", "semi_major_axis": major}
    if keys.get(2059):
        definition["inverse_flattening"] = float(keys[2059])
    else:
        minor = float(keys[2058]) * to_metres if keys.get(2058) else major
        definition["semi_minor_axis"] = minor
    return definition


def _meridian(keys: Keys) -> dict[str, Any]:

    code = _coded(keys, 2051)
    if code is not None:
        known: dict[str, Any] = _register().PrimeMeridian.from_epsg(code).to_json_dict()
        return known
    longitude = float(keys.get(2061, 0.0)) * math.degrees(_angular_factor(keys))
    return {"name": "user-defined" if longitude else "Greenwich", "longitude": longitude}


def _bound(keys: Keys, system: Any) -> Any:
    """Return a system with its shift to WGS 84, where the keys have one (position vector)."""
    shift = keys.get(2062)
    if not isinstance(shift, list) or len(shift) not in (3, 7):
        return system
    import pyproj
    from pyproj.crs import BoundCRS
    from pyproj.crs.coordinate_operation import ToWGS84Transformation

    geographic = system.geodetic_crs if system.is_projected else system
    way = ToWGS84Transformation(geographic, *map(float, shift))
    return BoundCRS(system, pyproj.CRS.from_epsg(4326), way)


# Units -------------------------------------------------------------------------------------


def _angular_factor(keys: Keys) -> float:
    """Return the radians of the unit of angles; degrees where nothing says."""
    return float(_factor(keys, 2054, 2055, "angular", math.radians(1.0)))


def _linear_factor(keys: Keys, code: int = 3076, size: int = 3077) -> float:
    """Return the metres of a unit of length; 1 where nothing says."""
    return float(_factor(keys, code, size, "linear", 1.0))


def _factor(keys: Keys, code: int, size: int, kind: str, otherwise: float) -> float:
    known = _coded(keys, code)
    if known is None:
        return float(keys[size]) if keys.get(size) else otherwise
    return float(_unit(known, kind).conv_factor)


def _unit(code: int, kind: str) -> Any:
    from pyproj.database import get_units_map

    for unit in get_units_map(auth_name="EPSG", category=kind, allow_deprecated=True).values():
        if int(unit.code) == code:
            return unit
    raise UnknownSystemError(f"its keys name the unit {code}, which is no {kind} unit")


def _linear_unit(keys: Keys) -> Any:
    code, factor = _coded(keys, 3076), _linear_factor(keys)
    if factor == 1.0:
        return "metre"
    name = _unit(code, "linear").name if code is not None else "user-defined"
    return {"type": "LinearUnit", "name": name, "conversion_factor": factor}


def _angular_unit(keys: Keys) -> Any:
    code, factor = _coded(keys, 2054), _angular_factor(keys)
    if math.isclose(factor, math.radians(1.0), rel_tol=1e-12):
        return "degree"
    name = _unit(code, "angular").name if code is not None else "user-defined"
    return {"type": "AngularUnit", "name": name, "conversion_factor": factor}


# Projected systems -------------------------------------------------------------------------


def _projected(keys: Keys, base: Any) -> Any:
    import pyproj

    code = _coded(keys, _OPERATION)
    if code is not None:
        conversion = _register().CoordinateOperation.from_epsg(code).to_json_dict()
        parsed = pyproj.CRS.from_proj4("+proj=tmerc +ellps=WGS84").to_json_dict()
        parsed["conversion"] = {k: v for k, v in conversion.items() if k in
                                ("name", "method", "parameters")}  # fmt: skip
    else:
        parsed = pyproj.CRS.from_proj4(f"{_proj_text(keys)} +ellps=WGS84").to_json_dict()
        parsed["conversion"]["name"] = "user-defined"
    unit = _linear_unit(keys)
    axes = [{**axis, "unit": unit} for axis in parsed["coordinate_system"]["axis"]]
    parsed["coordinate_system"] = {"subtype": "Cartesian", "axis": axes}
    base_table = base.to_json_dict()
    base_table.pop("$schema", None)
    parsed |= {"name": _name(keys, _PROJECTED), "base_crs": base_table}
    return pyproj.CRS.from_json_dict(parsed)


class _Parameters:
    """The projection's parameters in degrees and metres, by the keys that may name each."""

    def __init__(self, keys: Keys) -> None:
        self.keys = keys
        self.degrees = math.degrees(_angular_factor(keys))
        self.metres = _linear_factor(keys)

    def _first(self, *names: int) -> float | None:
        return next((float(self.keys[k]) for k in names if self.keys.get(k) is not None), None)

    def angle(self, *names: int, otherwise: float | None = 0.0) -> float | None:
        """Return an angle in degrees."""
        number = self._first(*names)
        return otherwise if number is None else number * self.degrees

    @property
    def lat(self) -> float:
        """Latitude of the origin, however it is called."""
        return self.angle(3081, 3085, 3089) or 0.0

    @property
    def lon(self) -> float:
        """Longitude of the origin, however it is called."""
        return self.angle(3080, 3084, 3088, 3095) or 0.0

    @property
    def scale(self) -> float:
        """Scale at the origin."""
        number = self._first(3092, 3093)
        return 1.0 if number is None else number

    @property
    def first(self) -> float | None:
        """The first standard parallel, None where there is none."""
        return self.angle(3078, otherwise=None)

    @property
    def second(self) -> float | None:
        """The second standard parallel, None where there is none."""
        return self.angle(3079, otherwise=None)

    @property
    def false(self) -> str:
        """False easting and northing."""
        east, north = self._first(3082, 3086, 3090), self._first(3083, 3087, 3091)
        return f"+x_0={(east or 0.0) * self.metres!r} +y_0={(north or 0.0) * self.metres!r}"

    @property
    def origin(self) -> str:
        """Latitude and longitude of the origin."""
        return f"+lat_0={self.lat!r} +lon_0={self.lon!r}"

    @property
    def parallels(self) -> str:
        """Both standard parallels, which must be there."""
        if self.first is None:
            raise UnknownSystemError("its keys name no standard parallel")
        second = self.first if self.second is None else self.second
        return f"+lat_1={self.first!r} +lat_2={second!r}"

    @property
    def oblique(self) -> str:
        """Centre, azimuth and rectified grid angle of an oblique projection."""
        azimuth = self.angle(3094)
        angle = self.angle(3096, otherwise=azimuth)
        lat, lon = self.angle(3089, 3081), self.angle(3088, 3080)
        return f"+lat_0={lat!r} +lonc={lon!r} +alpha={azimuth!r} +gamma={angle!r} +k={self.scale!r}"


def _named_method(name: str) -> Callable[[_Parameters], str]:
    return lambda p: f"+proj={name} {p.origin}"


def _scaled(name: str) -> Callable[[_Parameters], str]:
    return lambda p: f"+proj={name} {p.origin} +k={p.scale!r}"


def _central(name: str) -> Callable[[_Parameters], str]:
    return lambda p: f"+proj={name} +lon_0={p.lon!r}"


def _between(name: str) -> Callable[[_Parameters], str]:
    return lambda p: f"+proj={name} {p.origin} {p.parallels}"


def _mercator(p: _Parameters) -> str:
    how = f"+k={p.scale!r}" if p.first is None else f"+lat_ts={p.first!r}"
    return f"+proj=merc +lon_0={p.lon!r} {how}"


def _polar(p: _Parameters) -> str:
    # The latitude is that of the true scale, or the pole itself (and then the scale counts).
    lat = p.first if abs(p.lat) in (0, 90) and p.first is not None else p.lat
    pole = math.copysign(90.0, p.lat or lat)
    how = f"+k={p.scale!r}" if abs(lat) == 90 else f"+lat_ts={lat!r}"
    return f"+proj=stere +lat_0={pole!r} +lon_0={p.angle(3095, 3080, 3088)!r} {how}"


def _on_parallel(name: str) -> Callable[[_Parameters], str]:
    return lambda p: f"+proj={name} {p.origin} +lat_ts={(p.first or 0.0)!r}"


_METHODS: dict[int, Callable[[_Parameters], str]] = {
    1: _scaled("tmerc"),
    2: _named_method("alsk"),
    3: lambda p: f"+proj=omerc {p.oblique} +no_uoff",
    4: lambda p: f"+proj=labrd {p.origin} +azi={p.angle(3094)!r} +k={p.scale!r}",
    5: _scaled("somerc"),
    6: lambda p: f"+proj=omerc {p.oblique} +no_uoff",
    7: _mercator,
    8: _between("lcc"),
    9: lambda p: f"+proj=lcc +lat_1={p.lat!r} {p.origin} +k_0={p.scale!r}",
    10: _named_method("laea"),
    11: _between("aea"),
    12: _named_method("aeqd"),
    13: _between("eqdc"),
    14: _scaled("stere"),
    15: _polar,
    16: _scaled("sterea"),
    17: _on_parallel("eqc"),
    18: _named_method("cass"),
    19: _named_method("gnom"),
    20: _central("mill"),
    21: _named_method("ortho"),
    22: _named_method("poly"),
    23: _central("robin"),
    24: _central("sinu"),
    25: _central("vandg"),
    26: _named_method("nzmg"),
    27: lambda p: f"+proj=tmerc {p.origin} +k={p.scale!r} +axis=wsu",
    28: _on_parallel("cea"),
    9815: lambda p: f"+proj=omerc {p.oblique}",
}
"""ProjMethod codes (GeoTIFF 1.1, annex C) -> PROJ's text."""


def _proj_text(keys: Keys) -> str:
    method = keys.get(_METHOD)
    if method not in _METHODS:
        raise UnknownSystemError(f"its keys name the projection method {method}, which is unknown")
    parameters = _Parameters(keys)
    return f"{_METHODS[method](parameters)} {parameters.false}"
