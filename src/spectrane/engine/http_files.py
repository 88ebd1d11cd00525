"""Files of web servers, by byte ranges of one version, within time and memory.

Requests follow RFC 9110: ``Range`` with ``If-Range`` (sections 13.1.5 and 14.2), so that no two
answers are of two versions of a file.
"""

from __future__ import annotations

import contextlib
import os
import re
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import IO, Any, TypeVar

import urllib3

from spectrane.engine.byte_file import HEAD, ByteFile, NotAllowed, Range
from spectrane.model.errors import AccessError, ChangedFile, MissingFile
from spectrane.model.settings import settings

TIMEOUT = "SPECTRANE_TIMEOUT"
"""The environment variable with the seconds in which a server must say something; 30 if unset."""
_TRIES = 3
_PAUSE = 0.2
"""Seconds before asking again, twice as many each time."""
_TOGETHER = 8
"""Ranges that are asked for at once."""
_PIECE = 1 << 20
_SLOWEST = 1000
"""Bytes a second below which a server is given up, once it had its time."""
_LARGEST = 4 << 30
"""Bytes that are fetched to the disk where a server does not answer ranges."""
SLOW = (429, 500, 502, 503, 504)
"""Answers after which asking again may help (RFC 9110, section 15; RFC 6585)."""

Kept = TypeVar("Kept")

_pools: dict[int, urllib3.PoolManager] = {}
_pools_lock = threading.Lock()


class _Cut(Exception):
    """A body that ended before it was whole."""


def patience() -> float:
    """Return after how many seconds without an answer a server is given up.

    Raises ArgumentError where the environment says no number above 0.
    """
    return float(settings.timeout)


