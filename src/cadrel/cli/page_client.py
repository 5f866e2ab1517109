"""A browser's part without a browser: log in, read pages, post forms, keep a stream open. For measurements."""

import contextlib
import http.client
import http.cookiejar
import json
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from typing import Any

AGAIN = 0.5  # [s] after which a broken stream is asked for anew, as the page's own is


class _Stay(urllib.request.HTTPRedirectHandler):
    """Answers are looked at where they are given."""

    def redirect_request(self, *args: Any, **kwargs: Any) -> None:
        return None


class PageClient:
    """One user's browser."""

    def __init__(self, *, web: int, live: int, timeout: float = 10.0) -> None:
        self.web, self.live, self.timeout = web, live, timeout
        self.jar = http.cookiejar.CookieJar()
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar), _Stay())

    @property
    def url(self) -> str:
        """Of the pages."""
        return f"http://127.0.0.1:{self.web}"

    def cookies(self) -> str:
        """As a header's value; a browser sends them to every port of the host."""
        return "; ".join(f"{c.name}={c.value}" for c in self.jar)

    def log_in(self, name: str, password: str) -> None:
        """Log in. Raises `RuntimeError` if that is refused."""
        self.get("/login/")
        status, _ = self.post("/login/", {"username": name, "password": password})
        if status != 302:
            raise RuntimeError(f"{name} could not log in: {status}")
        self.get("/")  # brings the pass for the live process

    def get(self, path: str) -> tuple[int, str]:
        """Return status and text of a page; 0 and the reason without an answer."""
        return self._open(urllib.request.Request(self.url + path, headers={"Accept": "text/html"}))

    def post(self, path: str, form: dict[str, str]) -> tuple[int, str]:
        """Post a form as the page does; status and text, or where it leads."""
        token = next((c.value for c in self.jar if c.name == "csrftoken"), "") or ""
        body = urllib.parse.urlencode(form | {"csrfmiddlewaretoken": token}).encode()
        headers = {"Referer": self.url + "/", "X-CSRFToken": token, "Accept": "text/html"}
        return self._open(urllib.request.Request(self.url + path, body, headers))

    def stop(self) -> tuple[float, dict[str, Any]]:
        """Press STOP, by the live process, and by the web process if that does not answer; seconds, and the answer."""
        begun = time.monotonic()
        for port in (self.live, self.web):
            connection = http.client.HTTPConnection("127.0.0.1", port, timeout=1.5)
            with contextlib.suppress(OSError, http.client.HTTPException, ValueError):
                body = f"press={time.monotonic_ns():x}"
                headers = {"Cookie": self.cookies(), "Content-Type": "application/x-www-form-urlencoded"}
                connection.request("POST", "/stop/", body, headers)
                answer = json.loads(connection.getresponse().read())
                return time.monotonic() - begun, answer
        return time.monotonic() - begun, {"told": [], "unreached": ["nobody answered"]}

    def stream(self, axis: int, tab: str) -> "Stream":
        """Open an axis's stream, as a page of it does."""
        return Stream(self, f"/axis/{axis}/live/?tab={tab}")

    def _open(self, request: urllib.request.Request) -> tuple[int, str]:
        try:
            with self._opener.open(request, timeout=self.timeout) as answer:
                return int(answer.status), answer.read().decode(errors="replace")
        except urllib.error.HTTPError as answer:
            if answer.code in (301, 302, 303):
                return answer.code, str(answer.headers.get("Location", ""))
            return answer.code, answer.read().decode(errors="replace")
        except (OSError, http.client.HTTPException) as error:
            return 0, str(error)


class Stream:
    """A page's event stream, in a thread; asked for anew when it breaks, until closed."""

    def __init__(self, client: PageClient, path: str) -> None:
        self._line = b"{}"
        self.arrived: list[float] = []
        self.is_open = False
        self._client, self._path = client, path
        self._ended = threading.Event()
        self._connection: http.client.HTTPConnection | None = None
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    @property
    def newest(self) -> dict[str, Any]:
        """What came last; read only when asked for, so that many streams cost their reader little."""
        return dict(json.loads(self._line))

    def close(self) -> None:
        """The page goes."""
        self._ended.set()
        connection = self._connection
        if connection is not None and connection.sock is not None:
            with contextlib.suppress(OSError):
                connection.sock.shutdown(2)
        self._thread.join(timeout=3)

    def _read(self) -> None:
        while not self._ended.is_set():
            connection = self._connection = http.client.HTTPConnection("127.0.0.1", self._client.live, timeout=5)
            with contextlib.suppress(OSError, http.client.HTTPException, ValueError):
                connection.request("GET", self._path, headers={"Cookie": self._client.cookies()})
                answer = connection.getresponse()
                self.is_open = answer.status == 200
                while self.is_open and not self._ended.is_set() and (line := answer.readline()):
                    if line.startswith(b"data: {"):
                        self._line = line[6:]
                        self.arrived.append(time.monotonic())
            self.is_open = False
            connection.close()
            self._ended.wait(AGAIN)
