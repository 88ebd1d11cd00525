"""XML by the standard library, from texts that may hold anything."""

from __future__ import annotations

import re
from collections.abc import Mapping
from xml.etree import ElementTree

from spectrane.model.printing import whole_text

_FORBIDDEN = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What no XML 1.0 document may hold, not even escaped (section 2.2)."""


def xml_text(text: str) -> str:
    """Return a text without what XML forbids.

    >>> xml_text("a" + chr(0) + chr(27) + "b")
    'ab'
    """
    return _FORBIDDEN.sub("", whole_text(text))


def element(
    tag: str, *inside: ElementTree.Element | str, attributes: Mapping[str, str] | None = None
) -> ElementTree.Element:
    """Return an element of texts and elements. Prefixes of names are declared by its root.

    >>> ElementTree.tostring(element("a", element("b", "x < y"), attributes={"n": "1"}))
    b'<a n="1"><b>x &lt; y</b></a>'
    """
    made = ElementTree.Element(tag, {name: xml_text(v) for name, v in (attributes or {}).items()})
    for item in inside:
        if isinstance(item, str):
            made.text = (made.text or "") + xml_text(item)
        else:
            made.append(item)
    return made


def xml_document(root: ElementTree.Element) -> str:
    """Return a document: its declaration, and its root.

    >>> xml_document(element("kml")).splitlines()
    ['<?xml version="1.0" encoding="UTF-8"?>', '<kml />']
    """
    ElementTree.indent(root, "")
    text = ElementTree.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'
