"""The live view's server: on this machine alone, for whoever holds its token, and nobody else.

Everything is GET but what writes and what ends it, which are POST. It serves its own page and the
layers it was given, no file by name.
"""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import struct
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from importlib import resources
from itertools import count, zip_longest
from typing import TYPE_CHECKING, Any

from spectrane.model.errors import AccessError, LookError, SpectraneError
from spectrane.model.printing import printable_line
from spectrane.viewing.sending import sent
from spectrane.viewing.telling import facts
from spectrane.viewing.viewed import Viewed, Work

if TYPE_CHECKING:
    from starlette.requests import Request
    from starlette.responses import Response

COOKIE, HEADER = "spectrane-view", "x-spectrane-token"
_TYPES = {".html": "text/html; charset=utf-8", ".css": "text/css; charset=utf-8",
          ".js": "text/javascript; charset=utf-8"}  # fmt: skip
_SAFE = {
    "Content-Security-Policy": "default-src 'none'; script-src 'self'; style-src 'self'; img-src "
    "'self' blob: data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors "
    "'self' http://127.0.0.1:* http://localhost:*",
    "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer",
    "Cache-Control": "no-store",
}  # fmt: skip


@dataclass
class Live:
    """What is seen and served: where it may write, and who may ask."""

    viewed: Viewed
    save_to: str | None = None
    token: str = field(default_factory=lambda: secrets.token_urlsafe(24))
    ended: threading.Event = field(default_factory=threading.Event)
    lock: Any = field(default_factory=threading.RLock)
    newest: int = 0
    sent: dict[int, list[Any]] = field(default_factory=dict)
    """The panels of the last pictures that were sent, by numbers of ours: of two pages that show
    one session each counts its questions by itself.
    """
    numbers: Iterator[int] = field(default_factory=lambda: count(1))
    work: Work = field(default_factory=Work)

    # What is asked; each returns what JSON holds, but for the picture.

    def ask(self, name: str, asked: dict[str, str]) -> dict[str, Any] | None:
        """Answer a question by name; None where there is no such question."""
        if name == "progress":
            return {"share": self.work.share}
        if name == "stop":
            self.work.stopping.set()
            return {"stopping": True}
        with self.lock:
            if name == "do":
                self._carry_out(json.loads(asked.get("action", "{}")))
                return self.viewed.state()
            if name == "state":
                return self._state(asked)
            if name == "changes":
                return {"text": printable_line(self.viewed.kept_text())}
            answer = self.viewed.frozen().answers.get(name)
        if answer is None:
            return None
        with self.work.going_on():  # without the lock: pictures do not wait for it
            return facts(answer(asked))

    def warm(self) -> None:
        """Tell and draw once, so that what is needed is there when the page asks: a few pixels, for
        how many it will show is not known yet.
        """
        with contextlib.suppress(SpectraneError), self.work.going_on():
            viewed = self.viewed.frozen()
            viewed.state()
            viewed.choices()
            viewed.change({"do": "size", "rows": 16, "columns": 16})
            viewed.draw(before=False)

    def _carry_out(self, action: Any) -> None:
        if not isinstance(action, dict):
            raise LookError("action: expected a JSON object")
        self.viewed.change(action)

    def _state(self, asked: dict[str, str]) -> dict[str, Any]:
        """Tell how everything is shown, and with ``words`` what there is to choose from."""
        found = self.viewed.state() | {"can_save": self.save_to is not None}
        found |= {"kind": self.viewed.kind, "newest": self.newest}
        return found | ({"words": self.viewed.choices()} if "words" in asked else {})

    def frame(self, asked: dict[str, str]) -> bytes | None:
        """Carry out changes and return the panels: the length of their facts, the facts, then of
        each what differs from the ``picture`` that the page has (see ``Sent``).

        None where a newer one was asked for meanwhile; changes are carried out all the same. What
        is wrong with a change is told among the facts, and the others are carried out.
        """
        number = int(asked.get("n", "0"))
        self.newest = max(self.newest, number)
        problems: list[str] = []
        with self.lock:
            for action in json.loads(asked.get("actions", "[]")):
                try:
                    self._carry_out(action)
                except (SpectraneError, KeyError, ValueError, TypeError) as error:
                    problems.append(printable_line(str(error)))
            if number < self.newest:
                return None
            state = self.viewed.state()
            with self.work.going_on():
                drawn = self.viewed.draw("before" in asked)
        had = self.sent.get(int(asked.get("have", "0")), [])
        picture = next(self.numbers)
        self.sent = {**dict(list(self.sent.items())[-3:]), picture: [rgba for rgba, _ in drawn]}
        panels: list[dict[str, Any]] = []
        pixels: list[Any] = []
        for (rgba, said), before in zip_longest(drawn, had[: len(drawn)]):
            one = sent(rgba, before)
            panels.append({**said, "planes": one.planes, "afresh": one.afresh})
            pixels += one.data
        told = {"n": number, "picture": picture, "panels": panels, "state": state,
                "problems": problems}  # fmt: skip
        head = json.dumps(told).encode()
        return b"".join([struct.pack("<I", len(head)), head, *pixels])

    # What writes.

    def save(self, said: dict[str, Any]) -> dict[str, Any]:
        """Write what is asked for into the folder that was named for it."""
        if self.save_to is None:
            raise AccessError("nothing is written: begin with --save-to FOLDER to save from here")
        what, bits = str(said.get("what")), int(said.get("bits", 8))
        savers = self.viewed.savers
        if what not in savers:
            raise LookError(f"save {what!r}: expected {', '.join(savers)}")
        if bits not in (8, 16):
            raise LookError(f"bits {bits}: expected 8 or 16")
        with self.lock:
            paths = savers[what](self.save_to, bits)
        return {"saved": ", ".join(os.path.basename(path) for path in paths)}

    def keep(self, said: dict[str, Any]) -> dict[str, Any]:
        """Keep the active layer's look in its file's sidecar, once that was agreed to."""
        if said.get("agreed") is not True:
            raise LookError("keep: agree first to what changes")
        with self.lock:
            return {"saved": os.path.basename(self.viewed.keep())}