class HttpFile(ByteFile):
    """A file at ``http://`` or ``https://``.

    The first request brings its head, its size and what tells its version (``ETag``, else
    ``Last-Modified``); every later one is answered with bytes of that version or ends in
    ChangedFile. Where the server answers no ranges, all of the file is fetched once, to the disk.
    """

    fetch_size = 16 << 20

    def __init__(self, url: str) -> None:
        self.name = url
        self._whole: IO[bytes] | None = None
        self._lock = threading.Lock()
        self.size, self._state = self._look_up()

    def _look_up(self) -> tuple[int, dict[str, str]]:
        """Ask for the head; keep it, or everything where the server answers no ranges."""

        def kept(answer: urllib3.BaseHTTPResponse) -> tuple[int, dict[str, str]]:
            state = {name: answer.headers[name] for name in ("ETag", "Last-Modified")
                     if name in answer.headers}  # fmt: skip
            if answer.status == 206:
                first, last, size = _content_range(self.name, answer)
                self._head = _body(answer, last - first + 1)
                return size, state
            return self._keep_all(answer), state

        return self._asked({"Range": f"bytes=0-{HEAD - 1}"}, kept)

    def _keep_all(self, answer: urllib3.BaseHTTPResponse) -> int:
        """Keep a body that is the whole file: in memory where it is a head, else on the disk."""
        told = answer.headers.get("Content-Length")
        if told is not None and told.isdecimal() and int(told) <= HEAD:
            self._head = _body(answer, int(told))
            return len(self._head)
        if told is not None and told.isdecimal() and int(told) > _LARGEST:
            raise AccessError(f"{self.name}: the server answers no byte ranges, and all of it is "
                              f"{int(told)} bytes; fetch the file first")  # fmt: skip
        held = tempfile.TemporaryFile()  # noqa: SIM115 (lives as long as this object)
        try:
            for piece in pieces_of(answer):
                if held.tell() + len(piece) > _LARGEST:
                    raise AccessError(f"{self.name}: the server answers no byte ranges, and all "
                                      "of it is too much; fetch the file first")  # fmt: skip
                held.write(piece)
            if told is not None and told.isdecimal() and held.tell() != int(told):
                raise _Cut(f"{held.tell()} of {told} bytes")
        except BaseException:
            held.close()
            raise
        self._whole = held
        return held.tell()

    @property
    def key(self) -> tuple[Any, ...]:
        """Address, size and what the server says of its version."""
        return (self.name, self.size, *sorted(self._state.items()))

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file, several asked for at once."""
        if self._whole is not None or len(ranges) < 2:
            return [self._fetch_one(*span) for span in ranges]
        with ThreadPoolExecutor(min(_TOGETHER, len(ranges))) as pool:
            return list(pool.map(lambda one: self._fetch_one(*one), ranges))

    def _fetch_one(self, offset: int, length: int) -> bytes:
        if length == 0:
            return b""
        if self._whole is not None:
            with self._lock:
                self._whole.seek(offset)
                return self._whole.read(length)
        asked = {"Range": f"bytes={offset}-{offset + length - 1}"}
        if self._validator is not None:
            asked["If-Range"] = self._validator

        def kept(answer: urllib3.BaseHTTPResponse) -> bytes:
            self._check_version(answer)
            if answer.status != 206:
                # With If-Range a whole body says that the version asked for is gone.
                raise ChangedFile(f"{self.name}: changed after it was opened, or its server "
                                  "answers byte ranges no longer; open it again")  # fmt: skip
            first, last, size = _content_range(self.name, answer)
            if size != self.size:
                raise ChangedFile(f"{self.name}: changed after it was opened: {size} bytes instead "
                                  f"of {self.size}; open it again")  # fmt: skip
            if (first, last) != (offset, offset + length - 1):
                raise AccessError(f"{self.name}: asked for bytes {offset} to {offset + length - 1} "
                                  f"and was answered {first} to {last}")  # fmt: skip
            return _body(answer, length)

        return self._asked(asked, kept)

    @property
    def _validator(self) -> str | None:
        """What ``If-Range`` may hold: a strong entity tag, or else a date."""
        tag = self._state.get("ETag")
        if tag is not None and not tag.startswith("W/"):
            return tag
        return self._state.get("Last-Modified")

    def _check_version(self, answer: urllib3.BaseHTTPResponse) -> None:
        for name, was in self._state.items():
            now = answer.headers.get(name)
            if now is not None and now != was:
                raise ChangedFile(f"{self.name}: changed after it was opened ({name} {was} became "
                                  f"{now}); open it again")  # fmt: skip

    def _asked(
        self, headers: dict[str, str], keep: Callable[[urllib3.BaseHTTPResponse], Kept]
    ) -> Kept:
        """Ask, again where that may help, and return what ``keep`` makes of the answer."""
        problem = ""
        for number in range(_TRIES):
            if number:
                threading.Event().wait(_PAUSE * 2**number)
            try:
                with answer_of(self.name, headers) as answer:
                    if answer.status in (200, 206):
                        return keep(answer)
                    problem = _refusal(self.name, answer)
            except (_Cut, urllib3.exceptions.ProtocolError) as error:
                problem = f"its answer was cut short: {error}"
        raise AccessError(f"{self.name}: cannot be read: {problem} ({_TRIES} times)")

    def close(self) -> None:
        """Let go of what was kept on the disk; reading again fetches it again."""
        held, self._whole = self._whole, None
        if held is not None:
            held.close()
            self._again()

    def _again(self) -> None:
        """Forget that all was held, so that a later read asks the server again."""
        self._head = None

    def __del__(self) -> None:
        with contextlib.suppress(Exception):
            self.close()

    def __getstate__(self) -> dict[str, Any]:
        return {"name": self.name, "size": self.size, "_state": self._state, "_head": self._head,
                "keeps_damaged": self.keeps_damaged}  # fmt: skip

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _whole=None, _lock=threading.Lock())
        if self._look_up() != (self.size, self._state):
            raise ChangedFile(f"{self.name}: changed after it was opened; open it again")


@contextlib.contextmanager
def answer_of(
    url: str, headers: dict[str, str], method: str = "GET", body: bytes | None = None
) -> Iterator[urllib3.BaseHTTPResponse]:
    """Yield a server's answer, its body not read yet; the connection is given back in the end."""
    wait = patience()
    answer: urllib3.BaseHTTPResponse | None = None
    try:
        answer = _pool().request(
            method, url, headers={"Accept-Encoding": "identity", **headers}, body=body,
            preload_content=False,
            timeout=urllib3.Timeout(connect=wait, read=wait),
            retries=urllib3.Retry(total=10, connect=1, read=0, redirect=8, status=0, other=0),
        )  # fmt: skip
        yield answer
    except urllib3.exceptions.MaxRetryError as error:
        raise _unreachable(url, error, wait) from error
    except urllib3.exceptions.TimeoutError as error:
        raise AccessError(f"{url}: the server said nothing for {wait:g} seconds ({TIMEOUT} sets "
                          "how long it may)") from error  # fmt: skip
    except urllib3.exceptions.LocationValueError as error:
        raise AccessError(f"{url}: is no address: {error}") from error
    finally:
        if answer is not None:
            # What was not read to its end cannot be used again.
            answer.close()
            answer.release_conn()


