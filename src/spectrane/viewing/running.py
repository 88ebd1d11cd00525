"""A small web application on this machine alone, in a thread of this process."""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable
from importlib.util import find_spec
from typing import Any

from spectrane.model.errors import AccessError

_SENT = 4 << 20
"""Bytes that may wait to be sent: a picture goes at once."""


class Running:
    """An ASGI application at a port of 127.0.0.1 (0: a free one), until it is stopped.

    Who asks is let in at once and answered when the application is made, which takes a while:
    ``application`` makes it in the thread that serves it. Raises AccessError where the port is
    taken, or uvicorn or Starlette is not there.
    """

    def __init__(self, application: Callable[[], Any], port: int = 0) -> None:
        lacking = [one for one in ("uvicorn", "starlette") if find_spec(one) is None]
        if lacking:
            raise AccessError(f"a server needs {lacking[0]}: pip install 'spectrane[view]'")
        self._application = application
        self._server: Any = None
        self._stopping = threading.Event()
        # Of a socket that does not say TCP asyncio lets small answers wait, 40 ms each.
        self._socket = socket.socket(proto=socket.IPPROTO_TCP)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _SENT)
        try:
            self._socket.bind(("127.0.0.1", port))
            self._socket.listen()
        except OSError as error:
            self._socket.close()
            raise AccessError(f"port {port}: cannot be used: {error}; say another") from error
        self.port = int(self._socket.getsockname()[1])
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        from uvicorn.config import Config
        from uvicorn.server import Server

        self._server = Server(Config(
            self._application(), log_level="error", lifespan="off", access_log=False))  # fmt: skip
        if not self._stopping.is_set():
            self._server.run(sockets=[self._socket])

    @property
    def address(self) -> str:
        """Where it answers."""
        return f"http://127.0.0.1:{self.port}"

    @property
    def alive(self) -> bool:
        """Whether it still answers."""
        return self._thread.is_alive()

    def wait(self, seconds: float | None = None) -> None:
        """Wait until it has ended."""
        self._thread.join(seconds)

    def stop(self) -> None:
        """End it, and wait for that."""
        self._stopping.set()
        if self._server is not None:
            self._server.should_exit = True
        self._thread.join(5)
        self._socket.close()
