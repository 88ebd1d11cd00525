"""A small simulated catalogue server for the demo's scenes: the STAC API, on this machine alone.

Needs ``pip install 'spectrane[view]'`` (Starlette and uvicorn).
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from spectrane.catalogs.dates import Span, open_end, read_moment
from spectrane.demo.acquisitions import COLLECTION, documents_in
from spectrane.viewing.running import Running

_CONFORMS = ["https://api.stacspec.org/v1.0.0/core", "https://api.stacspec.org/v1.0.0/item-search",
             "https://api.stacspec.org/v1.0.0/item-search#sort"]  # fmt: skip


class Catalogue:
    """The answers of the server: what it offers, and how it finds items.

    ``page`` is the most items it answers at once; ``posting`` and ``sorting`` are abilities that it
    may lack; the first ``failures`` searches are answered with 503.
    """

    def __init__(
        self, folder: Path, *, page: int = 5, posting: bool = True, sorting: bool = True,
        searching: bool = True, failures: int = 0,
    ) -> None:  # fmt: skip
        self.folder, self.page = folder, page
        self.posting, self.sorting, self.searching = posting, sorting, searching
        self.failures = failures
        self.asked: list[dict[str, Any]] = []
        self._items = list(documents_in(folder))

    def landing(self, base: str) -> dict[str, Any]:
        """Return the first page: what the server can do, and where."""
        links = [{"rel": "self", "href": f"{base}/"}, {"rel": "root", "href": f"{base}/"},
                 {"rel": "data", "href": f"{base}/collections"}]  # fmt: skip
        if self.searching:
            kind = "application/geo+json"
            links.append({"rel": "search", "href": f"{base}/search", "method": "GET", "type": kind})
            if self.posting:
                links.append({"rel": "search", "href": f"{base}/search", "method": "POST",
                              "type": kind})  # fmt: skip
        return {
            "type": "Catalog", "stac_version": "1.1.0", "id": "simulated", "links": links,
            "description": "A simulated catalogue.",
            "conformsTo": _CONFORMS[: 3 if self.sorting else 2],
        }  # fmt: skip

    def search(self, question: Mapping[str, Any], base: str, method: str) -> dict[str, Any]:
        """Return a page of the items that a question means. Raises ValueError for a wrong one."""
        self.asked.append({"method": method, **question})
        found = [one for one in self._items if self._meant(one, question)]
        order = question.get("sortby") or []
        if order and not self.sorting:
            raise ValueError("this server cannot sort")
        for rule in reversed(order):
            name = str(rule["field"]).removeprefix("properties.")
            keyed = [(str(one["properties"].get(name)), k) for k, one in enumerate(found)]
            keyed.sort(reverse=rule.get("direction") == "desc")
            found = [found[k] for _, k in keyed]
        start = int(question.get("token", 0))
        count = min(self.page, int(question.get("limit", self.page)))
        links: list[dict[str, Any]] = []
        if start + count < len(found):
            links.append(self._next(question, base, method, start + count))
        listed = [self._placed(one, base) for one in found[start : start + count]]
        return {"type": "FeatureCollection", "features": listed, "links": links,
                "numberMatched": len(found), "numberReturned": len(listed)}  # fmt: skip

    def _next(
        self, question: Mapping[str, Any], base: str, method: str, start: int
    ) -> dict[str, Any]:
        if method == "POST":
            return {"rel": "next", "href": f"{base}/search", "method": "POST", "merge": True,
                    "body": {"token": start}}  # fmt: skip
        from urllib.parse import urlencode

        said = {name: _as_query(value) for name, value in question.items()} | {"token": start}
        return {"rel": "next", "href": f"{base}/search?{urlencode(said)}", "method": "GET"}

    def _meant(self, item: Mapping[str, Any], question: Mapping[str, Any]) -> bool:
        box, asked = item["bbox"], question.get("bbox")
        if asked is not None:
            if len(asked) != 4:
                raise ValueError("bbox: expected four numbers")
            west, south, east, north = asked
            if west <= east and (box[2] < west or box[0] > east):
                return False
            if box[3] < south or box[1] > north:
                return False
        if question.get("collections") and item["collection"] not in question["collections"]:
            return False
        moment = read_moment(item["properties"]["datetime"])
        return question.get("datetime") is None or _span(question["datetime"]).meets(moment, moment)

    @staticmethod
    def _placed(item: Mapping[str, Any], base: str) -> dict[str, Any]:
        """Return an item whose assets lie on the server."""
        name = item["id"]
        assets = {key: {**one, "href": f"{base}/files/{name}/{one['href'].removeprefix('./')}"}
                  for key, one in item["assets"].items()}  # fmt: skip
        own = f"{base}/collections/{COLLECTION}/items/{name}"
        return {**item, "assets": assets, "links": [{"rel": "self", "href": own}]}

    def item(self, name: str, base: str) -> dict[str, Any] | None:
        """Return one item; None where there is none of that name."""
        return next((self._placed(one, base) for one in self._items if one["id"] == name), None)


def _span(text: str) -> Span:
    first, slash, last = text.partition("/")
    ends = (first, last) if slash else (first, first)
    start, end = (None if open_end(one) else read_moment(one) for one in ends)
    for one, read in zip(ends, (start, end), strict=True):
        if not open_end(one) and not isinstance(read, datetime):
            raise ValueError(f"datetime: {one!r} is no date")
    return Span(start, end)


def _as_query(value: Any) -> str:
    if isinstance(value, list):
        return ",".join(("-" if one.get("direction") == "desc" else "") + one["field"]
                        if isinstance(one, dict) else str(one) for one in value)  # fmt: skip
    return str(value)


def _question(query: Mapping[str, str]) -> dict[str, Any]:
    """Return a question of GET as one of POST has it."""
    said: dict[str, Any] = dict(query)
    if "bbox" in said:
        said["bbox"] = [float(one) for one in said["bbox"].split(",")]
    if "collections" in said:
        said["collections"] = said["collections"].split(",")
    if "sortby" in said:
        said["sortby"] = [{"field": one.lstrip("+-"),
                           "direction": "desc" if one.startswith("-") else "asc"}
                          for one in said["sortby"].split(",")]  # fmt: skip
    return said


def application(catalogue: Catalogue) -> Any:
    """Return the server as an ASGI application."""
    from starlette.applications import Starlette
    from starlette.requests import Request
    from starlette.responses import JSONResponse, Response
    from starlette.routing import Mount, Route
    from starlette.staticfiles import StaticFiles

    def base(request: Request) -> str:
        return str(request.base_url).rstrip("/")

    def landing(request: Request) -> Response:
        return JSONResponse(catalogue.landing(base(request)))

    async def search(request: Request) -> Response:
        if not catalogue.searching or (request.method == "POST" and not catalogue.posting):
            return JSONResponse({"description": "not offered here"}, 405)
        if catalogue.failures > 0:
            catalogue.failures -= 1
            return JSONResponse({"description": "busy"}, 503)
        try:
            posted = request.method == "POST"
            question = await request.json() if posted else _question(request.query_params)
            return JSONResponse(catalogue.search(question, base(request), request.method))
        except (ValueError, KeyError, TypeError) as error:
            return JSONResponse({"code": "BadRequest", "description": str(error)}, 400)

    def item(request: Request) -> Response:
        found = catalogue.item(request.path_params["name"], base(request))
        if found is None:
            return JSONResponse({"description": "no such item"}, 404)
        return JSONResponse(found)

    return Starlette(routes=[
        Route("/", landing), Route("/search", search, methods=["GET", "POST"]),
        Route("/collections/{collection}/items/{name}", item),
        Mount("/files", StaticFiles(directory=catalogue.folder)),
    ])  # fmt: skip


@contextlib.contextmanager
def serving(catalogue: Catalogue) -> Iterator[str]:
    """Serve a catalogue at a free port of this machine, and yield its address."""
    server = Running(lambda: application(catalogue))
    try:
        yield server.address
    finally:
        server.stop()
