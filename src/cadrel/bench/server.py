"""Sockets, and drive time kept in step with the clock."""

import contextlib
import socketserver
import threading
import time

from cadrel.bench.service import DriveService
from cadrel.link.wire import LONGEST

SLICE = 0.01  # [s] drives run in slices of this
LATE = 0.03  # [s] what is missed beyond this is dropped: drive time that races on leaves nobody time to answer


class _Connection(socketserver.StreamRequestHandler):
    server: "BenchServer"

    def handle(self) -> None:
        with contextlib.suppress(ConnectionError):
            while line := self.rfile.readline(LONGEST + 1):
                self.wfile.write(self.server.service.answer(line))


class BenchServer(socketserver.ThreadingTCPServer):
    """Serves a `DriveService` on loopback and lets its drives run at `pace` times real time."""

    allow_reuse_address = True
    daemon_threads = True
    disable_nagle_algorithm = True

    def __init__(self, service: DriveService, port: int, *, pace: float = 1.0) -> None:
        self.service = service
        self.pace = pace
        self._ended = threading.Event()
        super().__init__(("127.0.0.1", port), _Connection)
        self._clock = threading.Thread(target=self._keep_time, daemon=True)

    def run(self) -> None:
        """Serve until `shutdown`."""
        self._clock.start()
        try:
            self.serve_forever(poll_interval=0.1)
        finally:
            self._ended.set()
            self.server_close()

    def _keep_time(self) -> None:
        due = time.monotonic()
        while not self._ended.is_set():
            due += SLICE
            self.service.advance(SLICE * self.pace)
            ahead = due - time.monotonic()
            if ahead > 0:
                time.sleep(ahead)
            elif ahead < -LATE:
                due = time.monotonic()