_WRITES = ("save", "keep")
AT_ONCE = ("progress", "stop")
"""Questions that wait for nothing."""


class _Aside:
    """Runs work in a few threads of their own: each keeps memory to itself."""

    most = 3

    def __init__(self) -> None:
        from concurrent.futures import ThreadPoolExecutor  # while the browser is still starting

        self._threads = ThreadPoolExecutor(self.most)

    async def __call__(self, work: Callable[..., Any], *given: Any) -> Any:
        import asyncio

        return await asyncio.get_running_loop().run_in_executor(self._threads, work, *given)


def refusal(live: Live, request: Request) -> str | None:
    """Return why a request is not answered: it comes from elsewhere, or without the token."""
    host = request.headers.get("host", "")
    port = request.scope["server"][1]  # and not what the request says of it
    if host not in (f"127.0.0.1:{port}", f"localhost:{port}"):
        return "this host is not served"
    origin = request.headers.get("origin")
    if origin is not None and origin != f"http://{host}":
        return "not from another page"
    given = request.cookies.get(COOKIE) or request.headers.get(HEADER)
    if given is None and request.url.path == "/":
        given = request.query_params.get("token")
    known = given is not None and secrets.compare_digest(given.encode(), live.token.encode())
    return None if known else "the token is missing, or of another session"


def asset(name: str) -> Response:
    """Return one of the page's own files, and no other."""
    from starlette.responses import JSONResponse, Response

    ending = os.path.splitext(name)[1]
    held = resources.files("spectrane.viewing").joinpath("assets")
    if ending not in _TYPES or name not in {one.name for one in held.iterdir()}:
        return JSONResponse({"error": "no such page"}, 404)
    return Response(held.joinpath(name).read_bytes(), media_type=_TYPES[ending])


def entered(live: Live, query: Mapping[str, str], cookies: Mapping[str, str]) -> Response:
    """Return the page; who comes with the token in the address gets it as a cookie instead."""
    from starlette.responses import RedirectResponse

    if "token" not in query or COOKIE in cookies:
        return asset("page.html")
    answer = asset("page.html") if "inside" in query else RedirectResponse("/", 303)
    answer.set_cookie(COOKIE, live.token, httponly=True, samesite="strict", path="/")
    return answer


async def asked(live: Live, name: str, request: Request, aside: _Aside) -> Response:
    """Answer a question: GET."""
    from starlette.responses import JSONResponse, Response

    query = dict(request.query_params)
    if name == "":
        return entered(live, query, request.cookies)
    if os.path.splitext(name)[1] in _TYPES:
        return asset(name)
    if name in AT_ONCE:
        return JSONResponse(live.ask(name, query))
    if name == "frame":
        body = await aside(live.frame, query)
        kind = "application/octet-stream"
        return Response(status_code=204) if body is None else Response(body, media_type=kind)
    found = await aside(live.ask, name, query)
    return asset(name) if found is None else JSONResponse(found)


async def posted(live: Live, name: str, request: Request, aside: _Aside) -> Response:
    """Do what writes, or ends: POST."""
    from starlette.responses import JSONResponse

    said = await request.json()
    if not isinstance(said, dict):
        raise LookError("expected a JSON object")
    if name == "end":
        live.ended.set()
        return JSONResponse({"ended": True})
    if name not in _WRITES:
        return JSONResponse({"error": "nothing is written so"}, 405)
    return JSONResponse(facts(await aside(getattr(live, name), said)))


def served_page(live: Live) -> Any:
    """Return the server as an ASGI application."""
    from starlette.applications import Starlette
    from starlette.responses import JSONResponse
    from starlette.routing import Route

    aside = _Aside()

    async def answer(request: Request) -> Response:
        problem = refusal(live, request)
        name = request.path_params.get("name", "")
        way = posted if request.method == "POST" else asked
        try:
            found = JSONResponse({"error": problem}, 403) if problem is not None else (
                await way(live, name, request, aside))  # fmt: skip
        except (SpectraneError, ValueError, KeyError, TypeError, OSError) as error:
            text = printable_line(" ".join(str(error).split())) or type(error).__name__
            found = JSONResponse({"error": text}, 400)
        found.headers.update(_SAFE)
        return found

    return Starlette(routes=[
        Route("/", answer, methods=["GET"]),
        Route("/{name}", answer, methods=["GET", "POST"]),
    ])  # fmt: skip