def _unreachable(url: str, error: urllib3.exceptions.MaxRetryError, wait: float) -> AccessError:
    reason = error.reason
    if isinstance(reason, urllib3.exceptions.ResponseError) and "redirect" in str(reason):
        return AccessError(f"{url}: the server redirects round and round, or too often")
    refused = isinstance(reason, urllib3.exceptions.NewConnectionError)
    if isinstance(reason, urllib3.exceptions.TimeoutError) and not refused:
        return AccessError(f"{url}: the server said nothing for {wait:g} seconds ({TIMEOUT} sets "
                           "how long it may)")  # fmt: skip
    return AccessError(f"{url}: cannot be reached: {reason}")


def _pool() -> urllib3.PoolManager:
    """Return the connections of this process: those of a parent are not shared."""
    with _pools_lock:
        mine = os.getpid()
        if mine not in _pools:
            _pools.clear()
            _pools[mine] = urllib3.PoolManager(num_pools=16, maxsize=_TOGETHER)
        return _pools[mine]


def _refusal(url: str, answer: urllib3.BaseHTTPResponse) -> str:
    """Return what may be asked again for; raise for an answer that is final."""
    said = f"the server answered {answer.status} {answer.reason or ''}".rstrip()
    if answer.status in (404, 410):
        raise MissingFile(f"{url}: no such file ({said})")
    if answer.status in (401, 403, 407):
        raise NotAllowed(f"{url}: cannot be read: {said}; it may want a password or a key")
    if answer.status == 416:
        raise ChangedFile(f"{url}: changed after it was opened: it is shorter now; open it again")
    if answer.status not in SLOW:
        raise AccessError(f"{url}: cannot be read: {said}")
    return said


def _content_range(url: str, answer: urllib3.BaseHTTPResponse) -> tuple[int, int, int]:
    """Return first and last byte and the file's size (RFC 9110, section 14.4)."""
    text = answer.headers.get("Content-Range", "")
    match = re.fullmatch(r"bytes\s+(\d{1,18})-(\d{1,18})/(\d{1,18})", text.strip())
    if match is None or not int(match[1]) <= int(match[2]) < int(match[3]):
        raise AccessError(f"{url}: the server answered a range of {text!r}; expected such as bytes "
                          "0-99/1000")  # fmt: skip
    return int(match[1]), int(match[2]), int(match[3])


def pieces_of(answer: urllib3.BaseHTTPResponse, most: int = _LARGEST + 1) -> Iterator[bytes]:
    """Yield a body as it comes, ``most`` bytes of it; AccessError where it hardly comes at all."""
    began, wait, count = time.monotonic(), patience(), 0
    while count < most and (piece := answer.read1(min(_PIECE, most - count))):
        count += len(piece)
        took = time.monotonic() - began
        if took > wait and count < _SLOWEST * took:
            raise AccessError(f"{answer.url or 'the server'}: sends {count / took:.0f} bytes a "
                              f"second, which is too slow to wait for ({TIMEOUT})")  # fmt: skip
        yield piece


def _body(answer: urllib3.BaseHTTPResponse, length: int) -> bytes:
    """Return a body of so many bytes; what is sent beyond is not even read."""
    body = b"".join(pieces_of(answer, length))
    if len(body) < length:
        raise _Cut(f"{len(body)} of {length} bytes")
    return body
