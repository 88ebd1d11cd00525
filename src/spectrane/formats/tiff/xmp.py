"""What bands and classes mean, as an XMP packet (ISO 16684-1) in a namespace of our own.

TIFF has fields for the size and type of samples, and none for a band's name, role, wavelength,
unit or scale, nor for the names of classes. XMP is the standard's way to add such properties:
``spectrane:bands`` is an ordered array with a structure per band, ``spectrane:classes`` one with
a structure per class. The names are written out in docs/tiff.md.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any

from spectrane.model.band import Band
from spectrane.model.colors import parse_color
from spectrane.model.errors import SpectraneError
from spectrane.model.look import Class, Look
from spectrane.model.nodata import nodata_value
from spectrane.model.rules import format_number
from spectrane.model.said import checked_metadata
from spectrane.model.telling import warn_caller

NAMESPACE = "urn:spectrane:raster:1.0"
_RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
_NUMBERS = ("wavelength", "scale", "offset")
_TEXTS = ("name", "role", "unit", "description")


def packet(
    bands: Sequence[Band], look: Look | None, nodata_when: str = "any", *,
    notes: str | None = None, stale_overviews: bool = False, always: bool = False,
    coded: bool = False, given: Mapping[str, Any] | None = None,
) -> bytes:  # fmt: skip
    """Return the packet that describes bands, classes and look.

    Empty where there is nothing to say, unless ``always``. ``stale_overviews`` tells that the
    file's overviews were made under another no-data rule, ``coded`` that numbers are names.
    """
    own = len({band.nodata for band in bands}) > 1
    named = [_properties(band, own or isinstance(band.nodata, tuple)) for band in bands]
    bare = all(found == {"name": f"band {n}"} for n, found in enumerate(named, 1))
    classes = look.classes if look else {}
    shown = {} if look is None else look.to_dict()
    shown.pop("classes", None)
    silent = bare and not classes and not shown and not notes and not coded and not given
    if silent and nodata_when == "any" and not always:
        return b""
    from spectrane.model.xml_building import element  # who only reads has no use for it

    def listed(name: str, structures: Iterable[Mapping[str, str]]) -> Any:
        items = (
            element("rdf:li", *(element(f"spectrane:{k}", v) for k, v in structure.items()),
                    attributes={"rdf:parseType": "Resource"})
            for structure in structures
        )  # fmt: skip
        return element(f"spectrane:{name}", element("rdf:Seq", *items))

    body = [listed("bands", named)]
    if classes:
        body.append(listed("classes", (
            {"value": format_number(value), "color": color, "label": label}
            for value, (color, label) in sorted(classes.items()))))  # fmt: skip
    extra = {
        "nodataWhen": "" if nodata_when == "any" else nodata_when,
        "look": json.dumps(shown) if shown else "", "notes": notes or "",
        "staleOverviews": "true" if stale_overviews else "", "coded": "true" if coded else "",
        "given": json.dumps(dict(given)) if given else "",
    }  # fmt: skip
    body += [element(f"spectrane:{name}", text) for name, text in extra.items() if text]
    said = element("rdf:Description", *body,
                   attributes={"rdf:about": "", "xmlns:spectrane": NAMESPACE})  # fmt: skip
    root = element("x:xmpmeta", element("rdf:RDF", said, attributes={"xmlns:rdf": _RDF}),
                   attributes={"xmlns:x": "adobe:ns:meta/"})  # fmt: skip
    from xml.etree import ElementTree

    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>'
        f'{ElementTree.tostring(root, encoding="unicode")}<?xpacket end="w"?>'
    ).encode()


def _properties(band: Band, with_nodata: bool) -> dict[str, str]:
    """Return what is worth saying; no-data only where tag 42113 cannot say it."""
    properties = {}
    for one in fields(band):
        value = getattr(band, one.name)
        if one.name == "nodata" or value is None or value == one.default:
            continue
        properties[one.name] = repr(value) if one.name in _NUMBERS else str(value)
    if with_nodata and band.nodata is not None:
        items = band.nodata if isinstance(band.nodata, tuple) else (band.nodata,)
        properties["nodata"] = " ".join(_format_item(item) for item in items)
    return properties


def _format_item(item: Any) -> str:
    return f"{item[0]!r}..{item[1]!r}" if isinstance(item, tuple) else repr(item)


def merged(before: bytes, packet: bytes) -> bytes:
    """Return a packet put into one that other programs wrote, whose own words are kept."""
    end = before.rfind(b"</rdf:RDF>")
    if end < 0 or not packet:
        return packet
    own = rf"<rdf:Description[^>]*{NAMESPACE}.*?</rdf:Description>".encode()
    kept = re.sub(own, b"", before[:end], flags=re.DOTALL)
    match = re.search(own, packet, re.DOTALL)
    return kept + (match.group() if match else b"") + before[end:]


@dataclass
class XmpFields:
    """What a packet says besides the bands."""

    bands: tuple[Band, ...]
    classes: dict[float, Class] = field(default_factory=dict)
    nodata_when: str = "any"
    look: Look | None = None
    notes: str = ""
    stale_overviews: bool = False
    coded: bool = False
    given: dict[str, Any] = field(default_factory=dict)


def described(raw: bytes, bands: tuple[Band, ...], name: str) -> XmpFields:
    """Return bands with what a packet says of them, the classes, and the rest.

    A packet that cannot be used draws a warning and changes nothing.
    """
    if NAMESPACE.encode() not in raw:
        return XmpFields(bands)
    try:
        return _described(raw, bands)
    except (SpectraneError, ValueError, ArithmeticError) as error:
        warn_caller(
            f"{name}: the description of the bands in its XMP packet is not usable ({error}); "
            "the bands are only numbered"
        )
        return XmpFields(bands)


def _described(raw: bytes, bands: tuple[Band, ...]) -> XmpFields:
    root = _parsed(raw)
    given = list(_structures(root, "bands"))
    if len(given) != len(bands):
        raise ValueError(f"it describes {len(given)} bands of {len(bands)}")
    named = tuple(_band(band, structure) for band, structure in zip(bands, given, strict=True))
    classes = {}
    for structure in _structures(root, "classes"):
        parse_color(structure["color"])
        classes[float(structure["value"])] = (structure["color"], structure.get("label", ""))
    when, look, notes, stale, coded, said = (
        root.findtext(f".//{{{NAMESPACE}}}{name}") or ""
        for name in ("nodataWhen", "look", "notes", "staleOverviews", "coded", "given")
    )
    shown = Look.from_dict(json.loads(look) | {"classes": {}}) if look else None
    if shown is not None and classes:
        shown = replace(shown, classes=classes)
    when = when if when in ("any", "all") else "any"
    return XmpFields(named, classes, when, shown, notes, stale == "true", coded == "true",
                     checked_metadata(json.loads(said)) if said else {})  # fmt: skip


def _parsed(raw: bytes) -> Any:
    import xml.etree.ElementTree

    import defusedxml.ElementTree

    text = raw.decode("utf-8", "replace").strip("\0 \ufeff")
    try:
        return defusedxml.ElementTree.fromstring(text)
    except (xml.etree.ElementTree.ParseError, defusedxml.DefusedXmlException) as error:
        raise ValueError(f"not well-formed XML: {error}") from error


def _structures(root: Any, name: str) -> Iterator[dict[str, str]]:
    for item in root.iterfind(f".//{{{NAMESPACE}}}{name}/{{{_RDF}}}Seq/{{{_RDF}}}li"):
        prefix = f"{{{NAMESPACE}}}"
        yield {part.tag.removeprefix(prefix): (part.text or "").strip() for part in item}


def _band(band: Band, structure: Mapping[str, str]) -> Band:
    changes: dict[str, Any] = {key: structure[key] for key in _TEXTS if structure.get(key)}
    changes |= {key: float(structure[key]) for key in _NUMBERS if structure.get(key)}
    if structure.get("nodata"):
        items = [_heard(item) for item in structure["nodata"].split()]
        single = len(items) == 1 and not isinstance(items[0], list)
        changes["nodata"] = nodata_value(items[0] if single else items)
    return replace(band, **changes)


def _heard(text: str) -> Any:
    if ".." in text:
        low, _, high = text.partition("..")
        return [_heard(low), _heard(high)]
    return int(text) if text.lstrip("-").isdecimal() else float(text)
