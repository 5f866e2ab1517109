"""Sockets, and drive time kept in step with the clock."""

import contextlib
import socketserver
import threading
import time

from cadrel.bench.service import DriveService
from cadrel.link.wire import INVALID_REQUEST, LONGEST_REQUEST, Response, encode_response

SLICE = 0.01  # [s] drives run in slices of this
LATE = 0.03  # [s] what is missed beyond this is dropped: drive time that races on leaves nobody time to answer
MOST_CONNECTIONS = 200  # one client that opens more and more must not take the memory of all


class _Connection(socketserver.StreamRequestHandler):
    server: "BenchServer"

    def handle(self) -> None:
        service, greeted = self.server.service, self.server.service.is_open
        with contextlib.suppress(ConnectionError):
            while line := self.rfile.readline(LONGEST_REQUEST + 1):
                if len(line) > LONGEST_REQUEST:
                    error = {"code": INVALID_REQUEST, "message": f"a request has at most {LONGEST_REQUEST} bytes"}
                    self.wfile.write(encode_response(Response(None, error=error)))
                    return
                if not greeted and service.greets(line):
                    greeted = True
                self.wfile.write(service.answer(line, greeted=greeted))
                if not greeted:
                    return


class BenchServer(socketserver.ThreadingTCPServer):
    """Serves a `DriveService` on loopback and lets its drives run at `pace` times real time."""

    allow_reuse_address = True
    daemon_threads = True
    disable_nagle_algorithm = True
    request_queue_size = 64

    def __init__(self, service: DriveService, port: int, *, pace: float = 1.0) -> None:
        self.service = service
        self.pace = pace
        self._ended = threading.Event()
        self._places = threading.BoundedSemaphore(MOST_CONNECTIONS)
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

    def verify_request(self, request: object, client_address: object) -> bool:
        """Whether there is room for another connection."""
        return self._places.acquire(blocking=False)

    def process_request_thread(self, request: object, client_address: object) -> None:
        """Serve one connection, then give its place back."""
        try:
            super().process_request_thread(request, client_address)  # type: ignore[arg-type]
        finally:
            self._places.release()

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
