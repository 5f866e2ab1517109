"""LocalLink: the same bytes as over TCP, without a socket; time passes only when someone waits."""

from collections.abc import Callable
from typing import Any

from cadrel.link.client import result_of
from cadrel.link.wire import Request, decode_response, encode_request


class LocalLink:
    """A link into a drive in the same process."""

    address = "this process"
    unattended = True

    def __init__(self, answer: Callable[[bytes], bytes], advance: Callable[[float], None]) -> None:
        self._answer = answer
        self._advance = advance
        self._number = 0

    def call(self, method: str, params: dict[str, Any]) -> Any:
        """Return the result of a call. Raises `RefusedByDrive`."""
        self._number += 1
        response = decode_response(self._answer(encode_request(Request(self._number, method, params))))
        return result_of(response.result, response.error)

    def wait(self, seconds: float) -> None:
        """Advance the drive."""
        self._advance(seconds)

    def close(self) -> None:
        """Nothing to give back."""
