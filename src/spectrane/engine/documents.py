"""Small documents from anywhere: files, members of archives, and answers of servers that are asked.

A server is asked again where that may help (RFC 9110, section 15; RFC 6585), within the time that
``SPECTRANE_TIMEOUT`` says; what it says against a question is told.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Mapping
from contextlib import closing
from typing import Any

import urllib3

from spectrane.engine.files import open_bytes
from spectrane.engine.http_files import SLOW, answer_of, pieces_of
from spectrane.model.addresses import is_address, is_web
from spectrane.model.errors import AccessError, FormatError, MissingFile

LARGEST = 64 << 20
"""Bytes of a document."""
_TRIES, _PAUSE = 3, 0.3


def read_json(place: str, options: Mapping[str, Any] | None = None) -> Any:
    """Return what the JSON document at a path or URL holds; ``options`` are its storage's.

    Raises MissingFile, AccessError, and FormatError for what is no JSON.
    """
    if is_web(place):
        return answered(place)
    with closing(open_bytes(place, options if is_address(place) else None)) as file:
        if file.size > LARGEST:
            raise FormatError(f"{place}: is larger than a document can be ({LARGEST} bytes)")
        return _parsed(file.read(0, file.size), place)


def answered(url: str, document: Any = None, headers: dict[str, str] | None = None) -> Any:
    """Return a server's JSON answer: to GET, or with a document to POST.

    Raises MissingFile for an address that is none, AccessError with what the server said.
    """
    body = None if document is None else json.dumps(document).encode()
    said = {"Accept": "application/geo+json, application/json", **(headers or {})}
    said |= {} if body is None else {"Content-Type": "application/json"}
    problem = ""
    for number in range(_TRIES):
        if number:
            threading.Event().wait(_PAUSE * 2**number)
        try:
            with answer_of(url, said, "GET" if body is None else "POST", body) as answer:
                content = _content(answer, url)
                if answer.status < 300:
                    return _parsed(content, url)
                problem = _refused(url, answer, content)
        except urllib3.exceptions.ProtocolError as error:
            problem = f"its answer was cut short: {error}"
    raise AccessError(f"{url}: {problem} ({_TRIES} times)")


def _content(answer: urllib3.BaseHTTPResponse, url: str) -> bytes:
    content = b"".join(pieces_of(answer, LARGEST + 1))
    if len(content) > LARGEST:
        raise AccessError(f"{url}: the answer is larger than a document can be ({LARGEST} bytes)")
    return content


def _refused(url: str, answer: urllib3.BaseHTTPResponse, content: bytes) -> str:
    """Return what may be asked again for; raise for an answer that is final."""
    said = f"the server answered {answer.status} {answer.reason or ''}".rstrip()
    said += _message(content)
    if answer.status in (404, 410):
        raise MissingFile(f"{url}: no such document ({said})")
    if answer.status not in SLOW:
        raise AccessError(f"{url}: {said}")
    return said


def _message(content: bytes) -> str:
    """Return what a server says in words of why it refuses (RFC 9457, and its kin)."""
    try:
        told = json.loads(content)
    except ValueError:
        return ""
    if not isinstance(told, dict):
        return ""
    words = next((told[key] for key in ("detail", "description", "message", "title")
                  if told.get(key)), None)  # fmt: skip
    return "" if words is None else f": {str(words)[:300]}"


def _parsed(content: bytes, place: str) -> Any:
    try:
        return json.loads(content)
    except (ValueError, RecursionError) as error:
        raise FormatError(f"{place}: is no JSON document: {error}") from error
