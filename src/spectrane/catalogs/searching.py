"""Catalogues that are searched: the STAC API, item search 1.0, by GET and POST, page after page."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode, urlsplit, urlunsplit

from spectrane.catalogs.items import Item, resolved
from spectrane.catalogs.walking import Wanted, listed_items
from spectrane.engine.documents import answered
from spectrane.model.addresses import is_web
from spectrane.model.errors import AccessError, FormatError

_PAGE = 100
_MOST_PAGES = 10_000


def search_links(root: Any, place: str) -> list[Mapping[str, Any]]:
    """Return the links of a catalogue to its search; none where it is not searched."""
    if not isinstance(root, Mapping) or not is_web(place):
        return []
    links = [one for one in root.get("links") or [] if isinstance(one, Mapping)]
    return [one for one in links if one.get("rel") == "search" and one.get("href")]


def searched(root: Mapping[str, Any], place: str, wanted: Wanted) -> Iterator[Item]:
    """Yield the items a server finds for an area and a span of time, newest first where it sorts.

    Raises AccessError with what the server said, FormatError for an answer that is none.
    """
    links = search_links(root, place)
    posting = next((one for one in links if str(one.get("method", "")).upper() == "POST"), None)
    link = posting or links[0]
    url = resolved(str(link["href"]), place)
    question = _question(root, wanted)
    document: dict[str, Any] | None = question if posting is not None else None
    if document is None:
        url = _with_query(url, question)
    headers: dict[str, str] = {}
    seen: set[str] = set()
    for _ in range(_MOST_PAGES):
        page = answered(url, document, headers)
        if not isinstance(page, Mapping) or not isinstance(page.get("features"), list):
            raise FormatError(f"{url}: answered a search with no list of items (features)")
        yield from listed_items(page, url, wanted)
        following = _next(page, url, document)
        if following is None or not page["features"]:
            return
        url, document, headers = following
        mark = url + json.dumps(document, sort_keys=True)
        if mark in seen:
            wanted.notes.append(f"{url}: its pages lead back to one another; stopped there")
            return
        seen.add(mark)
    wanted.notes.append(f"{url}: more than {_MOST_PAGES} pages; the rest was not asked for")


def _question(root: Mapping[str, Any], wanted: Wanted) -> dict[str, Any]:
    question: dict[str, Any] = {"limit": _PAGE}
    if wanted.area is not None:
        question["bbox"] = [round(side, 9) for side in wanted.area.bounds()]
    if wanted.span.start is not None or wanted.span.end is not None:
        question["datetime"] = wanted.span.text()
    if wanted.collections:
        question["collections"] = list(wanted.collections)
    known = root.get("conformsTo")
    if isinstance(known, list) and any("item-search#sort" in str(one) for one in known):
        question["sortby"] = [{"field": "properties.datetime", "direction": "desc"}]
    return question


def _with_query(url: str, question: Mapping[str, Any]) -> str:
    """Return a question as GET takes it: lists with commas, ``-field`` for descending."""
    said: dict[str, str] = {}
    for name, value in question.items():
        if name == "sortby":
            value = ["-" + one["field"] for one in value]
        said[name] = ",".join(map(str, value)) if isinstance(value, list) else str(value)
    parts = urlsplit(url)
    query = "&".join(part for part in (parts.query, urlencode(said, safe=",:/.")) if part)
    return urlunsplit((*parts[:3], query, ""))


def _next(
    page: Mapping[str, Any], url: str, document: dict[str, Any] | None
) -> tuple[str, dict[str, Any] | None, dict[str, str]] | None:
    """Return what the next page is asked by: address, document to post, headers."""
    link = next((one for one in page.get("links") or []
                 if isinstance(one, Mapping) and one.get("rel") == "next" and one.get("href")),
                None)  # fmt: skip
    if link is None:
        return None
    where = resolved(str(link["href"]), url)
    if not is_web(where):
        raise AccessError(f"{url}: its next page lies at {where[:200]}, which is not on the web")
    given = link.get("headers")
    headers = {str(k): str(v) for k, v in given.items()} if isinstance(given, Mapping) else {}
    if str(link.get("method", "GET")).upper() != "POST":
        return where, None, headers
    body = link.get("body")
    said: dict[str, Any] = dict(body) if isinstance(body, Mapping) else {}
    if link.get("merge"):
        said = {**(document or {}), **said}
    return where, said or document or {}, headers
