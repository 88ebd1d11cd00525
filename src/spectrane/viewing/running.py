"""A small web application on this machine alone, in a thread of this process."""

from __future__ import annotations

import socket
import threading
import time
from typing import Any

from spectrane.model.errors import AccessError

_SENT = 4 << 20
"""Bytes that may wait to be sent: a picture goes at once."""


class Running:
    """An ASGI application at a port of 127.0.0.1 (0: a free one), until it is stopped.

    Raises AccessError where the port is taken, or uvicorn is not there.
    """

    def __init__(self, application: Any, port: int = 0) -> None:
        try:
            import uvicorn
        except ImportError as error:
            raise AccessError("a server needs uvicorn: pip install 'spectrane[view]'") from error
        self._socket = socket.socket()
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _SENT)
        try:
            self._socket.bind(("127.0.0.1", port))
        except OSError as error:
            self._socket.close()
            raise AccessError(f"port {port}: cannot be used: {error}; say another") from error
        self.port = int(self._socket.getsockname()[1])
        config = uvicorn.Config(application, log_level="error", lifespan="off", access_log=False)
        self._server = uvicorn.Server(config)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()
        while not self._server.started and self._thread.is_alive():
            time.sleep(0.005)

    def _run(self) -> None:
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
        self._server.should_exit = True
        self._thread.join(5)
        self._socket.close()
