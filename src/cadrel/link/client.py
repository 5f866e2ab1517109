"""TcpLink: one socket, one call at a time."""

import contextlib
import socket
import threading
import time
from typing import Any

from cadrel.link.errors import LinkBroken, LinkDown, RefusedByDrive
from cadrel.link.wire import LONGEST, Request, Response, WireError, decode_response, encode_request


class TcpLink:
    """A connection to a drive; opened on the first call, safe to share between threads."""

    unattended = False

    def __init__(self, host: str, port: int, *, timeout: float = 2.0, secret: str = "") -> None:
        self._secret = secret
        self.address = f"{host}:{port}"
        self._where = (host, port)
        self._timeout = timeout
        self._socket: socket.socket | None = None
        self._buffer = b""
        self._number = 0
        self._lock = threading.Lock()

    def call(self, method: str, params: dict[str, Any]) -> Any:
        """Return the result of a call. Raises `LinkDown`, `LinkBroken`, `RefusedByDrive`."""
        with self._lock:
            if self._socket is None:
                self._connect()
            response = self._ask(method, params)
        return result_of(response.result, response.error)

    def _ask(self, method: str, params: dict[str, Any]) -> Response:
        self._number += 1
        line = self._exchange(encode_request(Request(self._number, method, params)))
        try:
            response = decode_response(line)
        except WireError as cause:
            self._drop()
            raise LinkBroken(address=self.address, why=str(cause)) from cause
        if response.id != self._number:
            self._drop()
            why = response.error["message"] if response.error else "the answer belongs to another question"
            raise LinkBroken(address=self.address, why=str(why)[:200])
        return response

    def _connect(self) -> None:
        """Open the socket, and say the shared secret where there is one."""
        try:
            self._socket = socket.create_connection(self._where, timeout=self._timeout)
            self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self._buffer = b""
        except OSError as cause:
            self._drop()
            raise LinkDown(address=self.address, why=str(cause) or type(cause).__name__) from cause
        if self._secret:
            refused = self._ask("link.hello", {"secret": self._secret}).error
            if refused is not None:
                self._drop()
                raise LinkBroken(address=self.address, why="it did not take the shared secret")

    def wait(self, seconds: float) -> None:
        """Sleep."""
        time.sleep(seconds)

    def close(self) -> None:
        """Close the socket."""
        with self._lock:
            self._drop()

    def _exchange(self, line: bytes) -> bytes:
        try:
            assert self._socket is not None
            self._socket.sendall(line)
            while b"\n" not in self._buffer:
                chunk = self._socket.recv(1 << 16)
                if not chunk:
                    raise ConnectionError("it hung up")
                self._buffer += chunk
                if len(self._buffer) > LONGEST:
                    self._drop()
                    raise LinkBroken(address=self.address, why="the answer does not end")
        except OSError as cause:
            self._drop()
            raise LinkDown(address=self.address, why=str(cause) or type(cause).__name__) from cause
        answer, _, self._buffer = self._buffer.partition(b"\n")
        return answer

    def _drop(self) -> None:
        if self._socket is not None:
            with contextlib.suppress(OSError):
                self._socket.close()
        self._socket, self._buffer = None, b""


def result_of(result: Any, error: dict[str, Any] | None) -> Any:
    """Return the result, or raise what the peer refused with. Raises `RefusedByDrive`."""
    if error is None:
        return result
    data = error.get("data")
    parts = data.get("parts") if isinstance(data, dict) else None
    if not (isinstance(parts, list) and len(parts) == 3):
        parts = [f"The drive refused: {error['message']}", "Nothing was started.", ""]
    raise RefusedByDrive(happened=str(parts[0]), means=str(parts[1]), remedy=str(parts[2]))
